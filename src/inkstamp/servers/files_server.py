"""Any server: nothing is known of it but where its files lie, and how it is told to take new ones."""

from collections.abc import Sequence
from pathlib import Path

from cryptography.hazmat.primitives.serialization import pkcs12
from msgspec.structs import replace

from inkstamp.config.model import FileCopy, Server
from inkstamp.config.words import SECRET_FORMS
from inkstamp.errors import ServerTrouble
from inkstamp.key_files import read_passphrases
from inkstamp.pki.packing import Goods, as_pkcs12, contents_of
from inkstamp.reach.interface import Host, Ran, Rights
from inkstamp.servers.base import SECONDS
from inkstamp.servers.common import present
from inkstamp.servers.escalation import run_by_sudo
from inkstamp.servers.interface import FileChange, Place, Supply
from inkstamp.servers.unparsed import UnreadServer

_DOMAIN = "{domain}"
_CERTIFICATE = "{certificate}"
_OF_EDITION = ("{edition}", "{year}", "{month}")


class FilesServer(UnreadServer):
    """One server of kind `files`, as configured under `[server.NAME]`."""

    def __init__(self, name: str, host: Host, entry: Server) -> None:
        super().__init__(name, host, entry.look)
        self._entry = entry

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        if not self._entry.root:
            raise ServerTrouble(
                f"server “{self.name}” has no `root`: the document root is unknown",
                where=self.name,
                advice=f'add a line root = "/srv/www/{_DOMAIN}" to its table',
            )
        return (Place(self._entry.root.replace(_DOMAIN, name), parts),)

    def answers_at(self, name: str, address: str) -> bool:  # noqa: ARG002  other kinds ask
        return self.host.has_address(address)

    def serves(self, name: str) -> bool:  # noqa: ARG002  the user has said so by naming it in `install`
        return bool(self._entry.files)

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:  # noqa: ARG002  as above
        if not self._entry.files:
            raise ServerTrouble(
                f"server “{self.name}” takes no files of a certificate",
                where=self.name,
                advice="list them in its table: files = [{ path = …, form = … }]",
            )
        if supply.goods is None:
            return []
        goods = supply.goods()
        copies = [change for each in self._entry.files if (change := self._copy(each, goods, supply)) is not None]
        return [*copies, *self._no_longer_used(goods, supply)]

    def _no_longer_used(self, goods: Goods, supply: Supply) -> list[FileChange]:
        """Return the removal of copies of other editions that lie beside the present ones, under names of their own.

        Only what holds such an edition yet is removed: somebody else may have a file of that name by now.
        """
        named = [each for each in self._entry.files if any(word in each.path for word in _OF_EDITION)]
        kept = {_path_of(each, goods, supply) for each in self._entry.files}
        found: dict[str, FileChange] = {}
        for other in supply.beside() if named else ():
            for copy in named:
                path = _path_of(copy, other, supply)
                before, there = present(self.host, path) if path not in kept | found.keys() else (None, None)
                if before is not None and _is_of(copy, before, other):
                    # With rights, as a copy: what it holds is shown in no preview.
                    found[path] = FileChange(path, before, None, there or Rights(0o600), there)
        return list(found.values())

    def _copy(self, copy: FileCopy, goods: Goods, supply: Supply) -> FileChange | None:
        """Return the change that brings one copy up to date, None when it is."""
        path = _path_of(copy, goods, supply)
        folder = path.rpartition("/")[0]
        if not self.host.glob(f"{folder}/."):
            raise ServerTrouble(
                f"there is no folder {folder} for {path.rpartition('/')[2]}", where=path,
                advice=f"make it, with the rights that its program needs, or correct `files` of server “{self.name}”",
            )  # fmt: skip
        before, there = present(self.host, path)
        mode = int(copy.mode, 8) if copy.mode else 0o600 if copy.form in SECRET_FORMS else 0o644
        rights = Rights(mode, copy.owner, copy.group)
        if copy.form == "pkcs12":
            # Salted anew each time it is written: the one that stands there is as good when it holds the same.
            passphrase = _passphrase(copy.passphrase_file)
            if before is not None and _holds(before, passphrase, goods):
                return None
            after = as_pkcs12(replace(goods, passphrase=passphrase))
        else:
            after = contents_of(copy.form, goods)
            if before == after and there is not None and there.mode == mode:
                return None
        return FileChange(path, before, after, rights, there)

    def test(self) -> Ran:
        return self._run(self._entry.test)

    def reload(self) -> Ran:
        return self._run(self._entry.reload)

    def privileged_commands(self) -> list[Sequence[str]]:
        return [each for each in (self._entry.test, self._entry.reload) if each]

    def _run(self, command: tuple[str, ...]) -> Ran:
        if not command:
            return Ran((), 0, "")
        by_sudo = self._entry.sudo and not self._entry.reach
        return run_by_sudo(self.host, command, SECONDS) if by_sudo else self.host.run(command, SECONDS)


def _path_of(copy: FileCopy, goods: Goods, supply: Supply) -> str:
    """Return where the copy of an edition goes."""
    expires = goods.leaf.not_valid_after_utc
    words = {_CERTIFICATE: supply.certificate, "{edition}": str(goods.number), "{year}": f"{expires:%Y}",
             "{month}": f"{expires:%m}"}  # fmt: skip
    path = copy.path
    for word, value in words.items():
        path = path.replace(word, value)
    return path


def _is_of(copy: FileCopy, data: bytes, goods: Goods) -> bool:
    """Tell whether a file is a copy of an edition."""
    if copy.form == "pkcs12":
        return _holds(data, _passphrase(copy.passphrase_file), goods)
    return data == contents_of(copy.form, goods)


def _passphrase(file: str) -> bytes:
    return read_passphrases(Path(file))[0]


def _holds(data: bytes, passphrase: bytes, goods: Goods) -> bool:
    try:
        found = pkcs12.load_pkcs12(data, passphrase)
    except ValueError:
        return False
    issuers = [each.certificate for each in found.additional_certs]
    return found.cert is not None and found.cert.certificate == goods.leaf and issuers == list(goods.issuers)
