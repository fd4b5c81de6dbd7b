"""A load balancer that is handed certificates over its HTTPS API (docs/balancer.md)."""

import re
from collections.abc import Sequence
from typing import Any

from cryptography.hazmat.primitives import hashes

from inkstamp.config.model import Server
from inkstamp.errors import ServerTrouble
from inkstamp.files import read_secret_line
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.keys import to_pem as key_to_pem
from inkstamp.reach.interface import Host
from inkstamp.reach.json_api import JsonApi
from inkstamp.servers.handed import HandedServer
from inkstamp.servers.interface import Supply

_ID = re.compile(r"[A-Za-z0-9._~-]{1,200}")


class BalancerServer(HandedServer):
    """One listener of one balancer, as configured under `[server.NAME]`."""

    def __init__(self, name: str, host: Host, entry: Server) -> None:
        super().__init__(name, host, entry.look)
        self._entry = entry
        self._api: JsonApi | None = None

    def holds(self, certificate: str) -> str:
        """Return the identifiers of the certificate's editions that are attached now, separated by blanks."""
        mine = {each["id"] for each in self._certificates() if _is_of(each, certificate)}
        return " ".join(each for each in self._attached() if each in mine)

    def take(self, names: Sequence[str], supply: Supply) -> None:  # noqa: ARG002  they are in the certificate
        """Upload the edition where it is not there yet, attach it, detach the one before, and drop older ones."""
        if supply.goods is None:
            return
        goods = supply.goods()
        known = [each for each in self._certificates() if _is_of(each, supply.certificate)]
        sha256 = goods.leaf.fingerprint(hashes.SHA256()).hex()
        new = next((each["id"] for each in known if each.get("sha256") == sha256), "")
        if not new:
            body = {
                "label": _label(supply.certificate, supply.edition),
                "certificate": to_pem(goods.leaf).decode(),
                "private_key": key_to_pem(goods.key).decode() if goods.key is not None else "",
                "chain": b"".join(map(to_pem, goods.issuers)).decode(),
            }
            new = self._ask("POST", "/certificates", body).get("id", "")
            if not isinstance(new, str) or not _ID.fullmatch(new):
                raise ServerTrouble(f"the balancer “{self.name}” gives no usable id", where="/certificates")
        before = self._attached()
        mine = {each["id"] for each in known}
        self._attach([new, *(each for each in before if each not in mine and each != new)])
        # The one that was served until now stays, to go back to.
        for each in mine - {new, *before}:
            self._ask("DELETE", f"/certificates/{each}")

    def give_back(self, certificate: str, held: str, before: Supply | None) -> None:  # noqa: ARG002
        """Attach again what was attached, and nothing else of this certificate."""
        mine = {each["id"] for each in self._certificates() if _is_of(each, certificate)}
        others = [each for each in self._attached() if each not in mine]
        self._attach([*(each for each in held.split() if each in mine), *others])
        for each in mine - set(held.split()):
            self._ask("DELETE", f"/certificates/{each}")

    def _attach(self, identifiers: Sequence[str]) -> None:
        self._ask("PUT", f"/listeners/{self._entry.listener}/certificates", {"certificates": list(identifiers)})

    def _attached(self) -> list[str]:
        return [str(each) for each in self._listed(f"/listeners/{self._entry.listener}")]

    def _certificates(self) -> list[dict[str, Any]]:
        found = self._listed("/certificates")
        return [each for each in found if isinstance(each, dict) and _ID.fullmatch(str(each.get("id")))]

    def _listed(self, path: str) -> list[Any]:
        found = self._ask("GET", path).get("certificates", [])
        if not isinstance(found, list):
            raise ServerTrouble(f"the balancer “{self.name}” does not list its certificates", where=path)
        return found

    def _ask(self, method: str, path: str, body: object = None) -> dict[str, Any]:
        """Send a request with the token; ServerTrouble with the API's own words when it is refused."""
        if self._api is None:
            self._api = JsonApi(
                f"the balancer “{self.name}”", self._entry.address, self._entry.trust,
                lambda: {"Authorization": f"Bearer {read_secret_line(self._entry.token_file)}"},
            )  # fmt: skip
        answer = self._api.ask(method, path, body)
        found = answer.data if answer.data is not None else {}
        if answer.refusal or not isinstance(found, dict):
            raise ServerTrouble(
                f"the balancer “{self.name}” refuses {method} {path}", where=self._api.url(path),
                said=answer.refusal or "its answer is no object", advice="correct that, then run the command again",
            )  # fmt: skip
        return found


def _label(certificate: str, edition: int) -> str:
    return f"inkstamp/{certificate}/{edition}"


def _is_of(known: dict[str, Any], certificate: str) -> bool:
    return str(known.get("label", "")).startswith(_label(certificate, 0)[:-1])
