"""Entry point of the `inkstamp` program and of `python -m inkstamp`."""

import os
import sys

_STOPPED = (130, 143)


def main() -> None:
    """Run the command line given to this process and exit with its status."""
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
    sys.exit(status)


if __name__ == "__main__":
    main()
