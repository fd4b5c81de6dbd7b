"""Entry point of the `inkstamp` program and of `python -m inkstamp`."""

import sys


def main() -> None:
    """Run the command line given to this process and exit with its status."""
    from inkstamp.cli.main import run
    from inkstamp.cli.streams import guard_output

    guard_output()
    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
