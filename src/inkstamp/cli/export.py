"""Export an edition for other systems: Windows, Java, an appliance, another team.

    inkstamp export rowing.saltmarsh.test --form pkcs12 --ask-passphrase
    inkstamp export rowing.saltmarsh.test --form separate --without-key

Forms:

    pkcs12    certificate, intermediates and key in one file
    pkcs7     certificate and intermediates
    served    certificate and intermediates as PEM, as most web servers want it
    combined  certificate, intermediates and key as PEM in one file
    separate  certificate, intermediates and key as PEM, one file each
    zip       all of these and a README
"""

import argparse
from pathlib import Path

from inkstamp.cli import output, passphrase
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime

_FORMS = ("pkcs12", "pkcs7", "served", "combined", "separate", "zip")
_KEYLESS = {"pkcs7", "served"}


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp export`."""
    parser.add_argument("certificate", metavar="NAME", help="a configured certificate")
    parser.add_argument("--form", required=True, choices=_FORMS, help="see above")
    parser.add_argument("--edition", type=int, metavar="NUMBER", help="number of the edition (default: the newest)")
    parser.add_argument("--into", default=".", metavar="DIR", help="directory for the files (default: the current one)")
    parser.add_argument(
        "--as", dest="base", default="", metavar="BASE", help="beginning of the file names (default: the first name)"
    )
    parser.add_argument("--replace", action="store_true", help="overwrite files of the same name")
    parser.add_argument("--without-key", action="store_true", help="leave out the private key")
    parser.add_argument("--key-first", action="store_true", help="combined: put the key before the certificates")
    parser.add_argument(
        "--friendly-name",
        default="",
        metavar="TEXT",
        help="pkcs12: friendly name (alias) in the key store (default: the certificate's name)",
    )
    parser.add_argument(
        "--legacy", action="store_true", help="pkcs12: encrypt with 3DES and SHA-1, for programs before 2018"
    )
    passphrase.options(parser, "the key")
    parser.add_argument(
        "--for",
        dest="target",
        choices=("windows", "windows-console", "windows-certutil", "java"),
        help="pkcs12: print the steps to import it there, in PowerShell, in the management console, with certutil, or "
        "with keytool; pkcs7, where the key is there: to complete its CSR",
    )
    parser.add_argument("--no-passphrase", action="store_true", help="pkcs12: do not encrypt it")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp export`; returns the exit status."""
    from inkstamp.jobs.deployment.export import ExportRequest, export
    from inkstamp.pki.packing import Form

    _check(options)
    request = ExportRequest(
        certificate=options.certificate,
        form=Form(options.form),
        folder=Path(options.into),
        base=options.base,
        edition=options.edition,
        with_key=not options.without_key and options.form not in _KEYLESS,
        passphrase=passphrase.given(options, "the key", new=True),
        friendly_name=options.friendly_name,
        legacy=options.legacy,
        key_first=options.key_first,
        replace=options.replace,
        target=options.target,
    )
    with open_runtime(context, only_looks=True) as runtime:
        exported = export(runtime, request)
    if context.json:
        output.as_json("export", exported=exported)
        return 0
    edition = exported.edition
    print(f"{edition.certificate}: edition {edition.number}, valid until {edition.not_after:%Y-%m-%d}, is written")
    for each in exported.files:
        sealed = "encrypted" if request.passphrase else "NOT encrypted"
        print(
            output.field("file", each.path + (f"   with the private key, {sealed}, mode 0600" if each.secret else ""))
        )
    for number, step in enumerate(exported.steps, start=1):
        text, *typed = step.splitlines()
        print(output.wrapped(text, f"\n  {number}. ", "     "))
        print("\n".join(f"  {line}" for line in typed), end="\n" if typed else "")
    return 0


def _check(options: argparse.Namespace) -> None:
    """Refuse options that say nothing about the chosen form, rather than let them pass in silence."""
    from inkstamp.errors import UsageError

    form = options.form
    for given, name, fits in (
        (options.legacy, "--legacy", form in {"pkcs12", "zip"}),
        (options.friendly_name, "--friendly-name", form in {"pkcs12", "zip"}),
        (options.key_first, "--key-first", form == "combined"),
        (options.no_passphrase, "--no-passphrase", form == "pkcs12"),
        (options.target, "--for", form in {"pkcs12", "pkcs7"} and not options.without_key),
    ):
        if given and not fits:
            raise UsageError(f"{name} does not apply to --form {form}", advice="leave it out")
    wants = bool(options.passphrase_file or options.ask_passphrase)
    if wants and (options.without_key or form in _KEYLESS) and form != "pkcs12":
        raise UsageError("a passphrase protects the private key, which is left out", advice="leave one of them out")
    if wants and options.no_passphrase:
        raise UsageError("--no-passphrase and a passphrase", advice="leave one of them out")
    if form == "pkcs12" and not wants and not options.no_passphrase:
        raise UsageError(
            "pkcs12 needs a passphrase",
            advice="give it with --passphrase-file or --ask-passphrase, or say --no-passphrase",
        )
