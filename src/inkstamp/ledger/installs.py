"""The ledger's pages on what was put on which servers."""

from collections.abc import Callable, Mapping, Sequence

from inkstamp.clock import Clock
from inkstamp.ledger.interface import Database, Here, among
from inkstamp.ledger.records import InstallRecord, InstallState
from inkstamp.ledger.roster import mark_changed
from inkstamp.ledger.rows import as_install, as_list, from_moment, telling_damage, to_moment

SHELF = ""
"""In the place of a server: an edition for the shelf only."""


@telling_damage
class Installs:
    """Attempts to put editions on servers; servers that change together have one record."""

    def __init__(self, database: Database, clock: Clock, note: Callable[[str, str, str], None], here: Here) -> None:
        self._database = database
        self._here = here
        self._clock = clock
        self._note = note

    def begin(self, certificate: str, edition: int, servers: Sequence[str]) -> InstallRecord:
        """Record that servers are about to be changed; what stands there must be saved already."""
        with self._database.writing():
            return self._insert(certificate, edition, servers, InstallState.BEGUN)

    def add_done(self, certificate: str, edition: int, servers: Sequence[str], what: str, text: str) -> None:
        """Record an install that nothing could interrupt: on the shelf alone, or found on its servers as it is."""
        with self._database.writing():
            self._insert(certificate, edition, servers, InstallState.DONE)
            self._note(what, text, certificate)

    def _insert(self, certificate: str, edition: int, servers: Sequence[str], state: InstallState) -> InstallRecord:
        now = from_moment(self._clock.now())
        mark_changed(self._database, certificate)
        identity = self._database.insert_numbered(
            "install",
            certificate=certificate,
            edition=edition,
            servers=as_list(servers),
            state=state.value,
            at=now,
            machine=self._here.owner(servers),
        )
        return InstallRecord(
            id=identity,
            certificate=certificate,
            edition=edition,
            servers=tuple(servers),
            state=state,
            at=to_moment(now),
        )

    def end(self, install: InstallRecord, state: InstallState, what: str, text: str) -> None:
        """Record how an install ended."""
        with self._database.writing():
            self._database.execute(
                "UPDATE install SET state = :state WHERE id = :id", {"state": state.value, "id": install.id}
            )
            mark_changed(self._database, install.certificate)
            self._note(what, text, install.certificate)

    def by_server(self, only: Sequence[str] | None = None) -> dict[str, dict[str, InstallRecord]]:
        """Return the newest record of each server, by certificate and server, of all certificates or of some."""
        found: dict[str, dict[str, InstallRecord]] = {}
        for where, names in among("certificate", only):
            rows = self._database.rows(
                "SELECT * FROM install WHERE id IN "  # noqa: S608  no word of it is from outside
                f"(SELECT max(id) FROM install WHERE machine IN ('', :machine) AND {where}"
                " GROUP BY certificate, servers) ORDER BY id",
                {**names, "machine": self._here.machine},
            )
            for record in map(as_install, rows):
                for server in record.servers or (SHELF,):
                    found.setdefault(record.certificate, {})[server] = record
        return found

    def of(self, certificate: str) -> dict[str, InstallRecord]:
        """Return the newest record of each server of one certificate."""
        return self.by_server([certificate]).get(certificate, {})

    def installed(self, certificate: str, server: str) -> int | None:
        """Return the edition that a server was last left with, None for none: attempts that were put back left none."""
        rows = self._database.rows(
            "SELECT * FROM install WHERE certificate = :name AND state IN (:done, :back)"
            " AND machine IN ('', :machine) ORDER BY id DESC",
            {
                "machine": self._here.machine,
                "name": certificate,
                "done": InstallState.DONE.value,
                "back": InstallState.ROLLED_BACK.value,
            },
        )
        records = map(as_install, rows)
        return next((each.edition or None for each in records if server in (each.servers or (SHELF,))), None)

    def certificates_begun(self) -> set[str]:
        """Return the certificates of which an install is under way, or was interrupted."""
        query = "SELECT DISTINCT certificate FROM install WHERE state = :state AND machine IN ('', :machine)"
        values = {"state": InstallState.BEGUN.value, "machine": self._here.machine}
        return {row["certificate"] for row in self._database.rows(query, values)}

    def begun(self, certificate: str) -> list[InstallRecord]:
        """Return those that were cut short, the oldest first."""
        rows = self._database.rows(
            "SELECT * FROM install WHERE certificate = :name AND state = :state AND machine IN ('', :machine)"
            " ORDER BY id",
            {"name": certificate, "state": InstallState.BEGUN.value, "machine": self._here.machine},
        )
        return [as_install(row) for row in rows]


def has_edition(installs: Mapping[str, InstallRecord], servers: Sequence[str], edition: int) -> bool:
    """Tell whether all these servers, or the shelf where there is none, have an edition."""
    return all(
        (record := installs.get(server)) is not None and record.edition == edition and record.state is InstallState.DONE
        for server in servers or (SHELF,)
    )
