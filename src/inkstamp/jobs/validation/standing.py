"""Have servers answer every `http-01` challenge for an account by themselves, and take that back.

1. test the configuration as it stands, and work out the edits
2. keep what stands there, write, test, reload
3. try random tokens from outside, at every name that leads to the server
4. sites at which that is not seen are left out; where none is left, everything goes back byte for byte
"""

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.accounts.account_keys import known_thumbprint
from inkstamp.bulkhead import side_by_side
from inkstamp.config.carrying import file_servers
from inkstamp.config.config_file import expect_known
from inkstamp.config.model import Certificate
from inkstamp.deadline import within
from inkstamp.errors import NameTrouble, ServerTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, note, ok
from inkstamp.jobs.validation.context import StandingContext, ValidationContext
from inkstamp.jobs.validation.web_files import answers_at, until_steady
from inkstamp.ledger.records import Selection
from inkstamp.pki.names import as_address, normalise
from inkstamp.proof.observation import Caution, look_at
from inkstamp.proof.web_file import random_proof
from inkstamp.servers import backup
from inkstamp.servers.interface import AnswersChallenges, StandingAnswer
from inkstamp.servers.reconfiguration import put_back_unfinished, reconfigure
from inkstamp.servers.reload import test_before
from inkstamp.severity import Severity, worst
from inkstamp.view.addresses import address_book
from inkstamp.wording import first_and_count

WHAT = "its standing answer"
"""That is changed, for what tells of it."""
_MOST_LOOKED_AT = 500
"""Names of one server that are looked at from outside."""
_AT_ONCE = 16
_LOOK_SECONDS = 8.0
_WHOLE_LOOK = 120.0
"""Seconds for one look at all names."""


class StandingWish(Struct, frozen=True, kw_only=True):
    """Which server is to answer, and for whom."""

    server: str
    authority: str
    """For whose account key."""
    names: tuple[str, ...] = ()
    """Only at the sites of these; empty for all sites."""
    default_hosts: bool = False
    """Whether names that no site has are answered too."""
    thumbprint: str = ""
    """Of the key that the account is about to have; empty for the one that it has."""
    replaces: str = ""
    """Of the key that it had, where that was answered for until now."""


class StandingChange(Struct, frozen=True, kw_only=True):
    """What changes at one server, or was changed."""

    server: str
    authority: str
    names: tuple[str, ...]
    """At which it was tested from outside."""
    differences: tuple[str, ...]
    """Unified diffs, one for each file; none where everything is as wanted."""
    findings: tuple[Finding, ...]
    done: bool


class _NotSeen(ServerTrouble):
    """Some sites do not answer from outside."""

    failing: frozenset[str] = frozenset()
    all_fail = True


def show_standing(context: StandingContext, wish: StandingWish) -> StandingChange:
    """Show what would change; changes nothing.

    Raises:
        UsageError: The server's kind cannot answer by itself.
        ServerTrouble: Its configuration is broken, or cannot be changed so.
        AccountTrouble, CaProblem, NetworkTrouble: There is no account, and none can be opened.

    """
    server = _server(context, wish.server)
    test_before(server)
    changes = _plan(context, wish, server)
    return _result(wish, (), changes, (), done=False)


def put_standing(context: StandingContext, wish: StandingWish) -> StandingChange:
    """Have a server answer challenges for the account at an authority; harmless where it does already.

    Raises:
        UsageError: The server's kind cannot answer by itself.
        ServerTrouble: It refuses the change, or no site is seen to answer; all files are as they were.
        AccountTrouble, CaProblem, NetworkTrouble: There is no account, and none can be opened.

    """
    server = _server(context, wish.server)
    with context.locks.servers((wish.server,)):
        _recover(context, wish.server)
        test_before(server)
        changes = _plan(context, wish, server)
        try:
            seen, names, changes = _switched(context, wish, changes)
        except _NotSeen as error:
            if wish.names or error.all_fail:
                raise
            seen, names, changes = _without_the_others(context, wish, error)
    return _result(wish, names, changes, seen, done=True)


_Switched = tuple[list[Finding], tuple[str, ...], list[backup.Change]]


def _switched(context: StandingContext, wish: StandingWish, changes: list[backup.Change]) -> _Switched:
    names = _names_to_try(context, wish)
    if not changes:
        return _look(context, wish, names), tuple(names), []
    context.progress.step(wish.server, "putting a standing answer into its configuration")
    seen = reconfigure(
        context.servers, context.clock, context.home.standing(wish.server), changes,
        lambda: _look(context, wish, names), authority=wish.authority, names=list(wish.names),
        default_hosts=wish.default_hosts, thumbprint=_thumbprint(context, wish),
    )  # fmt: skip
    context.ledger.note("standing answer", f"{wish.server}: for the account at {wish.authority}")
    return seen, tuple(names), changes


def _without_the_others(context: StandingContext, wish: StandingWish, error: _NotSeen) -> _Switched:
    """Try again without the sites that do not answer: they must not keep the others from it."""
    server = _server(context, wish.server)
    of_sites = {name for each in server.sites() for name in each.names}
    left = [each for each in _names_to_try(context, wish) if each in of_sites and each not in error.failing]
    fewer = replace(wish, names=tuple(left))
    changes = _plan(context, fewer, server)
    seen, names, changes = _switched(context, fewer, changes)
    return [*error.findings, *seen], names, changes


def _server(context: StandingContext, name: str) -> AnswersChallenges:
    found = context.servers.get(name)
    if not isinstance(found, AnswersChallenges):
        kind = context.config.server[name].kind if name in context.config.server else "program"
        raise UsageError(
            f"server “{name}” ({kind}) cannot answer challenges by itself",
            advice="nginx, Apache httpd and HAProxy can; for this one use http-01 with files, or dns-01",
        )
    return found


def _plan(context: StandingContext, wish: StandingWish, server: AnswersChallenges) -> list[backup.Change]:
    wanted = StandingAnswer(
        thumbprint=_thumbprint(context, wish), names=wish.names,
        sites=_configured_names(context, wish.server), default_hosts=wish.default_hosts, replaces=wish.replaces,
    )  # fmt: skip
    return [backup.Change(wish.server, each) for each in server.plan_standing(wanted) if each.is_change]


def _thumbprint(context: StandingContext, wish: StandingWish) -> str:
    if wish.thumbprint or context.config.orders:
        return wish.thumbprint or context.accounts.get(wish.authority).thumbprint
    known = known_thumbprint(context, wish.authority)
    if not known:
        raise UsageError(
            f"no account at “{wish.authority}” is open yet", where=wish.authority,
            advice=f"open it on a machine that orders: inkstamp authority add {wish.authority}",
        )  # fmt: skip
    return known


def _at(context: ValidationContext, server: str, entries: Iterable[Certificate]) -> list[Certificate]:
    """Return those of some certificates that are proven or installed at a server."""
    return [each for each in entries if server in (*file_servers(context.config, each), *each.install)]


def _plain_names(entries: Iterable[Certificate]) -> tuple[str, ...]:
    """Return the names of certificates that http-01 can prove: no wildcards."""
    return tuple(dict.fromkeys(name for each in entries for name in each.names if not name.startswith("*.")))


def _configured_names(context: StandingContext, server: str) -> tuple[str, ...]:
    return _plain_names(_at(context, server, (entry for _, entry in context.certificates.items())))


def _authority_for(context: ValidationContext, named: str, server: str) -> str:
    """Return the authority for whose account a server is to answer.

    Raises:
        UsageError: It is not known, speaks no ACME, or several are asked for names of that server.
        ConfigurationError: There is no such server.

    """
    config = context.config
    context.servers.get(server)
    expect_known("authority", config.authority, [named] if named else [], context.configuration.path)
    entries = _at(context, server, (entry for _, entry in context.certificates.items()))
    asked = dict.fromkeys(each.authority for each in entries)
    found = [each for each in asked if config.authority[each].is_acme]
    if named and not config.authority[named].is_acme:
        raise UsageError(f"“{named}” speaks no ACME: its files come from its portal", advice="name an ACME CA")
    if len({config.account_key_owner(each) for each in found}) > 1 and not named:
        raise UsageError(
            f"certificates of server “{server}” come from {', '.join(found)}, whose accounts have keys of their own, "
            "and a server can answer for one key", where=server,
            advice="let the accounts have one key: account_key_of (docs/proving.md); or name one with --authority",
        )  # fmt: skip
    usual = config.usual_authority
    chosen = named or (found[0] if found else usual if usual and config.authority[usual].is_acme else "")
    if not chosen:
        raise UsageError("it is not known for which account to answer", advice="name its CA with --authority")
    return chosen


def wish_for(
    context: ValidationContext,
    server: str,
    *,
    authority: str = "",
    names: Sequence[str] = (),
    group: str = "",
    default_hosts: bool = False,
) -> StandingWish:
    """Return what is wished of a server, from what was typed.

    Args:
        context: The parts of the run.
        server: Its name.
        authority: For whose account; empty for the one that is asked for its names.
        names: Only at the sites of these.
        group: Only at the sites of this group's certificates.
        default_hosts: Whether names that no site has are answered too.

    Raises:
        UsageError: The authority cannot be told, or the group has no certificate there.
        ConfigurationError: There is no such server.
        NameTrouble: One is no name.

    """
    chosen = _names_of_group(context, group, server) if group else tuple(map(normalise, names))
    return StandingWish(server=server, authority=_authority_for(context, authority, server), names=chosen,
                        default_hosts=default_hosts)  # fmt: skip


def _names_of_group(context: ValidationContext, group: str, server: str) -> tuple[str, ...]:
    """Return the names of a group's certificates that are proven or installed at a server; UsageError for none."""
    names = context.certificates.names(Selection(group, ""))
    entries = [entry for name in names if (entry := context.certificates.get(name)) is not None]
    found = _plain_names(_at(context, server, entries))
    if not found:
        raise UsageError(f"no certificate of the group “{group}” is on server “{server}”", advice="inkstamp status")
    return found


# Looking


def _names_to_try(context: StandingContext, wish: StandingWish) -> list[str]:
    """Return the names of the sites, those that a browser could ask for."""
    found: dict[str, None] = dict.fromkeys(wish.names)
    if not found:
        found = dict.fromkeys(name for each in context.servers.get(wish.server).sites() for name in each.names)
        found |= dict.fromkeys(_configured_names(context, wish.server))
    return [each for each in found if _is_askable(each)]


def _is_askable(name: str) -> bool:
    if as_address(name) or "." not in name or "*" in name:
        return False
    try:
        return normalise(name) == name
    except NameTrouble:
        return False


def _look(context: StandingContext, wish: StandingWish, names: Sequence[str]) -> list[Finding]:
    """Try random tokens from outside until all names that lead to the server answer, and go on to.

    Raises:
        ServerTrouble: Some do not, or the server has the standing answer for none.

    """
    thumbprint = _thumbprint(context, wish)
    server = _server(context, wish.server)
    some = names[:_MOST_LOOKED_AT]
    mine = [name for name in some if server.standing(name) == {thumbprint}]
    leading = _leading_here(context, wish.server, mine)
    others = bool(context.config.server[wish.server].machines)  # which have it too, and test their own addresses
    caution, ours = Caution(ours_alone=others), answers_at(context, [wish.server])

    def look(name: str) -> list[Finding]:
        return look_at(random_proof(name, thumbprint), context.view, ours, caution)

    def look_at_all() -> dict[str, list[Finding]]:
        with within(_WHOLE_LOOK):
            return dict(zip(leading, side_by_side(look, leading, _AT_ONCE), strict=True))

    findings = until_steady(look_at_all, lambda seen: bool(_failing(seen)), context.clock, _LOOK_SECONDS)
    _expect_seen(wish, findings)
    return _told(wish, [*mine, *names[_MOST_LOOKED_AT:]], leading, [name for name in some if name not in mine])


def _leading_here(context: StandingContext, server: str, names: Sequence[str]) -> list[str]:
    """Return the names of which an address is the server's own: others are served elsewhere."""
    book, carrier = address_book(context.view), context.servers.get(server)

    def leads(name: str) -> bool:
        return any(carrier.answers_at(name, address) for address in book.look_up(name).all)

    return [name for name, here in zip(names, side_by_side(leads, names, _AT_ONCE), strict=True) if here]


def _failing(findings: Mapping[str, Sequence[Finding]]) -> list[str]:
    return [name for name, each in findings.items() if worst(each) is Severity.BAD]


def _expect_seen(wish: StandingWish, findings: dict[str, list[Finding]]) -> None:
    failing = _failing(findings)
    if not failing:
        return
    error = _NotSeen(
        f"the standing answer is not seen from outside at {first_and_count(failing)}", where=wish.server,
        findings=[finding for name in failing for finding in findings[name]],
        advice="something else is in the way there: see the findings",
    )  # fmt: skip
    error.failing, error.all_fail = frozenset(failing), len(failing) == len(findings)
    raise error


def _told(wish: StandingWish, mine: Sequence[str], leading: Sequence[str], without: Sequence[str]) -> list[Finding]:
    found = []
    if leading:
        seen = f"answers challenges of {first_and_count(leading)} by itself, tested from outside with random tokens"
        found.append(ok("validation", wish.server, seen))
    untried = [name for name in mine if name not in set(leading)]
    if untried:
        seen = "was not tested at {}, which have no address that is its own, or are more than are tested"
        found.append(note("validation", wish.server, seen.format(first_and_count(untried))))
    if without:
        seen = f"has no standing answer for {first_and_count(without)}: these need files, as before"
        found.append(note("validation", wish.server, seen))
    return found


# The way back


def _recover(context: StandingContext, server: str) -> None:
    put_back_unfinished(context.servers, context.progress, context.home.standing(server), WHAT)


def take_back(context: StandingContext, server: str) -> StandingChange:
    """Take the standing answer out of a server's configuration; what else was changed there since stays.

    Raises:
        UsageError: None was put there.
        ServerTrouble: The edits cannot be found any more, or the server refuses; all files are as they were.

    """
    parent = context.home.standing(server)
    with context.locks.servers((server,)):
        _recover(context, server)
        folders = backup.kept_folders(parent)
        if not folders:
            raise UsageError(f"no standing answer was put on “{server}” from here", advice="there is nothing to undo")
        authority = str((backup.kept(folders[-1]) or {}).get("authority", ""))
        changes = backup.first_state(context.servers, folders, nearest=True)
        if changes:
            backup.take_out(context.servers, changes)
        elif trouble := backup.reload_all(context.servers, [server]):  # a run that was killed had written the files
            raise ServerTrouble(f"server “{server}” does not take its configuration", where=server,
                                said="; ".join(trouble), advice="correct that, then run the command again")  # fmt: skip
        remove_tree(parent)
        context.ledger.note("standing answer", f"{server}: taken back")
    wish = StandingWish(server=server, authority=authority)
    return _result(wish, (), changes, (), done=True)


def _result(
    wish: StandingWish,
    names: Sequence[str],
    changes: Sequence[backup.Change],
    findings: Sequence[Finding],
    *,
    done: bool,
) -> StandingChange:
    return StandingChange(
        server=wish.server, authority=wish.authority, names=tuple(names), differences=backup.differences(changes),
        findings=tuple(findings), done=done,
    )  # fmt: skip
