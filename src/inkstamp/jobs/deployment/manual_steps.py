"""What a person does with an exported certificate on a server that Ink Stamp does not reach."""

from collections.abc import Callable, Sequence
from typing import Literal

from msgspec import Struct

Target = Literal["windows", "windows-console", "windows-certutil", "java"]
"""Windows' certificate store with IIS or whatever else takes certificates from it, in PowerShell, in the windows of the
management console, or with the store's own command line tool; a Java program with a key store."""
_IIS = "{4dc3e181-e14b-4a21-b022-59fc669b0914}"
"""What HTTP.sys knows IIS as; who owns a binding is written beside it."""


class ExportedFiles(Struct, frozen=True, kw_only=True):
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
    issuers: Sequence[tuple[str, str]]
    """Common name and thumbprint of each intermediate."""
    serial: str
    """Serial number of the leaf, hexadecimal."""
    sealed: bool
    """Whether the file has a passphrase."""

    @property
    def host(self) -> str:
        """The name that stands for all."""
        return next((each for each in self.names if not each.startswith("*.")), self.names[0])


def import_steps(target: Target, about: ExportedFiles) -> list[str]:
    """Return the steps in their order: what to do, and below it what to type, each line indented."""
    write: dict[Target, Callable[[ExportedFiles], list[str]]] = {
        "windows": _windows,
        "windows-console": _console,
        "windows-certutil": _certutil,
        "java": _java,
    }
    steps = write[target](about)
    return [
        f"Carry {about.file} to the server by a way that strangers cannot read, and delete it there when you are done.",
        *steps,
        f"Here, check that it is done:\n    inkstamp check {about.certificate}",
    ]


def completion_steps(target: Target, about: ExportedFiles) -> list[str]:
    """Return the steps that complete a CSR on the machine that made it and has its key; otherwise as `import_steps`."""
    write: dict[Target, Callable[[ExportedFiles], list[str]]] = {
        "windows": _complete_windows,
        "windows-console": _complete_console,
        "windows-certutil": _complete_certutil,
        "java": _complete_java,
    }
    steps = write[target](about)
    return [
        f"Carry {about.file} to the machine that made the CSR; it holds no key.",
        *steps,
        f"Here, check that it is done:\n    inkstamp check {about.certificate}",
    ]


def _complete_windows(about: ExportedFiles) -> list[str]:
    there = "".join(f"\n    Get-Item Cert:\\LocalMachine\\CA\\{each}" for _, each in about.issuers)
    return [
        "There, as an administrator, complete the request that waits in the machine's store; this joins certificate "
        f"and key:\n    certreq -accept -machine {about.file}",
        "See in PowerShell that it has its key now, and its intermediates where Windows looks for them when it sends "
        f"the chain:\n    (Get-Item Cert:\\LocalMachine\\My\\{about.thumbprint}).HasPrivateKey{there}",
        _bind_in_iis(about),
    ]


def _complete_console(about: ExportedFiles) -> list[str]:
    return [
        "There, join certificate and key. If the CSR was made in IIS Manager: the server, Server Certificates, then "
        f"Complete Certificate Request, and {about.file}. Where it was made in the console: as an "
        "administrator run certlm.msc, Personal, right-click, All Tasks, Import, that file. This joins the two.",
        f"See that the certificate for {about.host} has the little key on its picture, and “You have a private key” in "
        f"its window; its thumbprint is {about.thumbprint}.",
        _move_in_console(about),
        _bind_in_manager(about),
    ]


def _complete_certutil(about: ExportedFiles) -> list[str]:
    return [
        "There, in a command prompt as an administrator, complete the request that waits in the machine's store; this "
        f"joins certificate and key:\n    certreq -accept -machine {about.file}",
        f"Where it says that there is no request, import the file and join the key by the serial number:\n"
        f"    certutil -addstore My {about.file}\n    certutil -repairstore My {about.serial}",
        _see_with_certutil(about),
        _bind_with_netsh(about),
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
        f"\n    Move-Item Cert:\\LocalMachine\\My\\{each} Cert:\\LocalMachine\\CA" for _, each in about.issuers
    )
    into, asked = f"    Import-PfxCertificate .\\{about.file} Cert:\\LocalMachine\\My", ":\n"
    if about.sealed:
        asked = " (the passphrase is asked for):\n    $words = Read-Host -AsSecureString 'Passphrase'\n"
        into += " -Password $words"
    return [
        f"There, in PowerShell as an administrator, put it into the machine's store{asked}{into}",
        f"Move its intermediates to where Windows looks for them when it sends the chain; an error that one is not "
        f"there means that it is in its place already:{moved}",
        _bind_in_iis(about),
        f"Other services that take it from the store (mail, remote desktop) want its thumbprint, {about.thumbprint}.",
    ]


def _console(about: ExportedFiles) -> list[str]:
    words = "give its passphrase" if about.sealed else "leave the passphrase empty"
    return [
        "There, run certlm.msc as an administrator (the certificates of the machine; in mmc.exe it is the snap-in "
        f"Certificates for the computer account). Personal, right-click, All Tasks, Import: choose {about.file} (all "
        f"files), {words}, do not mark the key as exportable, and place it in Personal.",
        f"See that the certificate for {about.host} is in Personal, Certificates, with a little key on its picture. "
        f"Its friendly name is “{about.friendly_name}”, its thumbprint {about.thumbprint}.",
        _move_in_console(about),
        _bind_in_manager(about),
        "Other services that take it from the store (mail, remote desktop) want its thumbprint, and most a restart.",
    ]


def _move_in_console(about: ExportedFiles) -> str:
    named = "".join(f"\n    {name}   {each}" for name, each in about.issuers)
    return (
        "Move its intermediates from Personal to Intermediate Certification Authorities, Certificates (drag them), if "
        f"they are not there yet; never to the trusted roots:{named}"
    )


def _bind_in_manager(about: ExportedFiles) -> str:
    return (
        "In IIS Manager: the site, Bindings, then the https binding and Edit, or Add with type https, port 443, host "
        f"name {about.host} and Require Server Name Indication. Choose “{about.friendly_name}”; View shows the "
        "thumbprint where several have that name. No restart is needed."
    )


def _certutil(about: ExportedFiles) -> list[str]:
    words = "the passphrase is asked for, and " if about.sealed else ""
    empty = "" if about.sealed else '-p "" '
    return [
        f"There, in a command prompt as an administrator, put it into the machine's store ({words}its intermediates go "
        f"where Windows looks for them):\n    certutil {empty}-importpfx My {about.file} NoExport,NoRoot",
        _see_with_certutil(about),
        _bind_with_netsh(about),
        f"Other services that take it from the store (mail, remote desktop) want its thumbprint, {about.thumbprint}.",
    ]


def _see_with_certutil(about: ExportedFiles) -> str:
    there = "".join(f"\n    certutil -store CA {each}" for _, each in about.issuers)
    return (
        "See that the key is there (“Encryption test passed”), and the intermediates:\n"
        f"    certutil -store My {about.thumbprint}{there}"
    )


def _bind_with_netsh(about: ExportedFiles) -> str:
    place = f"hostnameport={about.host}:443"
    whose = f"certhash={about.thumbprint} certstorename=MY ^\n        appid={_IIS}"
    return (
        "Bind it to the name, which all sites of IIS with an https binding for that host name (with SNI) use; where "
        f"there is no such binding yet, say “add” in the place of “update”:\n"
        f"    netsh http update sslcert {place} ^\n        {whose}\n    netsh http show sslcert {place}"
    )


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
        f"        -srcalias '{about.friendly_name}' -destalias '{about.friendly_name}' \\\n"
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
