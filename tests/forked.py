"""Run `inkstamp` in children of one process that has all imports behind it: the same program, half a second sooner.

Each child has its own arguments, environment, folder and streams, and ends as a program of its own does. Where
INKSTAMP_TESTS_FROM_NOTHING is set, or the environment says something to the interpreter, a new one is started instead.

As a program: forked.py SOCKET
"""

import atexit
import functools
import gc
import importlib
import json
import os
import pkgutil
import random
import runpy
import selectors
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Mapping, Sequence
from contextlib import ExitStack, suppress
from pathlib import Path
from typing import Any

Ended = subprocess.CompletedProcess[str]
_MOST = 1 << 20
_OF_THE_INTERPRETER = ("PYTHON", "LC_", "LANG", "TZ", "COLUMNS")


def run(
    command: Sequence[str],
    env: Mapping[str, str],
    *,
    timeout: float = 120,
    script: bool = False,
    cwd: Path | None = None,
    umask: int = -1,
    data: bytes = b"",
) -> Ended:
    """Run `command` and return what it said; its first word is the installed `inkstamp` or a Python `script`.

    Raises:
        subprocess.TimeoutExpired: It did not end within `timeout` seconds, and was killed.

    """
    changed = [name for name in {*env, *os.environ} if env.get(name) != os.environ.get(name)]
    if "INKSTAMP_TESTS_FROM_NOTHING" in os.environ or any(each.startswith(_OF_THE_INTERPRETER) for each in changed):
        start = [sys.executable, *command] if script else command
        done = subprocess.run(
            start, capture_output=True, timeout=timeout, check=False, input=data, env=env, cwd=cwd, umask=umask
        )
        return Ended(list(command), done.returncode, done.stdout.decode(), done.stderr.decode())
    request = {"command": list(command), "env": dict(env), "cwd": str(cwd or Path.cwd()), "umask": umask,
               "kind": "script" if script else "program"}  # fmt: skip
    with ExitStack() as open_files:
        given, out, err = (open_files.enter_context(tempfile.TemporaryFile()) for _ in range(3))
        given.write(data)
        given.seek(0)
        status = _ask(request, [given.fileno(), out.fileno(), err.fileno()], timeout)
        if status is None:
            raise subprocess.TimeoutExpired(list(command), timeout, *_said(out, err))
        return Ended(list(command), status, *_said(out, err))


def _ask(request: Mapping[str, Any], handles: Sequence[int], timeout: float) -> int | None:
    """Return how a child with these streams ended, None where it had to be killed."""
    with socket.socket(socket.AF_UNIX) as asked:
        asked.connect(server())
        socket.send_fds(asked, [json.dumps(request).encode() + b"\n"], handles)
        answers = asked.makefile()
        pid = int(answers.readline())
        asked.settimeout(timeout)
        try:
            return int(answers.readline())
        except TimeoutError:
            os.kill(pid, signal.SIGKILL)
            return None


def _said(*files: Any) -> list[str]:
    said = []
    for each in files:
        each.seek(0)
        said.append(each.read().decode())
    return said


@functools.cache
def server() -> str:
    """Start the process that the others come of, and return its socket; it ends with this one."""
    folder = tempfile.mkdtemp(prefix="inkstamp-forked-")
    path = f"{folder}/socket"
    process = subprocess.Popen([sys.executable, __file__, path], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE)
    assert process.stdout is not None
    assert process.stdout.readline() == b"ready\n"

    def end() -> None:
        process.kill()
        process.wait()
        shutil.rmtree(folder)

    atexit.register(end)
    return path


def serve(path: str) -> dict[str, Any]:
    """Fork for each request, and tell its child's end; returns, in the child, what it is to do."""
    import inkstamp

    for each in pkgutil.walk_packages(inkstamp.__path__, "inkstamp."):
        if not each.name.endswith("__main__"):
            importlib.import_module(each.name)
    gc.collect()
    gc.freeze()
    listener = socket.socket(socket.AF_UNIX)
    listener.bind(path)
    listener.listen(64)
    os.write(1, b"ready\n")
    waiting = selectors.DefaultSelector()
    waiting.register(listener, selectors.EVENT_READ)
    while True:
        for key, _ in waiting.select():
            if key.data is None:
                connection, _ = listener.accept()
                pid, request = _begin(connection)
                if pid == 0:
                    listener.close()
                    return request
                waiting.register(os.pidfd_open(pid), selectors.EVENT_READ, (pid, connection))
            else:
                pid, connection = key.data
                waiting.unregister(key.fd)
                os.close(key.fd)
                _tell(connection, os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))
                connection.close()


def _tell(connection: socket.socket, number: int) -> None:
    with suppress(BrokenPipeError):  # who asked has waited long enough
        connection.sendall(b"%d\n" % number)


def _begin(connection: socket.socket) -> tuple[int, dict[str, Any]]:
    """Read a request and fork; the child has its streams, folder and environment then."""
    data, handles, _, _ = socket.recv_fds(connection, _MOST, 3)
    while not data.endswith(b"\n"):
        data += connection.recv(_MOST)
    request = json.loads(data)
    pid = os.fork()
    if pid:
        for handle in handles:
            os.close(handle)
        _tell(connection, pid)
        return pid, request
    for number, handle in enumerate(handles):
        os.dup2(handle, number)
        os.close(handle)
    connection.close()
    os.environ.clear()
    os.environ.update(request["env"])
    os.chdir(request["cwd"])
    if request.get("umask", -1) >= 0:
        os.umask(request["umask"])
    random.seed()
    return 0, request


def main() -> None:
    """Serve, and in a child do what was asked, as the program itself."""
    request = serve(sys.argv[1])
    sys.argv = request["command"]
    status = 0
    try:
        if request["kind"] == "script":
            runpy.run_path(sys.argv[0], run_name="__main__")
        elif request["kind"] == "module":
            runpy.run_module(sys.argv[0], run_name="__main__", alter_sys=True)
        else:
            from inkstamp.__main__ import main as program

            program()
    except SystemExit as end:
        status = _status_of(end)
    # Any other exception goes up: the interpreter tells it, and ends with 1.
    _end(status)


def _status_of(end: SystemExit) -> int:
    """Return the exit status that the interpreter would end with (sys.exit)."""
    if isinstance(end.code, str):
        sys.stderr.write(f"{end.code}\n")
        return 1
    return end.code or 0


def _end(status: int) -> None:
    """End as the interpreter does, but for taking all modules apart: that would copy every page that was forked."""
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for each in (sys.stdout, sys.stderr):
        try:
            each.flush()
        except (OSError, ValueError):
            status = status or 120  # as the interpreter says it
    os._exit(status)


if __name__ == "__main__":
    main()
