"""Certificates put on the roster: what each will be, what is refused and why, what changes."""

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum
from fnmatch import fnmatchcase

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import apart, reached
from inkstamp.config.config_file import expect_known
from inkstamp.config.enrolled import enrolled_entry
from inkstamp.config.entries import is_entry_name
from inkstamp.config.model import Certificate, Configuration
from inkstamp.errors import InkStampError, NameTrouble, UsageError
from inkstamp.garbage import collecting_none
from inkstamp.jobs.enrolment.context import EnrolmentContext
from inkstamp.jobs.enrolment.lists import Line, WantedCertificate, WrongLine, is_plain_text, pack
from inkstamp.jobs.inventory.site_choice import choices
from inkstamp.jobs.inventory.survey import survey
from inkstamp.jobs.lifecycle.proposal import entry_name, free_name
from inkstamp.jobs.lifecycle.stamp_plans import expect_own_folder
from inkstamp.jobs.validation.precheck import NameCheck, precheck
from inkstamp.ledger.records import EnrolledRecord
from inkstamp.ledger.roster import keep_copy
from inkstamp.pki.certifiable import why_not_certifiable
from inkstamp.pki.names import identifiers
from inkstamp.pki.suffixes import registrable
from inkstamp.severity import Severity
from inkstamp.wording import counted, header_of

_LOOKED_AT_TOGETHER = 500
"""Names that are looked at from outside in one go."""


class EnrolmentState(StrEnum):
    """What becomes of one certificate."""

    NEW = "new"
    CHANGED = "changed"
    PRESENT = "present"
    """It is on the roster just so."""
    REFUSED = "refused"


class Enrolment(Struct, frozen=True, kw_only=True):
    """What becomes, or would become, of one certificate that is wanted on the roster."""

    state: EnrolmentState
    certificate: str
    """What it is called; empty where that could not be told."""
    names: tuple[str, ...]
    customer: str = ""
    why: str = ""
    """Why it is refused, or what changes."""
    advice: str = ""
    place: str = ""
    """Where it was written (`line 7`)."""


class Packing(Struct, frozen=True, kw_only=True):
    """How names are put together in certificates."""

    most: int
    """Names that one may have; 0 to leave them as they were handed in."""
    by_customer: bool = False
    """Whether names of one customer go together; otherwise those below one registrable domain."""


class EnrolmentRequest(Struct, frozen=True, kw_only=True):
    """What a person asked for."""

    group: str
    lines: tuple[Line, ...]
    customer: str = ""
    """Of those that are said to be of none."""
    packing: Packing = Packing(most=0)
    looks: bool = True
    """Whether new names are looked at from outside."""


def enrol(context: EnrolmentContext, request: EnrolmentRequest, *, preview: bool = False) -> list[Enrolment]:
    """Put certificates on the roster, or change what is there; what is refused holds up no other.

    The same request again changes nothing. With `preview` nothing is written.

    Raises:
        UsageError: There is no such group.
        ConfigurationError: The group has a mistake.

    """
    config = context.configuration.current
    mistake = config.mistake_in("group", request.group)
    if mistake is not None:
        raise mistake.error
    if not config.group:
        raise UsageError(f"there is no group “{request.group}” in the configuration",
                         where=str(context.configuration.path), advice=_first_group(config, request.group))  # fmt: skip
    expect_known("group", config.group, [request.group], context.configuration.path)
    if not is_plain_text(request.customer):
        raise UsageError("“--customer” is no plain text of at most 200 characters", advice="shorten it")
    with collecting_none():
        done, records = _decided(context, request)
    if request.looks:
        new = {record.certificate: record for record in records}
        refused = _seen_wrong(context, config.group[request.group], new.values())
        done = [_refused(each, *refused[each.certificate]) if _is_in(each, refused) else each for each in done]
        records = [each for each in records if each.certificate not in refused]
    if records and not preview:
        with collecting_none():
            context.ledger.roster.enrol(records, f"{counted(len(records), 'certificate')} of group “{request.group}”")
            context.certificates.forget()
            keep_copy(context.home, context.store, context.ledger.roster)
    return done


def _first_group(config: Configuration, name: str) -> str:
    """Say which lines make a first group, with what is configured already."""
    authority, server = (
        config.usual_authority or next(iter(config.authority), "NAME"),
        next(iter(config.server), "NAME"),
    )
    return (
        f'add these lines there: [group.{name}] | authority = "{authority}" | via = "{server}" | install = ["{server}"]'
    )


def _is_in(each: Enrolment, refused: Mapping[str, object]) -> bool:
    return each.state in {EnrolmentState.NEW, EnrolmentState.CHANGED} and each.certificate in refused


def of_sites(context: EnrolmentContext, include: Sequence[str], leave_out: Sequence[str]) -> list[Line]:
    """Return what is wanted for the sites of all servers: one certificate for the names of each.

    Args:
        context: The parts of the run.
        include: Patterns, with `*` for anything, of which a site has a name; empty for all sites.
        leave_out: Patterns of names that are left out.

    Raises:
        UsageError: No server is configured, and none is found here.

    """
    found: list[Line] = []
    for site in choices(survey(context)):
        names = tuple(name for name in site.names if not _matches(name, leave_out))
        if names and (not include or any(_matches(name, include) for name in names)):
            found.append(WantedCertificate(names=names))
    return found


def _matches(name: str, patterns: Sequence[str]) -> bool:
    return any(fnmatchcase(name, pattern.lower()) for pattern in patterns)


# What each will be


def _decided(context: EnrolmentContext, request: EnrolmentRequest) -> tuple[list[Enrolment], list[EnrolledRecord]]:
    """Decide what becomes of each certificate, by the configuration and the roster alone."""
    done: list[Enrolment] = []
    wanted: list[WantedCertificate] = []
    for line in request.lines:
        if isinstance(line, WrongLine):
            done.append(Enrolment(state=EnrolmentState.REFUSED, certificate="", names=(), why=line.what,
                                  advice=line.advice, place=line.place))  # fmt: skip
            continue
        try:
            names = identifiers(line.names)
        except NameTrouble as error:
            done.append(_wrong(line, error.what, error.advice))
            continue
        wanted.append(replace(line, names=names, customer=line.customer or request.customer))
    desk = _Desk(context, request.group, wanted)
    if request.packing.most:
        free = [each for each in wanted if not desk.has_place(each)]
        wanted = [each for each in wanted if desk.has_place(each)] + pack(
            free, request.packing.most, _owners(free, request.packing)
        )
    for each in wanted:
        try:
            with apart():
                reached("enrol", each.names[0])
                done.append(desk.take(each))
        except InkStampError as error:
            done.append(_wrong(each, error.what, error.advice))
    return done, list(desk.records.values())


def _owners(wanted: Iterable[WantedCertificate], packing: Packing) -> dict[str, str]:
    return {
        name: "" if packing.by_customer and each.customer else registrable(name) or name
        for each in wanted
        for name in each.names
    }


def _wrong(line: WantedCertificate, why: str, advice: str) -> Enrolment:
    return Enrolment(state=EnrolmentState.REFUSED, certificate=line.certificate, names=line.names,
                     customer=line.customer, why=why, advice=advice, place=line.place)  # fmt: skip


def _refused(each: Enrolment, why: str, advice: str) -> Enrolment:
    return replace(each, state=EnrolmentState.REFUSED, why=why, advice=advice)


class _Desk:
    """Takes in one certificate after the other, and knows of each name whose it is by then."""

    def __init__(self, context: EnrolmentContext, group: str, wanted: Sequence[WantedCertificate]) -> None:
        self._context, self._group = context, group
        self._public = not context.view.is_private
        self._renamed = context.shelf.renamed()
        self.records: dict[str, EnrolledRecord] = {}
        """What is to be written."""
        names = tuple({name for each in wanted for name in each.names})
        known = context.certificates.covering(names)
        called = [each.certificate or entry_name(each.names) for each in wanted]
        context.certificates.read(called)
        self._owners: dict[str, dict[str, Certificate]] = {}
        for name, entry in known.items():
            self._own(name, entry)

    def _own(self, certificate: str, entry: Certificate) -> None:
        for name in entry.names:
            self._owners.setdefault(name, {})[certificate] = entry

    def has_place(self, each: WantedCertificate) -> bool:
        """Tell whether it has a name of its own, or all its domain names are in one certificate already."""
        return bool(each.certificate) or bool(self._all_in_one(each))

    def _all_in_one(self, each: WantedCertificate) -> str:
        owners = [self._owners.get(name, {}).keys() for name in each.names]
        shared = set.intersection(*map(set, owners)) if owners else set()
        return min(shared, default="")

    def take(self, each: WantedCertificate) -> Enrolment:
        """Decide what becomes of one.

        Raises:
            UsageError, ConfigurationError: It is refused.

        """
        self._expect_public(each.names)
        name = each.certificate or self._all_in_one(each)
        if not each.certificate and name and not self._is_on_roster(name):
            return Enrolment(state=EnrolmentState.PRESENT, certificate=name, names=each.names, place=each.place,
                             customer=each.customer, why="it is in the configuration file")  # fmt: skip
        before = self._record(name) if name else None
        if before is not None:  # what is not said stays
            names = each.names if each.certificate else before.names
            settings = each.settings or before.settings
            each = replace(each, names=names, settings=settings, customer=each.customer or before.customer)
        name = name or free_name(entry_name(each.names), self.records, self._context.certificates)
        self._expect_free(name, before)
        settings = dict(each.settings)
        entry = enrolled_entry(self._context.config, name, self._group, each.names, settings)
        self._expect_one_owner(name, entry)
        record = EnrolledRecord(
            certificate=name, group=self._group, customer=each.customer, names=entry.names, settings=settings,
            since=self._context.clock.now(),
        )  # fmt: skip
        self._own(name, entry)
        changes = _changes(before, record) if before is not None else ""
        state = EnrolmentState.NEW if before is None else EnrolmentState.CHANGED if changes else EnrolmentState.PRESENT
        if state is not EnrolmentState.PRESENT:
            self.records[name] = record
        return Enrolment(state=state, certificate=name, names=entry.names, customer=each.customer, why=changes,
                         place=each.place)  # fmt: skip

    def _is_on_roster(self, name: str) -> bool:
        return self._record(name) is not None

    def _record(self, name: str) -> EnrolledRecord | None:
        return self.records.get(name) or self._context.certificates.record(name)

    def _expect_public(self, names: Sequence[str]) -> None:
        for name in names if self._public else ():
            reason = why_not_certifiable(name)
            if reason:
                raise UsageError(f"no public CA may issue for {name}: {reason}", advice="leave it out")

    def _expect_free(self, name: str, before: EnrolledRecord | None) -> None:
        if not is_entry_name(name, "certificate"):
            raise UsageError(
                f"“{name}” cannot be the name of a certificate",
                advice="use lower-case letters, digits, hyphens and dots",
            )
        if before is None and name in self._renamed:
            expect_own_folder(self._context, name)
        if before is None and name in self._context.certificates:
            raise UsageError(
                f"{header_of('certificate', name)} in the configuration file has that name", advice="call it otherwise"
            )
        if name in self.records and before is self.records[name]:
            raise UsageError(f"“{name}” is in the list twice", advice="leave one of them out")

    def _expect_one_owner(self, certificate: str, entry: Certificate) -> None:
        """Refuse a name that another certificate with the same key algorithm is for: they would take turns."""
        for name in entry.names:
            for other, its in self._owners.get(name, {}).items():
                both = set(its.install) & set(entry.install)
                unused = not its.install and not entry.install and its.authority == entry.authority
                if other != certificate and its.key == entry.key and (both or unused):
                    where = ", which is for the same server" if both else ""
                    raise UsageError(
                        f"{name} is in certificate “{other}” already{where}",
                        advice=f"leave it out here, or take it out of “{other}”",
                    )


def _changes(before: EnrolledRecord, after: EnrolledRecord) -> str:
    """Say what is otherwise than before; empty for nothing."""
    added = [f"+{name}" for name in after.names if name not in before.names]
    gone = [f"-{name}" for name in before.names if name not in after.names]
    told = [" ".join([*added, *gone])] if added or gone else []
    if before.group != after.group:
        told.append(f"group {before.group} -> {after.group}")
    if before.customer != after.customer:
        told.append(f"customer {before.customer or '-'} -> {after.customer or '-'}")
    keys = [key for key in {**before.settings, **after.settings} if before.settings.get(key) != after.settings.get(key)]
    if keys:
        told.append(f"settings: {', '.join(keys)}")
    return "; ".join(told)


# From outside


def _seen_wrong(
    context: EnrolmentContext, group: Certificate, records: Iterable[EnrolledRecord]
) -> dict[str, tuple[str, str]]:
    """Look at names as a CA will; returns for certificates that would fail why, and what to do."""
    if not context.config.authority[group.authority].is_acme:
        return {}  # people validate at a portal, each in its own way
    owners = {name: each.certificate for each in records for name in each.names}
    names = list(owners)
    refused: dict[str, tuple[str, str]] = {}
    for begin in range(0, len(names), _LOOKED_AT_TOGETHER):
        some = names[begin : begin + _LOOKED_AT_TOGETHER]
        context.progress.step(
            "enrol", f"checking names {begin + 1} to {begin + len(some)} of {len(names)} from outside"
        )
        for check in precheck(context, some, authority=group.authority, via=group.carriers, whole=False):
            why = _first_fault(check)
            if why is not None:
                refused.setdefault(owners[check.name], why)
    return refused


def _first_fault(check: NameCheck) -> tuple[str, str] | None:
    fault = next((each for each in check.findings if each.severity is Severity.BAD), None)
    return (f"{fault.subject}: {fault.seen}", fault.remedy) if fault is not None else None
