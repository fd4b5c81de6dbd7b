"""Entry point of the `inkstamp` program and of `python -m inkstamp`."""

import gc
import os
import stat
import sys

GARBAGE = (50_000, 10, 10)
"""After how many new objects garbage is looked for (gc.set_threshold): short commands need what they make."""
_OTHERS = stat.S_IWOTH
"""What nothing of ours gives to everybody, whatever the shell allows."""
_STOPPED = (130, 143)


def main() -> None:
    """Run the command line given to this process and exit with its status."""
    gc.set_threshold(*GARBAGE)
    os.umask(os.umask(_OTHERS) | _OTHERS)
    if "_ARGCOMPLETE" in os.environ:  # a shell asks what could stand at the cursor
        from inkstamp.cli.completion import answer_shell

        answer_shell()
    from inkstamp.cli.main import run
    from inkstamp.cli.streams import guard_output

    guard_output()
    status = run(sys.argv[1:])
    if status in _STOPPED:  # threads that wait for strangers would be waited for
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)
    gc.freeze()  # or the interpreter would look for garbage twice as it ends, among all that was imported
    sys.exit(status)


if __name__ == "__main__":
    main()
