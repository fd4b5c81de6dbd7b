"""What the simulated portal knows: orders, what it wants to see, its mail, and what it hands out."""

import hashlib
import io
import json
import secrets
import threading
import zipfile
from dataclasses import asdict, dataclass, field
from datetime import timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.serialization import pkcs7

from inkstamp.errors import InkStampError
from inkstamp.files import write_bytes
from inkstamp.pki import csr
from inkstamp.pki.certificates import to_pem
from inkstamp.standins.hierarchy import PortalHierarchy, PublicKey
from inkstamp.standins.validation import Outside

METHODS = ("file", "cname", "txt", "email")
PATH = "/.well-known/pki-validation/fogbell.txt"


class Declined(Exception):
    """The portal shows a page that says no."""


@dataclass
class PortalEntry:
    """An order as the portal keeps it."""

    number: int
    names: list[str]
    request: str
    """PEM."""
    method: str = ""
    state: str = "proof"
    """`proof`, `review`, `issued`."""
    leaf: str = ""
    """PEM, when it is issued."""
    approved: list[str] = field(default_factory=list)
    """Names approved by e-mail."""
    said: str = ""
    """What the last check found."""


@dataclass
class PortalMood:
    """How the portal behaves; tests and the demo change it while it runs."""

    reviews: bool = False
    """Whether a person at the CA looks at each order before it is issued."""
    lifetime: timedelta = timedelta(days=200)
    age: timedelta = timedelta(hours=1)
    leave_out: tuple[str, ...] = ()
    """Names that are forgotten in what is issued."""
    more: tuple[str, ...] = ()
    """Names that are added."""
    policy: str = "2.23.140.1.2.1"
    """The policy that certificates have: that of domain validation, if nobody says otherwise."""
    issuer_url: str = ""
    """Where certificates say that their issuer's can be had; empty for the portal itself."""


class PortalState:
    """The portal behind its pages."""

    def __init__(self, folder: Path, base_url: str, outside: Outside) -> None:
        self.hierarchy = PortalHierarchy(folder)
        self.mood = PortalMood()
        self.outbox: list[tuple[str, str]] = []
        """E-mails sent: address, and the link in it."""
        self._links: dict[str, tuple[int, str]] = {}
        self._outside = outside
        self._url = base_url
        self._file = folder / "portal-orders.json"
        self._lock = threading.RLock()
        self._orders: dict[int, PortalEntry] = {}
        if self._file.exists():
            self._orders = {each["number"]: PortalEntry(**each) for each in json.loads(self._file.read_bytes())}

    def orders(self) -> list[PortalEntry]:
        """Return all orders, the newest first."""
        return sorted(self._orders.values(), key=lambda each: -each.number)

    def order(self, number: int) -> PortalEntry:
        """Return one order."""
        if number not in self._orders:
            raise Declined(f"there is no order {number}")
        return self._orders[number]

    def _save(self) -> None:
        write_bytes(self._file, json.dumps([asdict(each) for each in self._orders.values()]).encode())

    def open(self, text: str) -> PortalEntry:
        """Take a pasted request."""
        try:
            der = csr.read(text.encode(), "the pasted text")
            facts = csr.facts(der, "the pasted text", private=True)
        except InkStampError as error:
            raise Declined(f"{error.what} {error.said}") from error
        if not facts.names:
            raise Declined("the request names no site")
        with self._lock:
            entry = PortalEntry(4101 + len(self._orders), list(facts.names), csr.to_pem(der).decode())
            self._orders[entry.number] = entry
            self._save()
        return entry

    def wants(self, entry: PortalEntry, name: str) -> tuple[str, str]:
        """Return place and content of what is wanted for a name by the order's method."""
        der = x509.load_pem_x509_csr(entry.request.encode()).public_bytes(serialization.Encoding.DER)
        sha1, sha256 = hashlib.sha1(der, usedforsecurity=False).hexdigest(), hashlib.sha256(der).hexdigest()
        bare = name.removeprefix("*.")
        if entry.method == "file":
            return PATH, f"fogbell-proof={sha256}\n"
        if entry.method == "cname":
            return f"_fogbell.{bare}", f"{sha1}.proof.fogbell.test"
        return f"_fogbell.{bare}", f"fogbell-proof={sha256}"

    def choose(self, number: int, method: str) -> None:
        """Choose how control is shown."""
        entry = self.order(number)
        if method not in METHODS or entry.state != "proof":
            raise Declined("that cannot be chosen now")
        if method == "file" and any(name.startswith("*.") for name in entry.names):
            raise Declined("a file does not prove a wildcard")
        with self._lock:
            entry.method = method
            self._save()

    def send(self, number: int, address: str) -> None:
        """Write an e-mail with a link that approves all names below the address's domain."""
        entry = self.order(number)
        local, _, domain = address.rpartition("@")
        fits = [name for name in entry.names if f".{name.removeprefix('*.')}".endswith(f".{domain}")]
        if local not in {"admin", "administrator", "hostmaster", "postmaster", "webmaster"} or not fits:
            raise Declined(f"{address} may not approve {', '.join(entry.names)}")
        token = secrets.token_urlsafe(12)
        with self._lock:
            self._links[token] = (number, domain)
            self.outbox.append((address, f"{self._url}/approve/{token}"))

    def approve(self, token: str) -> PortalEntry:
        """Follow the link of an e-mail."""
        if token not in self._links:
            raise Declined("this link is not one of ours")
        number, domain = self._links[token]
        entry = self.order(number)
        with self._lock:
            entry.approved += [name for name in entry.names if f".{name.removeprefix('*.')}".endswith(f".{domain}")]
            self._save()
        return entry

    def check(self, number: int) -> PortalEntry:
        """Look for what is wanted, over HTTP and DNS; issue, or hold for review, when all is there."""
        entry = self.order(number)
        if entry.state != "proof" or not entry.method:
            raise Declined("choose first how control is shown")
        problems = [detail for name in entry.names if (detail := self._problem(entry, name))]
        with self._lock:
            entry.said = "; ".join(problems) or "all is there"
            if not problems:
                entry.state = "review"
                if not self.mood.reviews:
                    self._issue(entry)
            self._save()
        return entry

    def _problem(self, entry: PortalEntry, name: str) -> str:
        if entry.method == "email":
            return "" if name in entry.approved else f"{name} was not approved"
        place, content = self.wants(entry, name)
        if entry.method == "file":
            return self._outside.file(name, place, content)[1]
        return self._outside.record(place, entry.method.upper(), content)[1]

    def release(self, number: int) -> None:
        """Let an order pass that a person has looked at."""
        entry = self.order(number)
        if entry.state != "review":
            raise Declined("this order is not in review")
        with self._lock:
            self._issue(entry)
            self._save()

    def reissue(self, number: int) -> None:
        """Issue again for the request of an order that was issued before."""
        entry = self.order(number)
        if entry.state != "issued":
            raise Declined("nothing was issued for this order yet")
        with self._lock:
            self._issue(entry)
            self._save()

    def _issue(self, entry: PortalEntry) -> None:
        request = x509.load_pem_x509_csr(entry.request.encode())
        key = request.public_key()
        if not isinstance(key, PublicKey):
            raise Declined("a key of this kind is not certified")
        names = [name for name in (*entry.names, *self.mood.more) if name not in self.mood.leave_out]
        leaf = self.hierarchy.leaf(
            key,
            names,
            self.hierarchy.lower,
            age=self.mood.age,
            lifetime=self.mood.lifetime,
            issuer_url=self.mood.issuer_url or f"{self._url}/issuer/lower.cer",
            policy=self.mood.policy,
        )
        entry.leaf, entry.state = to_pem(leaf).decode(), "issued"

    def issuer(self, label: str) -> bytes:
        """Return an intermediate as DER, as the AIA URL promises."""
        known = {"lower.cer": self.hierarchy.lower, "upper.cer": self.hierarchy.upper}
        if label not in known:
            raise Declined("no such certificate")
        return known[label].certificate.public_bytes(serialization.Encoding.DER)

    def pkcs7(self, number: int) -> bytes:
        """Return leaf and intermediates as PKCS#7 in DER."""
        leaf = self._issued(number)
        above = [self.hierarchy.upper.certificate, self.hierarchy.lower.certificate]
        return pkcs7.serialize_certificates([*above, leaf], serialization.Encoding.DER)

    def archive(self, number: int) -> bytes:
        """Return the ZIP that the portal hands out, with names that help nobody."""
        leaf, made = self._issued(number), self.hierarchy
        windows = to_pem(leaf).replace(b"\n", b"\r\n")
        files = {
            f"{number}/cert_{number}.txt": b"\xef\xbb\xbf" + windows,
            f"{number}/fb7.cer": made.lower.certificate.public_bytes(serialization.Encoding.DER),
            f"{number}/other/bundle (2).crt": to_pem(made.cross.certificate) + to_pem(made.upper.certificate),
            f"{number}/other/ROOT.CRT": to_pem(made.top.certificate),
            f"{number}/{number}.p7b": self.pkcs7(number),
            f"{number}/readme.txt": b"Thank you for your order.\r\n",
        }
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, data in files.items():
                archive.writestr(name, data)
        return out.getvalue()

    def _issued(self, number: int) -> x509.Certificate:
        entry = self.order(number)
        if entry.state != "issued":
            raise Declined("nothing is issued for this order yet")
        return x509.load_pem_x509_certificate(entry.leaf.encode())
