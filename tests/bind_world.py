"""Two real BIND nameservers, a primary that takes updates and a secondary that takes transfers, and a CA."""

import subprocess
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType

from world import World, find_program, other_ca, running, write_config, write_nginx

from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports

PRIMARY, SECONDARY = "127.0.0.1", "::1"
"""BIND listens on addresses that interfaces have, which among the loopback ones are these two."""
ZONES = ("saltmarsh.test", "proofs.tides.test", "_acme-challenge.cut.saltmarsh.test")
"""The second one takes the proofs of names that delegate to it by an alias, the third those of one by a zone cut."""
KEYS = ("primary", "other", "other")


@dataclass
class BindWorld(World):
    """A World whose DNS is real."""

    dns_port: int = 0
    secondary: subprocess.Popen[bytes] = None  # type: ignore[assignment]

    def configure(self, text: str) -> None:
        """Write the configuration: the usual world with these tables behind it."""
        write_config(self.folder, self.nginx, self.dns_port)
        base = self.config.read_text().replace("[view]\n", f"[view]\ndns_port = {self.dns_port}\n")
        self.config.write_text(base + text)

    def change(self, *lines: str, key: str = "primary.tsig", follows: bool = True) -> None:
        """Change records by the server's own program, as somebody else would, and wait until the secondary follows."""
        script = "\n".join([f"server {PRIMARY} {self.dns_port}", *lines, "send", ""])
        subprocess.run(
            [find_program("nsupdate"), "-k", str(self.folder / key)], input=script, text=True, check=True,
            capture_output=True,
        )  # fmt: skip
        changed = f".{lines[0].split()[2].rstrip('.')}"  # the last zone of ZONES is inside the first
        zone = next((each for each in reversed(ZONES) if changed.endswith(f".{each}")), "")
        deadline = time.monotonic() + 20
        while follows and zone and self.records(zone, "SOA", SECONDARY) != self.records(zone, "SOA"):
            assert time.monotonic() < deadline, f"the secondary does not follow in {zone}"
            time.sleep(0.05)

    def txt(self, name: str, server: str = PRIMARY) -> list[str]:
        """Ask one server for TXT records with a program of its own."""
        return self.records(name, "TXT", server)

    def records(self, name: str, kind: str, server: str = PRIMARY) -> list[str]:
        """Ask one server with a program of its own."""
        done = subprocess.run(
            [find_program("dig"), f"@{server}", "-p", str(self.dns_port), "+short", "+norecurse", name, kind],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        return sorted(line.strip('"') for line in done.stdout.splitlines())


def zone_file(zone: str, records: Sequence[str]) -> str:
    base = zone.partition("_acme-challenge.cut.")[2] or zone  # an underscore can be in no host's name
    lines = ["$TTL 60", f"@ SOA ns1.{base}. host.{base}. 1 60 60 3600 60", f"@ NS ns1.{base}.", f"@ NS ns2.{base}."]
    if base == zone:
        lines += [f"ns1 A {PRIMARY}", f"ns2 AAAA {SECONDARY}", *records]
    return "\n".join([*lines, ""])


def named_conf(folder: Path, address: str, port: int, zones: str, more: str = "") -> str:
    listen = ("listen-on-v6", "listen-on") if ":" in address else ("listen-on", "listen-on-v6")
    return (
        f'options {{ directory "{folder}"; pid-file "{folder}/named.pid"; session-keyfile "{folder}/session.key";\n'
        f"  {listen[0]} port {port} {{ {address}; }}; {listen[1]} {{ none; }}; recursion yes; dnssec-validation no;\n"
        f"  allow-transfer {{ any; }}; notify-delay 0; serial-query-rate 1000; {more} }};\ncontrols {{ }};\n"
        f'key "primary" {{ algorithm hmac-sha256; secret "c2FsdG1hcnNoLXRpZGVzLWFuZC1mZXJyaWVz"; }};\n'
        f'key "other" {{ algorithm hmac-sha512; secret "b3RoZXItc2VjcmV0LW9mLXRoZS1vdGhlci16b25l"; }};\n{zones}'
    )


Delegated = Mapping[str, Mapping[str, tuple[str, str]]]
"""Zones below `test` that another nameserver has as their primary: by zone, host, type and value of its address."""


@dataclass(frozen=True)
class OwnZone:
    """A zone that the primary has because a test configures it."""

    configuration: str
    """What stands in its `named.conf`."""
    delegation: Sequence[str]
    """Records of the zone `test`."""


@contextmanager
def bind(
    folder: Path, port: int, delegated: Delegated = MappingProxyType({}), own: OwnZone | None = None
) -> Iterator[subprocess.Popen[bytes]]:
    """Run both nameservers; the second one is a secondary for zones that are delegated elsewhere, too."""
    primary, secondary = folder / "primary", folder / "secondary"
    secondary_more = "allow-notify { any; };"
    first, second = [f'zone "test" {{ type primary; file "{folder}/test.zone"; }};\n'], []
    above = [f"{zone.removesuffix('.test')} NS ns{n}.{zone}." for zone in ZONES[:2] for n in (1, 2)]
    for zone, hosts in delegated.items():
        above += [f"{zone.removesuffix('.test')} NS {host}.{zone}." for host in hosts]
        above += [f"{host}.{zone}. {kind} {value}" for host, (kind, value) in hosts.items()]
        primary_at = next(value for kind, value in hosts.values() if kind == "A")
        second.append(f'zone "{zone}" {{ type secondary; primaries {{ {primary_at} port {port}; }}; }};\n')
        # The first one is what everybody asks, the CA too.
        first.append(f'zone "{zone}" {{ type forward; forward only; forwarders {{ {primary_at} port {port}; }}; }};\n')
    if own is not None:
        above += own.delegation
        first.append(own.configuration)
    (folder / "test.zone").write_text(zone_file("test", above))
    for each, key in zip(ZONES, KEYS, strict=True):
        for place in (primary, secondary):
            place.mkdir(exist_ok=True)
        records = ["@ A 127.0.0.1", "rowing A 127.0.0.1", "www.rowing A 127.0.0.1", "ferry A 127.0.0.1"]
        if each == ZONES[0]:
            records += [f"_acme-challenge.ferry CNAME ferry.{ZONES[1]}.", "cut A 127.0.0.1"]
            records += [f"_acme-challenge.cut NS ns{n}" for n in (1, 2)]
        (primary / f"{each}.zone").write_text(zone_file(each, records))
        first.append(
            f'zone "{each}" {{ type primary; file "{each}.zone"; notify explicit;\n'
            f"  also-notify {{ {SECONDARY} port {port}; }};\n"
            f"  update-policy {{ grant {key} zonesub ANY; }}; }};\n"
        )
        second.append(f'zone "{each}" {{ type secondary; primaries {{ {PRIMARY} port {port}; }}; }};\n')
    primary_more = "max-cache-ttl 0; max-ncache-ttl 0;" if delegated else ""
    (primary / "named.conf").write_text(named_conf(primary, PRIMARY, port, "".join(first), primary_more))
    (secondary / "named.conf").write_text(named_conf(secondary, SECONDARY, port, "".join(second), secondary_more))
    named = find_program("named")
    with (
        running([named, "-g", "-c", str(primary / "named.conf")], folder / "primary.log", port),
        running(
            [named, "-g", "-c", str(secondary / "named.conf")], folder / "secondary.log", port, address=SECONDARY
        ) as follower,
    ):
        yield follower


@contextmanager
def bind_world(
    folder: Path, delegated: Delegated = MappingProxyType({}), dns_port: int = 0, own: OwnZone | None = None
) -> Iterator[BindWorld]:
    """Bring up BIND, nginx and the CA; some zones may be delegated to a nameserver that the test runs on `dns_port`."""
    http_port, https_port, unused, free_port = free_ports(4)
    dns_port = dns_port or free_port
    nginx = write_nginx(folder / "nginx", http_port, https_port)
    nginx.sites_file(f"server {{ listen 127.0.0.1:{http_port} default_server; return 404; }}\n", "0-default")
    for name, algorithm, secret in (
        ("primary", "hmac-sha256", "c2FsdG1hcnNoLXRpZGVzLWFuZC1mZXJyaWVz"),
        ("other", "hmac-sha512", "b3RoZXItc2VjcmV0LW9mLXRoZS1vdGhlci16b25l"),
    ):
        file = folder / f"{name}.tsig"
        file.write_text(f'key "{name}" {{\n  algorithm {algorithm};\n  secret "{secret}";\n}};\n')
        file.chmod(0o600)
    with (
        bind(folder, dns_port, delegated, own) as secondary,
        Nameserver(unused, {}) as nameserver,  # what a World has; nothing asks it here
        running(nginx.command("-g", "daemon off;"), folder / "nginx.log", http_port),
        other_ca(folder, http_port=http_port, https_port=https_port, dns_port=dns_port, env={}) as (directory, ca),
    ):
        config, home = write_config(folder, nginx, dns_port)
        (folder / "roots.pem").write_bytes(ca.root())
        usual = (folder, nginx, nameserver, directory, ca, ca.trust, config, home)
        made = BindWorld(*usual, dns_port=dns_port, secondary=secondary)
        made.configure("")
        made.add_authority()
        yield made
