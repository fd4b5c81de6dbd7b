"""Back up the data directory and the configuration into one file.

    inkstamp backup /srv/backup/inkstamp.age --public-key ~/.ssh/id_ed25519.pub
    inkstamp backup /srv/backup/inkstamp.age --passphrase-file /root/passphrase
    inkstamp backup /media/key/inkstamp.tgz --not-encrypted

In it are the ledger, accounts, the shelf with its keys, the configuration and
the files beside it that it names. A renewal that is at work goes on meanwhile.
It is encrypted in the format age (age-encryption.org/v1); `inkstamp restore`
reads it.
"""

import argparse
import shlex
from pathlib import Path

from inkstamp.cli import output, passphrase
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp backup`."""
    parser.add_argument("file", metavar="FILE", help="the file to write (mode 0600)")
    parser.add_argument(
        "--public-key",
        metavar="FILE",
        action="append",
        default=[],
        help="encrypt it to the SSH public keys or age recipients in FILE (repeat for several)",
    )
    passphrase.options(parser, "the backup")
    parser.add_argument("--not-encrypted", action="store_true", help="do not encrypt it: it holds private keys")
    parser.add_argument("--replace", action="store_true", help="replace an older FILE")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp backup`; returns the exit status."""
    from inkstamp.jobs.backups.creation import back_up
    from inkstamp.jobs.backups.encryption import Protection

    protection = Protection(
        passphrase=passphrase.given(options, "the backup", new=True),
        public_keys=tuple(Path(each).absolute() for each in options.public_key),
        none=options.not_encrypted,
    )
    with open_runtime(context) as runtime:
        made = back_up(runtime, Path(options.file).absolute(), protection, replace=options.replace)
    if context.json:
        output.as_json("backup", file=made.file, bytes=made.bytes, files=len(made.contents.files),
                       ledger=made.contents.ledger, findings=made.findings)  # fmt: skip
        return 0
    output.findings(made.findings)
    print(output.field("size", f"{made.bytes:,} bytes"))
    opened = " --private-key FILE" if options.public_key else "" if options.not_encrypted else " --ask-passphrase"
    tried = f"inkstamp restore {shlex.quote(options.file)}{opened} --preview"
    print(output.field("next", f"keep it on another machine; try it: {tried}"))
    return 0
