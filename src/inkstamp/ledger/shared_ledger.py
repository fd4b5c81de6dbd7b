"""Upkeep of a ledger in PostgreSQL: made and migrated by the owner of its tables, when he says so."""

from inkstamp.ledger.postgresql import PostgresqlDatabase
from inkstamp.ledger.postgresql_schema import OLDEST, tables
from inkstamp.ledger.schema import VERSION


def make_tables(database: PostgresqlDatabase) -> bool:
    """Make the tables in an empty database, all or none; returns whether they had to be made.

    Raises:
        LedgerTrouble: The database refused it.

    """
    with database.writing():
        found = database.row("SELECT to_regclass('ledger') AS found")
        if found is not None and found["found"] is not None:
            return False
        for statement in tables():
            database.execute(statement)
        database.insert("ledger", version=VERSION, oldest=OLDEST)
    return True
