"""A simulated Windows Server: certificate stores, IIS's sites and bindings, and a disk, kept in a folder.

It carries requests out by their meaning (reach/windows/*.ps1 say what each is), so it shows nothing of whether
PowerShell would understand the scripts.
"""

import base64
import fcntl
import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.serialization import pkcs12

from inkstamp.files import write_bytes
from inkstamp.pki.keys import PrivateKey, from_pem, make, to_pem
from inkstamp.pki.kinds import KeyKind

CONFIG = "web.config"
_OURS = b'<mimeMap fileExtension="." mimeType="text/plain" />'


class MachineTrouble(Exception):
    """What the simulated machine refuses; `kind` is how PowerShell would name the error."""

    def __init__(self, message: str, kind: str = "") -> None:
        super().__init__(message)
        self.kind = kind


@dataclass(frozen=True)
class WindowsMachine:
    """One machine; everything it has is in `folder`."""

    folder: Path

    @property
    def _file(self) -> Path:
        return self.folder / "machine.json"

    def begin(self, sites: list[dict[str, Any]], addresses: list[str]) -> None:
        """Make a machine with these sites (as read.ps1 tells them) and empty stores."""
        self.folder.mkdir(parents=True, exist_ok=True)
        for each in sites:
            self.on_disk(each["path"]).mkdir(parents=True, exist_ok=True)
        state = {"version": "5.1.20348.1", "addresses": addresses, "central": "", "sites": sites, "certificates": [],
                 "intermediates": [], "keys": {}, "faults": {}, "scripts": {}, "told": [],
                 "containers": {}}  # fmt: skip
        write_bytes(self._file, json.dumps(state).encode())

    def on_disk(self, path: str) -> Path:
        r"""Return where `C:\inetpub\x` lies here."""
        drive, _, rest = path.partition(":")
        return self.folder.joinpath("disk", drive, *rest.strip("\\").split("\\"))

    def state(self) -> dict[str, Any]:
        """Return all that it has."""
        found: dict[str, Any] = json.loads(self._file.read_bytes())
        return found

    @contextmanager
    def changing(self) -> Iterator[dict[str, Any]]:
        """Give all that it has, to be changed."""
        with (self.folder / "lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            state = self.state()
            yield state
            write_bytes(self._file, json.dumps(state).encode())

    def carry_out(self, operation: str, request: Mapping[str, Any]) -> dict[str, Any]:
        """Do what a script says it does; MachineTrouble when that cannot be."""
        match operation:
            case "read":
                hidden = {"keys", "faults", "scripts", "told", "containers"}
                return {key: value for key, value in self.state().items() if key not in hidden}
            case "change":
                with self.changing() as state:
                    _change(state, request)
                return {}
            case "place":
                return self._place(request)
            case "remove":
                return self._remove(request)
            case "csr":
                with self.changing() as state:
                    return {"csr": _make_csr(state, request)}
            case "run":
                return self._run(request)
            case _:
                raise MachineTrouble(f"the term '{operation}' is not recognized", "CommandNotFoundException")

    def _place(self, request: Mapping[str, Any]) -> dict[str, Any]:
        folder, made = self.on_disk(request["root"]), []
        if not folder.is_dir():
            raise MachineTrouble(f"inkstamp: there is no folder {request['root']}")
        *folders, name = request["parts"]
        for at, each in enumerate(folders):
            folder /= each
            if folder.is_symlink():
                raise MachineTrouble(f"inkstamp: {each} is a link or a junction")
            if not folder.is_dir():
                made.append(at)
                if request["content"] is not None:
                    folder.mkdir()
        if request["content"] is not None:
            beside = folder / CONFIG
            if not beside.exists():
                beside.write_bytes(_OURS)
            (folder / name).write_bytes(base64.b64decode(request["content"]))
        return {"made": made}

    def _run(self, request: Mapping[str, Any]) -> dict[str, Any]:
        """Note what a script is told; one that a test has told to fail throws."""
        with self.changing() as state:
            if request["script"] not in state["scripts"]:
                raise MachineTrouble(f"inkstamp: there is no script {request['script']}")
            if request["told"] is not None and state["scripts"][request["script"]] == "fails":
                raise MachineTrouble("Der Dienst antwortet nicht.", "RuntimeException")
            if request["told"] is not None:
                state["told"].append(request["told"])
        return {"said": "ok"}

    def _remove(self, request: Mapping[str, Any]) -> dict[str, Any]:
        *folders, name = request["parts"]
        chain = [self.on_disk(request["root"])]
        for each in folders:
            chain.append(chain[-1] / each)
        (chain[-1] / name).unlink(missing_ok=True)
        left = [each.name for each in chain[-1].iterdir()] if chain[-1].is_dir() else []
        if left == [CONFIG] and (chain[-1] / CONFIG).read_bytes() == _OURS:
            (chain[-1] / CONFIG).unlink()
        for at in reversed(range(len(folders))):
            if at in request["made"] and chain[at + 1].is_dir() and not any(chain[at + 1].iterdir()):
                chain[at + 1].rmdir()
        return {}

    def pair_for(self, name: str) -> tuple[bytes, bytes] | None:
        """Return chain and key (PEM) of the binding that answers a name by TLS, None for none."""
        state = self.state()
        bound = [(each["information"].rsplit(":", 1)[1].lower(), each) for site in state["sites"]
                 for each in site["bindings"] if each["protocol"] == "https" and each["thumbprint"]]  # fmt: skip
        chosen = next((each for host, each in bound if host == name), None) or next(
            (each for host, each in bound if not host), None
        )
        if chosen is None:
            return None
        item = next(each for each in state["certificates"] if each["thumbprint"] == chosen["thumbprint"])
        leaf = x509.load_der_x509_certificate(base64.b64decode(item["der"]))
        chain = [leaf, *self._issuers(state, leaf)]
        pem = b"".join(each.public_bytes(serialization.Encoding.PEM) for each in chain)
        return pem, state["keys"][item["thumbprint"]].encode()

    def _issuers(self, state: Mapping[str, Any], leaf: x509.Certificate) -> Iterator[x509.Certificate]:
        known = [x509.load_der_x509_certificate(base64.b64decode(each["der"])) for each in state["intermediates"]]
        while leaf.issuer != leaf.subject:
            issuer = next((each for each in known if each.subject == leaf.issuer), None)
            if issuer is None:
                return
            yield issuer
            leaf = issuer


def _change(state: dict[str, Any], request: Mapping[str, Any]) -> None:
    known = {each["thumbprint"] for each in state["intermediates"]}
    for der in request["intermediates"]:
        thumbprint = _thumbprint(x509.load_der_x509_certificate(base64.b64decode(der)))
        if thumbprint not in known:
            state["intermediates"].append({"thumbprint": thumbprint, "der": der})
    if request["import"]:
        _import(state, request["import"])
    for wanted in request["bindings"]:
        _bind(state, wanted)
    used = {each["thumbprint"] for site in state["sites"] for each in site["bindings"]}
    gone = {(each["store"], each["thumbprint"]) for each in request["drop"]}
    if used & {thumbprint for _, thumbprint in gone}:
        raise MachineTrouble("a binding uses the certificate")  # the real one would leave a binding without
    state["certificates"] = [each for each in state["certificates"] if (each["store"], each["thumbprint"]) not in gone]
    dropped = set(request["drop_intermediates"])
    state["intermediates"] = [each for each in state["intermediates"] if each["thumbprint"] not in dropped]


def _make_csr(state: dict[str, Any], request: Mapping[str, Any]) -> str:
    key = make(KeyKind(request["kind"]))
    state["containers"][request["container"]] = to_pem(key).decode()
    names = [x509.DNSName(each) for each in request["names"]]
    subject = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, request["names"][0])])
    builder = x509.CertificateSigningRequestBuilder().subject_name(subject)
    made = builder.add_extension(x509.SubjectAlternativeName(names), critical=False).sign(key, hashes.SHA256())
    return base64.b64encode(made.public_bytes(serialization.Encoding.DER)).decode()


def _completed(state: dict[str, Any], given: Mapping[str, Any]) -> tuple[PrivateKey, x509.Certificate]:
    if given["container"] not in state["containers"]:
        raise MachineTrouble("Der Schlüsselsatz ist nicht vorhanden.", "CryptographicException")
    key = from_pem(state["containers"][given["container"]].encode(), given["container"])
    leaf = x509.load_der_x509_certificate(base64.b64decode(given["der"]))
    if leaf.public_key() != key.public_key():
        raise MachineTrouble(
            "The provided key does not match the public key for this certificate.", "ArgumentException"
        )
    return key, leaf


def _read_pkcs12(given: Mapping[str, Any]) -> tuple[Any, Any]:
    try:
        key, leaf, _ = pkcs12.load_key_and_certificates(base64.b64decode(given["pkcs12"]), given["password"].encode())
    except ValueError as error:
        raise MachineTrouble("Das angegebene Netzwerkkennwort ist falsch.", "CryptographicException") from error
    if leaf is None or key is None:
        raise MachineTrouble("there is nothing in that file", "CryptographicException")
    return key, leaf


def _import(state: dict[str, Any], given: Mapping[str, Any]) -> None:
    wanted = given["store"], given["thumbprint"]
    if any((each["store"], each["thumbprint"]) == wanted for each in state["certificates"]):
        return
    key, leaf = _completed(state, given) if "container" in given else _read_pkcs12(given)
    thumbprint = _thumbprint(leaf)
    state["keys"][thumbprint] = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    ).decode()
    der = base64.b64encode(leaf.public_bytes(serialization.Encoding.DER)).decode()
    state["certificates"].append(
        {"store": given["store"], "thumbprint": thumbprint, "der": der, "friendly_name": given["friendly_name"],
         "has_key": True, "exportable": given.get("exportable", False)}
    )  # fmt: skip


def _bind(state: dict[str, Any], wanted: Mapping[str, Any]) -> None:
    site = next((each for each in state["sites"] if each["name"] == wanted["site"]), None)
    if site is None:
        raise MachineTrouble(f"the site {wanted['site']} is not there", "ItemNotFoundException")
    information = f"{wanted['ip']}:{wanted['port']}:{wanted['host']}"
    same = (each for each in site["bindings"] if each["protocol"] == "https" and each["information"] == information)
    present = next(same, None)
    if not wanted["thumbprint"]:
        site["bindings"] = [each for each in site["bindings"] if each is not present]
        return
    places = {(each["store"], each["thumbprint"]) for each in state["certificates"]}
    if (wanted["store"], wanted["thumbprint"]) not in places:
        raise MachineTrouble("A specified logon session does not exist.", "COMException")
    if present is None:
        present = {"protocol": "https", "information": information, "flags": wanted["flags"]}
        site["bindings"].append(present)
    present |= {"thumbprint": wanted["thumbprint"], "store": wanted["store"]}


def _thumbprint(certificate: x509.Certificate) -> str:
    return certificate.fingerprint(hashes.SHA1()).hex().upper()  # noqa: S303  as Windows names it
