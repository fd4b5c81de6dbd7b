"""Upkeep of a ledger in PostgreSQL: made and migrated by the owner of its tables, when he says so."""

from msgspec import Struct

from inkstamp.errors import LedgerTrouble
from inkstamp.ledger.postgresql import DatabaseAddress, PostgresqlDatabase
from inkstamp.ledger.postgresql_roles import NODE, WORKER, grant_roles, lacking_roles
from inkstamp.ledger.postgresql_schema import MIGRATIONS, OLDEST, tables
from inkstamp.ledger.schema import VERSION
from inkstamp.ledger.sealed_files import keys_in_use

_ALIVE_HOURS = 48
"""A machine that gave a sign of life in so many hours runs its release still."""


class LedgerFacts(Struct, frozen=True):
    """What a shared ledger is, and holds."""

    where: str
    server: str
    """Version of PostgreSQL."""
    version: int
    """Of the tables."""
    oldest: int
    """The oldest version whose releases can use them."""
    machines: int
    certificates: int
    """That have an edition."""
    editions: int
    open_orders: int
    files: int
    """That are sealed."""
    keys_in_use: dict[str, int]
    """How many files each sealing key is needed for, by its id."""
    leases: int
    """That are held at the moment."""
    bytes: int
    """Of the whole database."""


def unmade(address: DatabaseAddress) -> PostgresqlDatabase:
    """Connect to a database that need not hold a ledger yet, or one of another release."""
    return PostgresqlDatabase(address, made=False)


def make_tables(database: PostgresqlDatabase, *, roles: bool = False) -> bool:
    """Make the tables in an empty database, all or none; returns whether they had to be made.

    With `roles` the roles of workers and nodes are made, too, and what they may do is said anew.

    Raises:
        LedgerTrouble: The database refused it.

    """
    with database.writing():
        found = database.row("SELECT to_regclass('ledger') AS found")
        is_new = found is None or found["found"] is None
        if is_new:
            for statement in tables():
                database.execute(statement)
            database.insert("ledger", version=VERSION, oldest=OLDEST)
        if roles:
            _expect_right_to_make_roles(database)
            grant_roles(database)
    return is_new


def _expect_right_to_make_roles(database: PostgresqlDatabase) -> None:
    lacking = lacking_roles(database)
    row = database.row("SELECT rolsuper OR rolcreaterole AS may FROM pg_roles WHERE rolname = current_user")
    if lacking and not (row is not None and row["may"]):
        made = "; ".join(f"CREATE ROLE {each} NOLOGIN" for each in (WORKER, NODE))
        raise LedgerTrouble(
            f"our role in the database may not make the roles {' and '.join(lacking)}", where=str(database.address),
            advice=f"have its administrator do so ({made}), or do without them: inkstamp ledger init --without-roles",
        )  # fmt: skip


def migrate_tables(database: PostgresqlDatabase) -> tuple[int, int]:
    """Bring tables up to this release, in one transaction; returns the versions before and after.

    Raises:
        LedgerTrouble: There is no ledger, or a newer one, or a machine still runs a release that could not use it.

    """
    with database.writing():
        row = database.row("SELECT version FROM ledger")
        before = int(row["version"]) if row is not None else 0
        if before > VERSION:
            raise LedgerTrouble(f"the ledger is of version {before}, this program writes version {VERSION}",
                                where=str(database.address), advice="use the newer release")  # fmt: skip
        if before == VERSION:
            return before, before
        oldest = max(MIGRATIONS[each].oldest for each in range(before, VERSION))
        _expect_no_older(database, oldest)
        for each in range(before, VERSION):
            for statement in MIGRATIONS[each].statements:
                database.execute(statement)
        database.execute("UPDATE ledger SET version = :version, oldest = :oldest",
                         {"version": VERSION, "oldest": oldest})  # fmt: skip
        if not lacking_roles(database):
            grant_roles(database)
    return before, VERSION


def _expect_no_older(database: PostgresqlDatabase, oldest: int) -> None:
    rows = database.rows(
        "SELECT name, release FROM machine WHERE schema_version < :oldest"
        " AND seen > clock_timestamp() - make_interval(hours => :hours) ORDER BY name",
        {"oldest": oldest, "hours": _ALIVE_HOURS},
    )
    if rows:
        them = ", ".join(f"{row['name']} ({row['release']})" for row in rows)
        raise LedgerTrouble(
            f"machines run releases that could not use the ledger afterwards: {them}", where=str(database.address),
            advice="install this release on them first; one that is gone: inkstamp machines forget NAME",
        )  # fmt: skip


def facts_of(database: PostgresqlDatabase) -> LedgerFacts:
    """Return what a ledger holds, as of one moment."""
    with database.snapshot():
        version = database.rows("SELECT version, oldest FROM ledger")[0]
        counts = database.rows(
            "SELECT (SELECT count(*) FROM machine) AS machines, (SELECT count(*) FROM edition) AS editions,"
            " (SELECT count(DISTINCT certificate) FROM edition) AS certificates,"
            " (SELECT count(*) FROM ca_order WHERE state IN ('intended', 'opened', 'finalizing', 'waiting')) AS orders,"
            " (SELECT count(*) FROM lease WHERE until > clock_timestamp() AND place <> '') AS leases,"
            " pg_database_size(current_database()) AS bytes, current_setting('server_version') AS server"
        )[0]
        keys = keys_in_use(database)
    return LedgerFacts(
        where=str(database.address), server=counts["server"], version=version["version"], oldest=version["oldest"],
        machines=counts["machines"], certificates=counts["certificates"], editions=counts["editions"],
        open_orders=counts["orders"], files=sum(keys.values()), keys_in_use=keys, leases=counts["leases"],
        bytes=counts["bytes"],
    )  # fmt: skip
