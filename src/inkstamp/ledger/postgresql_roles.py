"""What workers and nodes may do in the database of a shared ledger: roles, grants, and row level security.

A worker orders: it may do everything but change the tables. A node installs on its own servers: it sees the editions
that are assigned to it, writes its own installs and its own line among the machines, and nothing else. A node is known
by the role that it logs in as, which has the machine's name.
"""

from inkstamp.ledger.interface import Database

WORKER, NODE = "inkstamp_worker", "inkstamp_node"
"""Roles without a login, which logins are granted: CREATE ROLE "web7" LOGIN IN ROLE inkstamp_node."""

_ASSIGNED = """
CREATE OR REPLACE FUNCTION assigned_here(wanted TEXT) RETURNS BOOLEAN
LANGUAGE sql STABLE SECURITY DEFINER SET search_path FROM CURRENT AS $$
    SELECT EXISTS (
        SELECT FROM assigned WHERE machine = session_user AND kind = 'certificate' AND name = wanted
    ) OR EXISTS (
        SELECT FROM enrolled JOIN assigned ON assigned.kind = 'group' AND assigned.name = enrolled.group_name
        WHERE enrolled.certificate = wanted AND assigned.machine = session_user
    )
$$
"""
_OWN_RUN = "EXISTS (SELECT FROM run WHERE run.id = event.run AND run.machine = session_user)"
_NODE_READS = {
    "ledger": "true",
    "announced": "true",
    "account_thumbprint": "true",
    "seal_key": "true",
    "enrolled_group": "true",
    **dict.fromkeys(
        ("change", "edition", "ca_order", "tidings", "enrolled", "enrolled_name", "removed", "revocation", "rollout"),
        "assigned_here(certificate)",
    ),
    "install": "machine IN ('', session_user) AND assigned_here(certificate)",
    "machine": "name = session_user",
    "machine_lack": "machine = session_user",
    "machine_look": "machine = session_user",
    "rollout_machine": "machine = session_user",
    "run": "machine = session_user",
    "event": _OWN_RUN,
    "proof": "machine = session_user",
    "sealed_file": "path LIKE 'shelf/%' AND assigned_here(owner)",
    **dict.fromkeys(
        ("account", "setback", "refused_method", "matter", "planned_day", "tlsa_change", "portal_proof", "portal_wait",
         "dns_proof", "look"),
        "false",
    ),
}  # fmt: skip
"""By table, which rows a node sees: none where that is false. The others it may not even ask."""
_NODE_WRITES = {
    "install": ("INSERT, UPDATE", "machine = session_user AND assigned_here(certificate)"),
    "machine": ("INSERT, UPDATE", "name = session_user AND NOT orders"),
    "machine_lack": ("INSERT, UPDATE, DELETE", "machine = session_user AND assigned_here(certificate)"),
    "machine_look": ("INSERT, UPDATE, DELETE", "machine = session_user AND assigned_here(certificate)"),
    "run": ("INSERT, UPDATE", "machine = session_user"),
    "event": ("INSERT", f"{_OWN_RUN} AND (certificate = '' OR assigned_here(certificate))"),
}
"""By table, what a node may do with which rows."""


def lacking_roles(database: Database) -> list[str]:
    """Return which of the roles the server does not have."""
    rows = database.rows("SELECT rolname FROM pg_roles")
    known = {row["rolname"] for row in rows}
    return [each for each in (WORKER, NODE) if each not in known]


def grant_roles(database: Database) -> None:
    """Make the roles that are not there, and say what they may do, inside a transaction that writes."""
    for role in lacking_roles(database):
        database.execute(f"CREATE ROLE {role} NOLOGIN")
    schema = database.row("SELECT quote_ident(current_schema()) AS name")
    name = schema["name"] if schema is not None else "public"
    database.execute(_ASSIGNED)
    database.execute("REVOKE ALL ON FUNCTION assigned_here(TEXT) FROM PUBLIC")
    database.execute(f"GRANT EXECUTE ON FUNCTION assigned_here(TEXT) TO {WORKER}, {NODE}")
    database.execute(f"GRANT USAGE ON SCHEMA {name} TO {WORKER}, {NODE}")
    database.execute(f"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA {name} TO {WORKER}")
    tables = [
        row["relname"] for row in database.rows(
            "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace"
            " AND pg_has_role(relowner, 'USAGE') ORDER BY relname"
        )
    ]  # fmt: skip
    for table in tables:
        _grant_table(database, table)
    for table in ("run", "install", "event"):
        sequence = database.row(f"SELECT pg_get_serial_sequence('{table}', 'id') AS name")
        if sequence is not None and sequence["name"]:
            database.execute(f"GRANT USAGE ON SEQUENCE {sequence['name']} TO {NODE}")


def _grant_table(database: Database, table: str) -> None:
    database.execute(f"ALTER TABLE {table} ENABLE ROW LEVEL SECURITY")
    for policy in ("workers", "nodes_see", "nodes_write"):
        database.execute(f"DROP POLICY IF EXISTS {policy} ON {table}")
    rights = "SELECT" if table == "ledger" else "SELECT, INSERT, UPDATE, DELETE"
    database.execute(f"GRANT {rights} ON {table} TO {WORKER}")
    database.execute(f"CREATE POLICY workers ON {table} TO {WORKER} USING (true) WITH CHECK (true)")
    if table in _NODE_READS:
        database.execute(f"GRANT SELECT ON {table} TO {NODE}")
        database.execute(f"CREATE POLICY nodes_see ON {table} FOR SELECT TO {NODE} USING ({_NODE_READS[table]})")
    if table in _NODE_WRITES:
        rights, rows = _NODE_WRITES[table]
        database.execute(f"GRANT {rights} ON {table} TO {NODE}")
        database.execute(f"CREATE POLICY nodes_write ON {table} TO {NODE} USING ({rows}) WITH CHECK ({rows})")
