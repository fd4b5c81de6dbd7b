"""A proof that is a file fetched over HTTP: `http-01` (RFC 8555 section 8.3), and what portals ask for."""

import secrets
from urllib.parse import urlsplit

from msgspec import Struct

from inkstamp.errors import UsageError

_CHALLENGES = (".well-known", "acme-challenge")
_MOST_PATH = 512
TRIAL_PARTS = (".well-known", "acme-challenge", "trial")
"""Where the file of a proof would lie, as far as that has to be known before there is one."""


class FileProof(Struct, frozen=True):
    """A file that shows control of a name when it is fetched over plain HTTP."""

    name: str
    parts: tuple[str, ...]
    """The path below the document root, the file's name last."""
    content: bytes
    thumbprint: str = ""
    """Of the account key that a challenge's response is made with (RFC 7638); empty for what a portal asks for."""

    @property
    def url(self) -> str:
        """The URL that the CA will fetch."""
        host = f"[{self.name}]" if ":" in self.name else self.name
        return f"http://{host}/{'/'.join(self.parts)}"

    @property
    def folder(self) -> str:
        """The path of the folder that it lies in, with a slash at both ends."""
        return "/".join(["", *self.parts[:-1], ""])

    def is_shown_by(self, body: bytes) -> bool:
        """Tell whether a body is the proof; white space at its end does not matter (section 8.3), nor do line ends."""
        return body.rstrip().splitlines() == self.content.rstrip().splitlines()


def http_proof(name: str, token: str, key_authorization: str) -> FileProof:
    """Make the `http-01` proof for a challenge; the token must have been checked to be one."""
    thumbprint = key_authorization.partition(".")[2]
    return FileProof(name, (*_CHALLENGES, token), key_authorization.encode("ascii"), thumbprint)


def random_proof(name: str, thumbprint: str) -> FileProof:
    """Make the proof for a challenge that no CA has made, with a random thumbprint where none is known."""
    token = secrets.token_urlsafe(24)
    return http_proof(name, token, f"{token}.{thumbprint or secrets.token_urlsafe(32)}")


def portal_file(name: str, path: str, content: str) -> FileProof:
    """Make the proof of a file that a portal wants at `path`.

    Raises:
        UsageError: The path is none that a file can have below a document root.

    """
    return FileProof(name, tuple(plain_path(path).strip("/").split("/")), content.encode("utf-8"))


def plain_path(text: str) -> str:
    """Return the path that `text` (a path, or the whole URL that a portal shows) asks for, with a slash in front.

    Raises:
        UsageError: It leads elsewhere, or is no path of a file.

    """
    parts = urlsplit(text) if "://" in text else None
    path = parts.path if parts is not None else text
    names = path.strip("/").split("/")
    wrong = len(path) > _MOST_PATH or path.endswith("/") or any(name in {"", ".", ".."} for name in names)
    if wrong or any(not char.isprintable() or char in '\\?#"%' or char.isspace() for char in path):
        raise UsageError(
            f"“{text}” is not the path of a file",
            advice="give it as the portal shows it, like /.well-known/pki-validation/file.txt",
        )
    return "/" + "/".join(names)
