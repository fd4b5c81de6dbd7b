"""What a person does with an exported certificate on a server that Ink Stamp does not reach."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

Target = Literal["windows", "java"]
"""Windows' certificate store with IIS or whatever else takes certificates from it; a Java program with a key store."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ExportedFiles:
    """What the steps are about."""

    file: str
    """Name of the PKCS#12, or of the PKCS#7 where the key is there already; without its folder."""
    certificate: str
    """Its short name."""
    friendly_name: str
    """Its name in key stores."""
    names: Sequence[str]
    """What it covers."""
    thumbprint: str
    """SHA-1 of the leaf, in capitals, by which Windows names it."""
    issuers: Sequence[str]
    """Those of the intermediates."""

    @property
    def host(self) -> str:
        """The name that stands for all."""
        return next((each for each in self.names if not each.startswith("*.")), self.names[0])


def import_steps(target: Target, about: ExportedFiles) -> list[str]:
    """Return the steps in their order: what to do, and below it what to type, each line indented."""
    steps = _windows(about) if target == "windows" else _java(about)
    return [
        f"Carry {about.file} to the server by a way that strangers cannot read, and delete it there when you are done.",
        *steps,
        f"Here, check that it is done:\n    inkstamp check {about.certificate}",
    ]


def completion_steps(target: Target, about: ExportedFiles) -> list[str]:
    """Return the steps that complete a CSR on the machine that made it and has its key; otherwise as `import_steps`."""
    steps = _complete_windows(about) if target == "windows" else _complete_java(about)
    return [
        f"Carry {about.file} to the machine that made the CSR; it holds no key.",
        *steps,
        f"Here, check that it is done:\n    inkstamp check {about.certificate}",
    ]


def _complete_windows(about: ExportedFiles) -> list[str]:
    there = "".join(f"\n    Get-Item Cert:\\LocalMachine\\CA\\{each}" for each in about.issuers)
    return [
        "There, as an administrator, complete the request that waits in the machine's store; this joins certificate "
        f"and key:\n    certreq -accept -machine {about.file}",
        "Without a command line, where the CSR was made in IIS Manager: Server Certificates, then Complete Certificate "
        "Request, and choose that file.",
        "See in PowerShell that it has its key now, and its intermediates where Windows looks for them when it sends "
        f"the chain:\n    (Get-Item Cert:\\LocalMachine\\My\\{about.thumbprint}).HasPrivateKey{there}",
        _bind_in_iis(about),
    ]


def _complete_java(about: ExportedFiles) -> list[str]:
    return [
        "There, add it to the entry of the key store that the CSR was made of (ALIAS):\n"
        f"    keytool -importcert -trustcacerts -alias ALIAS -file {about.file} -keystore KEYSTORE",
        "See that the chain is there, “chain length” 2 or more:\n    keytool -list -v -keystore KEYSTORE -alias ALIAS",
        "Restart the program, or have it reload its key stores.",
    ]


def _windows(about: ExportedFiles) -> list[str]:
    moved = "".join(
        f"\n    Move-Item Cert:\\LocalMachine\\My\\{each} Cert:\\LocalMachine\\CA" for each in about.issuers
    )
    return [
        "There, in PowerShell as an administrator, put it into the machine's store (the passphrase is asked for):\n"
        "    $words = Read-Host -AsSecureString 'Passphrase'\n"
        f"    Import-PfxCertificate .\\{about.file} Cert:\\LocalMachine\\My -Password $words",
        f"Move its intermediates to where Windows looks for them when it sends the chain; an error that one is not "
        f"there means that it is in its place already:{moved}",
        _bind_in_iis(about),
        f"Other services that take it from the store (mail, remote desktop) want its thumbprint, {about.thumbprint}.",
    ]


def _bind_in_iis(about: ExportedFiles) -> str:
    return (
        "Bind it to the web site, use its name in IIS for SITE; no restart is needed:\n"
        "    Import-Module WebAdministration\n"
        f"    $name = '{about.host}'\n"
        "    # only when the site has no https binding for that name yet:\n"
        "    New-WebBinding SITE -Protocol https -Port 443 -HostHeader $name -SslFlags 1\n"
        "    $binding = Get-WebBinding SITE -Protocol https -HostHeader $name\n"
        f"    $binding.AddSslCertificate('{about.thumbprint}', 'My')"
    )


def _java(about: ExportedFiles) -> list[str]:
    return [
        "There, take it into the program's key store (both passphrases are asked for):\n"
        f"    keytool -importkeystore -srckeystore {about.file} -srcstoretype PKCS12 \\\n"
        "        -destkeystore KEYSTORE -deststoretype PKCS12",
        "See that key and chain are there, “chain length” 2 or more:\n"
        f"    keytool -list -v -keystore KEYSTORE -alias '{about.friendly_name}'",
        f"Name the key store in the program's configuration, for {about.host}; in Tomcat's server.xml, within "
        "its <Connector>:\n"
        f'    <SSLHostConfig hostName="{about.host}">\n'
        f'        <Certificate certificateKeystoreFile="KEYSTORE" certificateKeyAlias="{about.friendly_name}"\n'
        '                     certificateKeystoreType="PKCS12" certificateKeystorePasswordFile="WORDS" />\n'
        "    </SSLHostConfig>",
        "Restart the program, or have it reload its key stores.",
    ]
