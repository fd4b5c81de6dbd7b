"""A hundred certificates of one name each, against a real ACME CA: ours, beside the bare cost of the same requests.

    python benchmarks/certificates.py [COUNT]

Brings up the CA, nginx and a nameserver on loopback (as the tests do). Each row is a process of its own; its CPU is
the client's alone. "bare" is HTTP and signing and nothing else: no ledger, no shelf, no verification, no look at the
proof beforehand; by `http.client`, and by urllib3. Then whole processes, each for one certificate.
"""

import base64
import gc
import hashlib
import http.client
import json
import os
import resource
import ssl
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path.insert(0, str(HERE.parent / "tests"))


def names(count: int, run: str) -> list[str]:
    return [f"{run}{number}.saltmarsh.test" for number in range(count)]


def usage() -> float:
    return time.process_time()


def ours(config: Path, run: str, count: int, at_once: int, sampler: Any = None) -> dict[str, Any]:
    """All certificates by the jobs that `inkstamp renew` runs, in this one process."""
    from inkstamp.__main__ import GARBAGE
    from inkstamp.config.model import Certificate
    from inkstamp.jobs.renewal.run import renew
    from inkstamp.runtime import Runtime

    gc.set_threshold(*GARBAGE)  # as in a process of the program
    runtime = Runtime(config, config.parent / f"home-{run}")
    entries = {
        each.partition(".")[0]: Certificate(names=(each,), authority="quayside", via="front")
        for each in names(count, run)
    }
    import msgspec

    first = Certificate(names=(f"{run}0.saltmarsh.test",), authority="quayside", via="front")
    runtime.configuration.use(msgspec.structs.replace(runtime.config, certificate=entries | {"first": first}))
    renew(runtime, ("first",))  # imports done, connection warm
    runtime.accounts.get("quayside").requests.clear()
    runtime.configuration.use(msgspec.structs.replace(runtime.config, certificate=entries))
    if sampler:
        sampler.begin()
    cpu, wall = usage(), time.perf_counter()
    sweep = renew(runtime, at_once=at_once)
    if sampler:
        sampler.end()
    figures = {"cpu": usage() - cpu, "wall": time.perf_counter() - wall}
    for each in sweep.failed:
        raise SystemExit(f"{each.due.name}: {each.error}")
    counts = dict(runtime.accounts.get("quayside").requests)
    runtime.close(0)
    return figures | {"requests": {kind: counts[kind] for kind in sorted(counts)}}


def b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


class Bare:
    """Nothing but HTTP and signing."""

    def __init__(self, directory: str, trust: Path) -> None:
        from cryptography.hazmat.primitives import hashes
        from cryptography.hazmat.primitives.asymmetric import ec
        from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature

        self.ecdsa, self.decode = ec.ECDSA(hashes.SHA256()), decode_dss_signature
        self.key = ec.generate_private_key(ec.SECP256R1())
        point = self.key.public_key().public_numbers()
        self.jwk = {"crv": "P-256", "kty": "EC", "x": b64(point.x.to_bytes(32, "big")),
                    "y": b64(point.y.to_bytes(32, "big"))}  # fmt: skip
        self.thumbprint = b64(hashlib.sha256(json.dumps(self.jwk, separators=(",", ":")).encode()).digest())
        self.host = directory.split("/")[2]
        self.connection = http.client.HTTPSConnection(self.host, context=ssl.create_default_context(cafile=str(trust)))
        self.kid = self.nonce = ""
        self.requests = 0
        self.directory = json.loads(self.send("GET", directory)[1])
        self.send("HEAD", self.directory["newNonce"])
        reply, _ = self.post(self.directory["newAccount"], {"termsOfServiceAgreed": True})
        self.kid = reply.headers["Location"]

    def send(self, method: str, url: str, body: bytes | None = None) -> tuple[http.client.HTTPResponse, bytes]:
        headers = {"Content-Type": "application/jose+json"} if body else {}
        self.connection.request(method, url.partition(self.host)[2], body, headers)
        reply = self.connection.getresponse()
        content = reply.read()
        self.nonce = reply.headers.get("Replay-Nonce", self.nonce)
        self.requests += 1
        return reply, content

    def post(self, url: str, payload: object = None) -> tuple[http.client.HTTPResponse, bytes]:
        header = {
            "alg": "ES256",
            "url": url,
            "nonce": self.nonce,
            **({"kid": self.kid} if self.kid else {"jwk": self.jwk}),
        }
        protected = b64(json.dumps(header).encode())
        body = "" if payload is None else b64(json.dumps(payload).encode())
        r, s = self.decode(self.key.sign(f"{protected}.{body}".encode(), self.ecdsa))
        signature = b64(r.to_bytes(32, "big") + s.to_bytes(32, "big"))
        reply, content = self.send(
            "POST", url, json.dumps({"protected": protected, "payload": body, "signature": signature}).encode()
        )
        if reply.status >= 300:
            raise SystemExit(f"bare: {url}: {content!r}")
        return reply, content

    def look(self, name: str, token: str, dns_port: int, http_port: int) -> None:
        """What a careful client does before it answers a challenge: DNS, and the proof as the CA will fetch it."""
        import dns.resolver

        resolver = dns.resolver.Resolver(configure=False)
        resolver.nameservers, resolver.port = ["127.0.0.1"], dns_port
        address = resolver.resolve(name + ".", "A", search=False)[0].address
        resolver.resolve(name + ".", "AAAA", search=False, raise_on_no_answer=False)
        connection = http.client.HTTPConnection(address, http_port)
        connection.request("GET", f"/.well-known/acme-challenge/{token}", headers={"Host": name})
        if connection.getresponse().read().decode() != f"{token}.{self.thumbprint}":
            raise SystemExit("bare: the proof is not seen")
        connection.close()

    def certificate(self, name: str, folder: Path, look_ports: tuple[int, int] | None) -> bytes:
        from cryptography import x509
        from cryptography.hazmat.primitives import hashes, serialization
        from cryptography.hazmat.primitives.asymmetric import ec
        from cryptography.x509.oid import NameOID

        reply, content = self.post(self.directory["newOrder"], {"identifiers": [{"type": "dns", "value": name}]})
        url, order = reply.headers["Location"], json.loads(content)
        authorization = json.loads(self.post(order["authorizations"][0])[1])
        challenge = next(each for each in authorization["challenges"] if each["type"] == "http-01")
        (folder / challenge["token"]).write_text(f"{challenge['token']}.{self.thumbprint}")
        if look_ports:
            self.look(name, challenge["token"], *look_ports)
        if authorization["status"] == "pending":  # this CA reuses one in a hundred although it is told not to
            self.post(challenge["url"], {})
        key = ec.generate_private_key(ec.SECP256R1())
        csr = (
            x509.CertificateSigningRequestBuilder()
            .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]))
            .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
            .sign(key, hashes.SHA256())
            .public_bytes(serialization.Encoding.DER)
        )
        while (order := json.loads(self.post(url)[1]))["status"] == "pending":
            time.sleep(0.005)
        self.post(order["finalize"], {"csr": b64(csr)})
        while (order := json.loads(self.post(url)[1]))["status"] == "processing":
            time.sleep(0.005)
        return self.post(order["certificate"])[1]


class BareByPool(Bare):
    """The same by urllib3, which most programs use."""

    def __init__(self, directory: str, trust: Path) -> None:
        import urllib3

        self.pool = urllib3.PoolManager(ca_certs=str(trust), retries=False)
        super().__init__(directory, trust)

    def send(self, method: str, url: str, body: bytes | None = None) -> tuple[Any, bytes]:
        headers = {"Content-Type": "application/jose+json"} if body else {}
        reply = self.pool.request(method, url, body=body, headers=headers)
        self.nonce = reply.headers.get("Replay-Nonce", self.nonce)
        self.requests += 1
        return reply, reply.data


def bare(
    directory: str,
    trust: Path,
    root: Path,
    run: str,
    count: int,
    look_ports: tuple[int, int] | None,
    kind: type[Bare] = Bare,
    threads: int = 1,
) -> dict[str, Any]:
    clients = [kind(directory, trust) for _ in range(threads)]
    folder = root / ".well-known" / "acme-challenge"
    folder.mkdir(parents=True, exist_ok=True)
    for client in clients:
        client.certificate(f"{run}0.saltmarsh.test", folder, look_ports)  # imports done, connection warm
        client.requests = 0
    cpu, wall = usage(), time.perf_counter()
    todo = iter(names(count, run))

    def work(client: Bare) -> None:
        for name in todo:
            client.certificate(name, folder, look_ports)

    with ThreadPoolExecutor(threads) as pool:
        list(pool.map(work, clients))
    requests = sum(each.requests for each in clients)
    return {"cpu": usage() - cpu, "wall": time.perf_counter() - wall, "requests": {"all": requests}}


def part(*arguments: str) -> dict[str, Any]:
    done = subprocess.run([sys.executable, __file__, "--part", *arguments], capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stderr)
    figures: dict[str, Any] = json.loads(done.stdout)
    return figures


def busy(process: int) -> float:
    """CPU seconds that a process has taken so far."""
    import psutil

    times = psutil.Process(process).cpu_times()
    return float(times.user + times.system)


def whole_processes(world: Any, count: int) -> str:
    """Tell what a whole process takes that gets one certificate and puts it on the shelf alone; medians of `count`."""
    environment = {**os.environ, **world.env, "INKSTAMP_CONFIG": str(world.config)}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    with world.config.open("a") as file:
        for number in range(count + 1):
            file.write(f'\n[certificate.p{number}]\nnames = ["one{number}.saltmarsh.test"]\nauthority = "quayside"\n')
            file.write('via = "front"\ninstall = []\n')
    program = str(Path(sys.executable).parent / "inkstamp")
    rows: dict[str, Callable[[int], list[str]]] = {
        "python -c pass": lambda _: [sys.executable, "-c", "pass"],
        "inkstamp stamp, shelf alone": lambda number: [program, "stamp", f"p{number}", "--quiet"],
    }
    lines = [f"\n{'a whole process':<35}  seconds  CPU s"]
    for told, command in rows.items():
        walls, cpus = [], []
        for number in range(count + 1):
            before, began = os.times(), time.perf_counter()
            done = subprocess.run(command(number), env=environment, capture_output=True, text=True, check=False)
            if done.returncode:
                raise SystemExit(done.stderr)
            after = os.times()
            if number:
                walls.append(time.perf_counter() - began)
                cpus.append(after.children_user + after.children_system - before.children_user - before.children_system)
        lines.append(f"{told:<35}  {statistics.median(walls):7.3f}  {statistics.median(cpus):5.3f}")
    return "\n".join(lines)


def main(count: int) -> None:
    from world import real_world

    rows: list[tuple[str, dict[str, Any]]] = []
    with tempfile.TemporaryDirectory() as folder:
        ca_env = {"nonces_rejected": "0"}
        with real_world(Path(folder), ca_env=ca_env) as world:
            world.add_authority()
            runs = {"bare": 0, "pool": 0, "pools": 4, "looking": 0, "ours": 1, "four": 4, "sixteen": 16}
            processes = min(count, 9)
            alone = names(processes + 1, "one")
            root = world.site("all", [*alone, *(name for run in runs for name in names(count, run))])
            common = (
                str(world.config),
                str(world.trust),
                world.directory,
                str(root),
                str(count),
                f"{world.nameserver.port},{world.nginx.http_port}",
            )
            for run, at_once in runs.items():
                before = busy(world.ca.process)
                figures = part(run, str(at_once), *common)
                rows.append((run, {**figures, "ca": busy(world.ca.process) - before}))
            told_of_processes = whole_processes(world, processes)
    told = {
        "bare": "bare requests",
        "pool": "bare by urllib3",
        "pools": "bare by urllib3, 4 threads",
        "looking": "bare, with a look at each proof",
        "ours": "ours, one after another",
        "four": "ours, 4 at once",
        "sixteen": "ours, 16 at once",
    }
    base = rows[0][1]
    heading = f"{count} certificates of one name each"
    print(f"{heading:<35}  seconds  ms each  CPU ms each  CPU/bare  peak MB  requests each  CA's CPU")
    for run, figures in rows:
        requests = sum(figures["requests"].values()) / count
        print(f"{told[run]:<35}  {figures['wall']:6.2f}  {figures['wall'] / count * 1e3:7.1f}  "
              f"{figures['cpu'] / count * 1e3:11.2f}  {figures['cpu'] / base['cpu']:8.2f}  {figures['peak']:7.0f}  "
              f"{requests:13.2f}  {figures['ca'] / count * 1e3:8.2f}")  # fmt: skip
    print("requests by kind, ours one after another:", dict(rows)["ours"]["requests"])
    print(told_of_processes)


if __name__ == "__main__":
    if sys.argv[1:2] == ["--part"]:
        run_name, together, config_file, trust_file, directory_url, root_folder, how_many, ports = sys.argv[2:]
        if run_name in ("bare", "looking", "pool", "pools"):
            dns_port, http_port = map(int, ports.split(","))
            look_at = (dns_port, http_port) if run_name == "looking" else None
            by = BareByPool if run_name.startswith("pool") else Bare
            result = bare(
                directory_url, Path(trust_file), Path(root_folder), run_name, int(how_many), look_at, by,
                max(int(together), 1),
            )  # fmt: skip
        else:
            result = ours(Path(config_file), run_name, int(how_many), int(together))
        result["peak"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(json.dumps(result))
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 100)
