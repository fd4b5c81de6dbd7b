"""For which account key servers answer challenges: kept right through key rollovers, and through kills."""

from msgspec.structs import replace

from inkstamp.accounts.account import AccountSession
from inkstamp.accounts.account_keys import known_thumbprint
from inkstamp.accounts.key_rollover import new_key
from inkstamp.bulkhead import apart
from inkstamp.errors import InkStampError
from inkstamp.jobs.validation.context import StandingContext
from inkstamp.jobs.validation.standing import WHAT, StandingWish, put_standing
from inkstamp.pki.kinds import KeyKind
from inkstamp.servers import backup
from inkstamp.servers.reconfiguration import put_back_all


def recover_all_standing(context: StandingContext) -> None:
    """Put back what killed runs had begun to change, on all servers, and have them answer for the key that counts.

    A server where that fails is told of.
    """
    put_back_all(context.servers, context.locks, context.progress, context.home.standing(""), WHAT)
    for wish, thumbprint in _answering(context):
        try:
            with apart():
                if context.home.next_account_key(context.config.account_key_owner(wish.authority)).exists():
                    context.accounts.get(wish.authority)  # which finds out which of two keys counts
                if known_thumbprint(context, wish.authority) != thumbprint:
                    put_standing(context, replace(wish, replaces=thumbprint))
        except InkStampError as error:
            context.progress.step(wish.server, f"it answers challenges for another account key: {error.what}")


def _answering(context: StandingContext) -> list[tuple[StandingWish, str]]:
    """Return which servers were made to answer, and for which key's thumbprint, those whose authority is configured.

    What was asked for in several runs counts together.
    """
    found: dict[tuple[str, str], tuple[StandingWish, str]] = {}
    parent = context.home.standing("")
    for folder in sorted(parent.iterdir()) if parent.is_dir() else ():
        for each in backup.kept_folders(folder):
            kept = backup.kept(each) or {}
            authority = str(kept.get("authority", ""))
            if not kept.get("done") or authority not in context.config.authority:
                continue
            names, default_hosts = tuple(map(str, kept["names"])), bool(kept["default_hosts"])
            key = folder.name, authority
            before = found[key][0] if key in found else None
            if before is not None:
                names = tuple(dict.fromkeys([*before.names, *names])) if before.names and names else ()
                default_hosts = default_hosts or before.default_hosts
            wish = StandingWish(server=folder.name, authority=authority, names=names, default_hosts=default_hosts)
            found[key] = wish, str(kept["thumbprint"])
    return list(found.values())


def roll_over(context: StandingContext, authority: str, kind: KeyKind | None) -> AccountSession:
    """Give the account at an authority a new key, and have the servers that answer for the old one answer for it.

    They do so before the CA hears of it, while no order is under way: a challenge is only asked about afterwards.

    Raises:
        ServerTrouble: A server cannot be changed; those before it answer for the old key again, which still counts.
        Busy, UsageError, CaProblem, NetworkTrouble: As of `new_key`.

    """
    owner = context.config.account_key_owner(authority)
    answered = {
        wish: old for wish, old in _answering(context) if context.config.account_key_owner(wish.authority) == owner
    }

    def answer_for(thumbprint: str) -> None:
        before = dict(answered)
        try:
            for wish, old in before.items():
                put_standing(context, replace(wish, thumbprint=thumbprint, replaces=old))
                answered[wish] = thumbprint
        except InkStampError:
            for wish, old in before.items():
                if answered[wish] != old:
                    put_standing(context, replace(wish, thumbprint=old, replaces=thumbprint))
                    answered[wish] = old
            raise

    return new_key(context, authority, kind, answer_for)
