"""TLS settings of sites that have TLS, changed: as an install is, and with the same way back.

1. test the configuration as it stands, and see what is served
2. work out the edits, keep what stands there, write
3. test, reload, and look from outside: the same certificate, the new settings
4. otherwise everything goes back byte for byte
"""

from collections.abc import Sequence

from cryptography.hazmat.primitives import hashes
from msgspec import Struct

from inkstamp.deadline import poll, within
from inkstamp.errors import ServerTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, note, ok, warn
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.inventory.hardening_plan import SitesOfServer, plan_hardening
from inkstamp.pki.names import as_address
from inkstamp.servers import backup
from inkstamp.servers.interface import Endpoint, Hardenable, ServerKind
from inkstamp.servers.reconfiguration import put_back_all, put_back_unfinished, reconfigure
from inkstamp.servers.reload import test_before
from inkstamp.servers.run_state import is_up
from inkstamp.servers.tls_policy import Policy, TlsChange
from inkstamp.view.handshake import shake_hands
from inkstamp.view.protocols import Readiness, try_versions
from inkstamp.view.web import fetch
from inkstamp.wording import counted

_MOST_KEPT = 5
_LOOK_SECONDS, _PAUSE = 10.0, 0.3
_WHOLE_LOOK = 120.0
"""Seconds for one look at all names."""
_WHAT = "its TLS settings"
_MOST_LOOKED_AT = 20
"""Names of one server that are looked at from outside."""
_OLD = ("TLS 1.0", "TLS 1.1")


class ServerHardening(Struct, frozen=True, kw_only=True):
    """What changes at one server, or was changed."""

    server: str
    names: tuple[str, ...]
    differences: tuple[str, ...]
    """Unified diffs, one for each file; none where everything is as wanted."""
    findings: tuple[Finding, ...]
    done: bool


def show_hardening(context: DeploymentContext, sites: SitesOfServer, wanted: TlsChange) -> ServerHardening:
    """Show what would change at the sites of one server; changes nothing.

    Raises:
        ServerTrouble: Its configuration is broken, or cannot be changed so.

    """
    test_before(context.servers.reloadable(sites.server))
    plan = plan_hardening(context, sites, wanted)
    lost = _who_is_lost(context, sites, wanted) if plan.changes else []
    return _result(
        sites, [backup.Change(sites.server, each) for each in plan.changes], (*plan.findings, *lost), done=False
    )


def _who_is_lost(context: DeploymentContext, sites: SitesOfServer, wanted: TlsChange) -> list[Finding]:
    """Tell which clients cannot connect any more, by what is accepted now."""
    if wanted.policy is None:
        return []
    for name, endpoint in _places(context, sites)[:1]:
        ready = try_versions(endpoint.address, endpoint.port, _asked(name), upgrade=endpoint.upgrade)
        old = [each for each in ready.versions if each in _OLD]
        if old:
            seen = f"clients that know no more than {' and '.join(old)} cannot connect after this"
            return [warn("protocols", sites.server, seen, "see who uses it in the server's log, before you do it")]
    return []


def harden(context: DeploymentContext, sites: SitesOfServer, wanted: TlsChange) -> ServerHardening:
    """Change the TLS settings of one server's sites.

    Raises:
        ServerTrouble: The server refuses the change, or is not seen to have it; all files are as they were.

    """
    server = context.servers.installable(sites.server)
    with context.locks.servers((sites.server,)):
        recover_hardening(context, sites.server)
        test_before(server)
        if is_up(server) is False:
            raise ServerTrouble(
                f"server “{sites.server}” does not run, so that a change of its TLS settings cannot be tested",
                where=sites.server, advice="start it first; nothing was changed",
            )  # fmt: skip
        places = _places(context, sites)
        before = [_leaf(name, endpoint) for name, endpoint in places]
        plan = plan_hardening(context, sites, wanted)
        changes = [backup.Change(sites.server, each) for each in plan.changes]
        if not changes:
            return _result(sites, [], plan.findings, done=True)
        context.progress.step(sites.server, f"changing the TLS settings of {counted(len(sites.names), 'name')}")
        if isinstance(server, Hardenable) and server.sets_policy_only:
            wanted = TlsChange(policy=wanted.policy)  # nothing else is different afterwards
        seen = _switch(context, sites, wanted, changes, before)
        context.ledger.note("hardened", f"{sites.server}: {', '.join(sites.names[:5])}")
    return _result(sites, changes, (*plan.findings, *seen), done=True)


def _switch(
    context: DeploymentContext,
    sites: SitesOfServer,
    wanted: TlsChange,
    changes: Sequence[backup.Change],
    before: Sequence[str],
) -> list[Finding]:
    parent = context.home.hardened(sites.server)
    seen = reconfigure(context.servers, context.clock, parent, changes, lambda: _look(context, sites, wanted, before))
    backup.prune(parent, _MOST_KEPT)
    return seen


def recover_hardening(context: DeploymentContext, server: str) -> None:
    """Put back what a run that was killed had begun to change; the caller holds the server."""
    put_back_unfinished(context.servers, context.progress, context.home.hardened(server), _WHAT)


def recover_all_hardening(context: DeploymentContext) -> None:
    """Put back what killed runs had begun to change, on all servers; one where that fails is told of."""
    put_back_all(context.servers, context.locks, context.progress, context.home.hardened(""), _WHAT)


def undo_hardening(context: DeploymentContext, server: str) -> ServerHardening:
    """Take the last change of a server's TLS settings back; what others changed in the same files since stays.

    Raises:
        UsageError: There is none.
        ServerTrouble: The edits cannot be found any more, or the server refuses; all files are as they were.

    """
    with context.locks.servers((server,)):
        recover_hardening(context, server)
        folders = backup.kept_folders(context.home.hardened(server))
        if not folders:
            raise UsageError(f"no change of the TLS settings of “{server}” is kept", advice="there is nothing to undo")
        changes = backup.reversed_changes(context.servers, folders[-1], nearest=True)
        backup.take_out(context.servers, changes)
        remove_tree(folders[-1])
        context.ledger.note("hardening undone", server)
    return _result(SitesOfServer(server=server, names=()), changes, (), done=True)


# Looking


def _places(context: DeploymentContext, sites: SitesOfServer) -> list[tuple[str, Endpoint]]:
    """Return where the names are served with TLS, of many names the first ones."""
    server: ServerKind = context.servers.installable(sites.server)
    return [(name, each) for name in sites.names[:_MOST_LOOKED_AT] for each in server.tls_endpoints(name) or []]


def _asked(name: str) -> str:
    return name.replace("*", "any", 1)


def _leaf(name: str, endpoint: Endpoint) -> str:
    served = shake_hands(endpoint.address, endpoint.port, _asked(name), upgrade=endpoint.upgrade)
    return served.chain[0].fingerprint(hashes.SHA256()).hex() if served.chain else ""


def _look(context: DeploymentContext, sites: SitesOfServer, wanted: TlsChange, before: Sequence[str]) -> list[Finding]:
    """See from outside, for a while, whether the settings are in force and the certificates those of before."""
    places = _places(context, sites)
    trouble = ""
    for _ in poll(context.clock, pause=_PAUSE, seconds=_LOOK_SECONDS):
        with within(_WHOLE_LOOK):
            found = [
                (name, endpoint, told) for (name, endpoint), leaf in zip(places, before, strict=False)
                if (told := _lacks(context, name, endpoint, wanted, leaf))
            ]  # fmt: skip
        if not found:
            break
        name, endpoint, told = found[0]
        trouble = f"{name or sites.server} at {endpoint} {told}"
    else:
        raise ServerTrouble(
            f"the new TLS settings are not in force: {trouble}", where=sites.server,
            advice="another site at the same address may decide for all, as the first or default one: name it too",
        )  # fmt: skip
    missing = _newest_missing(sites, wanted, places)
    many = len(sites.names) - _MOST_LOOKED_AT
    left = [note("settings", sites.server, f"{many} more names were not tested from outside")] if many > 0 else []
    if wanted.client_roots:
        seen = "its certificate was tested, and nothing else: that takes a client certificate"
        left.append(note("settings", sites.server, seen, "try it with a client that has one"))
    return [ok("settings", sites.server, f"tested from outside at {counted(len(places), 'place')}"), *missing, *left]


def _newest_missing(sites: SitesOfServer, wanted: TlsChange, places: Sequence[tuple[str, Endpoint]]) -> list[Finding]:
    """Tell where a version that is allowed now is not spoken: one is looked at for all."""
    if wanted.policy is None or not places or wanted.client_roots:
        return []
    name, endpoint = places[0]
    ready = try_versions(endpoint.address, endpoint.port, _asked(name), upgrade=endpoint.upgrade)
    lacking = [each for each in _allowed(wanted.policy) if each not in ready.versions]
    if not lacking:
        return []
    seen = f"{name or sites.server} does not accept {' and '.join(lacking)}, which its settings allow"
    return [note("protocols", str(endpoint), seen, "the first or default site of that address may decide: name it too")]


def _lacks(context: DeploymentContext, name: str, endpoint: Endpoint, wanted: TlsChange, leaf: str) -> str:
    """Say what is not as wanted at one place; empty for nothing."""
    asks_for_certificate, now = bool(wanted.client_roots), _leaf(name, endpoint)
    if leaf and now != leaf and (now or not asks_for_certificate):
        return "serves another certificate than before, or none"
    if asks_for_certificate:  # which we have none of: how far a handshake comes tells nothing
        return ""
    ready = try_versions(endpoint.address, endpoint.port, _asked(name), upgrade=endpoint.upgrade)
    told = _about_protocols(ready, wanted)
    at_web = not endpoint.upgrade and endpoint.port == context.view.https_port
    if told or not at_web:
        return told
    host = f"[{name}]" if ":" in (as_address(name) or "") else _asked(name)
    if wanted.redirect:
        plain = fetch(f"http://{host}/", endpoint.address, context.view)
        if plain.status and len(plain.hops) < 2:
            return "has no redirect from HTTP to HTTPS"
    if wanted.hsts is not None:
        secure = fetch(f"https://{host}/", endpoint.address, context.view)
        if secure.status and secure.last.host == name and secure.hsts != wanted.hsts:
            return f"sends the HSTS header “{secure.hsts}”" if secure.hsts else "sends no HSTS header"
    return ""


def _allowed(policy: Policy) -> list[str]:
    return [each.replace("v", " ") for each in policy.protocols]


def _about_protocols(ready: Readiness, wanted: TlsChange) -> str:
    if wanted.policy is not None:
        more = [each for each in ready.versions if each not in _allowed(wanted.policy)]
        if more:
            return f"still accepts {' and '.join(more)}"
        if not ready.versions:
            return "accepts no version of TLS"
    if wanted.http2 is not None and ready.alpn and (ready.alpn == "h2") is not wanted.http2:
        return "still offers HTTP/2" if ready.alpn == "h2" else "does not offer HTTP/2"
    return ""


def _result(
    sites: SitesOfServer, changes: Sequence[backup.Change], findings: Sequence[Finding], *, done: bool
) -> ServerHardening:
    return ServerHardening(
        server=sites.server,
        names=sites.names,
        differences=backup.differences(changes),
        findings=tuple(findings),
        done=done,
    )
