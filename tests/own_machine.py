"""A machine of its own for tests of packages and users: this one, whose system folders forget what is written to them.

The folders are overlaid in a mount namespace (mount_namespaces(7)), which goes with its last process. Everything else,
/tmp above all, is shared with the tests.
"""

import os
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from world import find_program

_FOLDERS = ("etc", "usr", "opt", "var", "home")
_SECONDS = 300


@dataclass(frozen=True)
class OwnMachine:
    """Runs programs in it."""

    process: int

    def run(self, *command: str, user: str = "", env: dict[str, str] | None = None, data: str = "") -> "Done":
        """Run a program as root or as another user, with nothing in its environment but a PATH and `env`."""
        given = {"PATH": "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin", "LC_ALL": "C.UTF-8", **(env or {})}
        as_user = [find_program("setpriv"), f"--reuid={user}", f"--regid={user}", "--init-groups"] if user else []
        whole = [find_program("nsenter"), "-t", str(self.process), "-m", "--", *as_user, *command]
        ran = subprocess.run(
            whole, capture_output=True, text=True, input=data, env=given, timeout=_SECONDS, check=False, cwd="/"
        )
        return Done(ran.returncode, ran.stdout, ran.stderr)

    def must(self, *command: str, user: str = "", env: dict[str, str] | None = None, data: str = "") -> str:
        """Run a program that has to succeed; returns what it printed."""
        done = self.run(*command, user=user, env=env, data=data)
        assert done.status == 0, (command, done.out, done.err)
        return done.out


@dataclass(frozen=True)
class Done:
    """How a program ended."""

    status: int
    out: str
    err: str

    @property
    def flat(self) -> str:
        return " ".join(f"{self.out} {self.err}".split())


@contextmanager
def own_machine(folder: Path) -> Iterator[OwnMachine]:
    """Have such a machine for the time of the block; needs root.

    Args:
        folder: An empty folder, for what it is put together from.

    """
    over = folder / "overlays"
    over.mkdir()
    mounts = [f"mount -t tmpfs -o size=2g overlays {over}"]
    for each in _FOLDERS:
        upper, work = over / each / "upper", over / each / "work"
        mounts += [f"mkdir -p {upper} {work}",
                   f"mount -t overlay -o lowerdir=/{each},upperdir={upper},workdir={work} overlay /{each}"]  # fmt: skip
    script = " && ".join([*mounts, "echo ready", "exec sleep 3600"])
    holder = subprocess.Popen(
        [find_program("unshare"), "--mount", "--propagation", "private", "sh", "-c", script],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    try:
        assert holder.stdout is not None
        assert holder.stderr is not None
        assert holder.stdout.readline() == b"ready\n", holder.stderr.read()
        yield OwnMachine(holder.pid)
    finally:
        holder.kill()
        holder.communicate()


def rebuilt(
    package: Path, folder: Path, version: str, *, more: Sequence[tuple[str, str]] = (), less: Sequence[str] = ()
) -> Path:
    """Return the same Debian package as another version, with more files (path, text) and fewer folders (patterns)."""
    tree, made = folder / f"tree-{version}", folder / f"inkstamp_{version}.deb"
    subprocess.run([find_program("dpkg-deb"), "-R", str(package), str(tree)], check=True)
    control = tree / "DEBIAN" / "control"
    lines = [f"Version: {version}" if each.startswith("Version:") else each for each in control.read_text().split("\n")]
    control.write_text("\n".join(lines))
    for each in less:
        for found in tree.glob(each):
            shutil.rmtree(found)
    for path, text in more:
        (tree / path).parent.mkdir(parents=True, exist_ok=True)
        (tree / path).write_text(text)
    built = [find_program("dpkg-deb"), "--root-owner-group", "-Znone", "--build", str(tree), str(made)]
    subprocess.run(built, check=True, stdout=subprocess.DEVNULL, env=dict(os.environ))
    return made
