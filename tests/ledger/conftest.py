"""A real PostgreSQL for the tests of the ledger, the same one for all of a process."""

import itertools
from collections.abc import Iterator

import pytest
from postgresql import Cluster, cluster

from inkstamp.ledger.postgresql import DatabaseAddress, PostgresqlDatabase
from inkstamp.ledger.shared_ledger import make_tables

_COUNT = itertools.count(1)


@pytest.fixture(scope="session")
def postgresql_cluster() -> Iterator[Cluster]:
    with cluster() as made:
        yield made


@pytest.fixture
def postgresql_ledger(postgresql_cluster: Cluster) -> DatabaseAddress:
    """Where a new, empty ledger is."""
    address = DatabaseAddress(postgresql_cluster.database(f"ledger{next(_COUNT)}"))
    database = PostgresqlDatabase(address, made=False)
    make_tables(database)
    database.close()
    return address
