"""The `http-01` proof: a file at a URL (RFC 8555 section 8.3)."""

from dataclasses import dataclass

_FOLDERS = (".well-known", "acme-challenge")


@dataclass(frozen=True, slots=True)
class HttpProof:
    """A file that shows control of a name when it is fetched over plain HTTP."""

    name: str
    token: str
    content: bytes

    @property
    def parts(self) -> tuple[str, ...]:
        """The path below the document root, the file's name last."""
        return (*_FOLDERS, self.token)

    @property
    def url(self) -> str:
        """The URL that the CA will fetch."""
        return f"http://{self.name}/{'/'.join(self.parts)}"

    def is_shown_by(self, body: bytes) -> bool:
        """Tell whether a body is the proof; white space at its end does not matter (section 8.3)."""
        return body.rstrip() == self.content.rstrip()


def http_proof(name: str, token: str, key_authorization: str) -> HttpProof:
    """Make the proof for a challenge; the token must have been checked to be one."""
    return HttpProof(name, token, key_authorization.encode("ascii"))
