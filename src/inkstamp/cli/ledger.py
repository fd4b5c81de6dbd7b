"""Keep the ledger in a PostgreSQL database that several machines share.

Which database is said in the configuration file, under [ledger]; docs/fleet.md
tells how to set it up. Private files are sealed before they reach it.

`init` makes the tables, and the roles of workers and nodes with what each may
see. `move` takes ledger, accounts and editions of this data directory there,
and `move --back` takes them here again; nothing is removed before all of it is
verified. `verify` opens every sealed file. `migrate` brings the tables up to
this release. `reseal` seals everything with the first key of the file, while
all machines are at work.

    inkstamp ledger init
    inkstamp ledger move
    inkstamp ledger show
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime
from inkstamp.severity import Severity, worst
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.jobs.fleet.context import FleetContext


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp ledger`."""
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    init = actions.add_parser("init", help="make tables and roles in the database", allow_abbrev=False)
    init.add_argument("--without-roles", action="store_true", help="make the tables alone: one role does everything")
    show = actions.add_parser("show", help="what the shared ledger holds", allow_abbrev=False)
    move = actions.add_parser("move", help="move ledger and files of this data directory there", allow_abbrev=False)
    move.add_argument("--back", action="store_true", help="move all of it from there into this data directory")
    move.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    verify = actions.add_parser("verify", help="open every sealed file, and compare", allow_abbrev=False)
    migrate = actions.add_parser("migrate", help="bring the tables up to this release", allow_abbrev=False)
    reseal = actions.add_parser("reseal", help="seal all files with the key that counts now", allow_abbrev=False)
    for each in (init, show, move, verify, migrate, reseal):
        global_options(each, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp ledger`; returns the exit status."""
    acts = {"init": _init, "show": _show, "move": _move, "verify": _verify, "migrate": _migrate, "reseal": _reseal}
    with open_runtime(context) as runtime:
        return acts[options.action](context, options, runtime)


def _init(context: Context, options: argparse.Namespace, runtime: "FleetContext") -> int:
    from inkstamp.jobs.fleet.upkeep import expect_shared, make_ledger

    made = make_ledger(runtime, roles=not options.without_roles)
    where = str(expect_shared(runtime).address)
    if context.json:
        output.as_json("ledger init", where=where, made=made, roles=not options.without_roles)
        return 0
    print(f"{where}: {'the tables are made' if made else 'the tables were there already'}")
    if not options.without_roles:
        print(output.field("roles", "inkstamp_worker for machines that order, inkstamp_node for those that install"))
        print(output.field("grant", "GRANT inkstamp_worker TO a login; a node logs in as a role of its machine's name"))
    has_own = runtime.home.ledger.exists()
    print(output.field("next", "inkstamp ledger move" if has_own else "inkstamp renew"))
    return 0


def _show(context: Context, options: argparse.Namespace, runtime: "FleetContext") -> int:  # noqa: ARG001
    from inkstamp.jobs.fleet.upkeep import ledger_facts

    facts = ledger_facts(runtime)
    if context.json:
        output.as_json("ledger show", ledger=facts)
        return 0
    print(output.clean(facts.where))
    print(output.field("server", f"PostgreSQL {output.clean(facts.server)}, {facts.bytes / 1e6:.0f} MB"))
    print(output.field("tables", f"version {facts.version}, for releases that write version {facts.oldest} or later"))
    print(output.field("machines", f"{facts.machines}; see: inkstamp machines"))
    print(output.field("editions", f"{facts.editions} of {counted(facts.certificates, 'certificate')}"))
    print(output.field("orders", f"{facts.open_orders} open, {counted(facts.leases, 'lease')} held"))
    by_key = ", ".join(f"{many} with “{output.clean(name)}”" for name, many in facts.keys_in_use.items())
    print(output.field("sealed", f"{facts.files} files{': ' if by_key else ''}{by_key}"))
    return 0


def _move(context: Context, options: argparse.Namespace, runtime: "FleetContext") -> int:
    from inkstamp.jobs.fleet.move import move_back, move_into_database
    from inkstamp.jobs.fleet.upkeep import expect_shared

    there = str(expect_shared(runtime).address)
    way = f"from {there} into {runtime.home}" if options.back else f"from {runtime.home} into {there}"
    output.ask(f"move ledger, accounts and editions {way}", "ledger", yes=options.yes)
    moved = (move_back if options.back else move_into_database)(runtime)
    if context.json:
        output.as_json("ledger move", back=options.back, moved=moved)
        return 0
    print(output.wrapped(f"moved {way}: {moved.rows} rows, {moved.files} files, all of it verified", "", "  "))
    if moved.put_aside:
        print(output.field("before", f"{moved.put_aside} is the ledger as it was; it is not used any longer"))
    following = f"remove [ledger] from {runtime.configuration.path}" if options.back else "inkstamp renew"
    print(output.field("next", following))
    return 0


def _verify(context: Context, options: argparse.Namespace, runtime: "FleetContext") -> int:  # noqa: ARG001
    from inkstamp.jobs.fleet.upkeep import verify_ledger

    verified = verify_ledger(runtime)
    if context.json:
        output.as_json("ledger verify", verified=verified)
    else:
        print(f"{counted(verified.files, 'sealed file')}, {counted(verified.editions, 'edition')}")
        output.findings(verified.findings)
    return 1 if worst(verified.findings) is Severity.BAD else 0


def _migrate(context: Context, options: argparse.Namespace, runtime: "FleetContext") -> int:  # noqa: ARG001
    from inkstamp.jobs.fleet.upkeep import migrate_ledger

    before, after = migrate_ledger(runtime)
    if context.json:
        output.as_json("ledger migrate", before=before, after=after)
    elif before == after:
        print(f"the tables are of version {after} already: nothing to do")
    else:
        print(f"the tables were of version {before}, and are of version {after} now")
    return 0


def _reseal(context: Context, options: argparse.Namespace, runtime: "FleetContext") -> int:  # noqa: ARG001
    from inkstamp.jobs.fleet.upkeep import reseal_ledger

    done = reseal_ledger(runtime)
    if context.json:
        output.as_json("ledger reseal", done=done)
        return 0
    print(f"{done.resealed} files sealed again, {done.unchanged} were sealed with that key already")
    by_key = ", ".join(f"“{output.clean(name)}” for {many} files" for name, many in done.keys_in_use.items())
    print(output.field("needed", by_key or "no key: nothing is sealed"))
    if len(done.keys_in_use) == 1:
        print(output.field("others", "may be removed, when every machine has read the new file"))
    return 0
