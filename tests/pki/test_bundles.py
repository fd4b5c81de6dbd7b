"""What a portal hands out: every form is read, nothing hostile does harm."""

import io
import struct
import subprocess
import sys
import zipfile
from pathlib import Path

import pytest
from authority_of_tests import NOW, Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.serialization import pkcs7, pkcs12
from hypothesis import given, settings
from hypothesis import strategies as st

from inkstamp.errors import BundleTrouble
from inkstamp.pki import csr, der, keys
from inkstamp.pki.bundles import MOST_BYTES, MOST_CERTIFICATES, Haul, open_into
from inkstamp.pki.certificates import facts, to_pem
from inkstamp.pki.chain import Pool, arrange, find_paths
from inkstamp.pki.kinds import KeyKind

ROOT = Signer("Root")
MIDDLE = Signer("Middle", ROOT)
LEAF = Signer("example.org", MIDDLE, ca=False, names=("example.org",))
ALL = [LEAF.certificate, MIDDLE.certificate, ROOT.certificate]
PEM = b"".join(map(to_pem, ALL))
KEY_PEM = keys.to_pem(LEAF.key)


def as_der(certificate: x509.Certificate) -> bytes:
    return certificate.public_bytes(serialization.Encoding.DER)


def zipped(files: dict[str, bytes], how: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", how) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return out.getvalue()


def sealed(passphrase: bytes | None, rounds: int = 20_000) -> bytes:
    builder = serialization.PrivateFormat.PKCS12.encryption_builder().kdf_rounds(rounds)
    how = builder.build(passphrase) if passphrase else serialization.NoEncryption()
    return pkcs12.serialize_key_and_certificates(b"site", LEAF.key, LEAF.certificate, ALL[1:], how)


def haul_of(data: bytes, passphrase: bytes | None = None) -> Haul:
    haul = Haul()
    open_into(haul, data, "given", lambda _where: passphrase)
    return haul


def found(data: bytes, passphrase: bytes | None = None) -> set[str]:
    return {each.certificate.subject.rfc4514_string() for each in haul_of(data, passphrase).found}


WHOLE = {"CN=example.org", "CN=Middle", "CN=Root"}
REQUEST = csr.to_pem(csr.make(keys.make(KeyKind.ECDSA_P256), csr.for_names(["example.org"])))


@pytest.mark.parametrize(
    "data",
    [
        PEM,
        b"subject: site\r\n" + PEM.replace(b"\n", b"\r\n") + b"thanks",
        b"\xef\xbb\xbf" + PEM,
        PEM.decode().encode("utf-16"),
        PEM.decode().encode("utf-16-le"),
        PEM.replace(b"CERTIFICATE-----", b"X509 CERTIFICATE-----"),
        b"-----BEGIN CERTIFICATE-----\nMIIcut off\n" + PEM,
        pkcs7.serialize_certificates(ALL, serialization.Encoding.DER),
        pkcs7.serialize_certificates(ALL, serialization.Encoding.PEM),
        pkcs7.serialize_certificates(ALL, serialization.Encoding.PEM).replace(b"PKCS7", b"CERTIFICATE"),
        zipped({"a/leaf (1).txt": to_pem(ALL[0]), "b.cer": as_der(ALL[1]), "c/": b"", "c/d/É.CRT": as_der(ALL[2])}),
        zipped({"inner.zip": zipped({"all.pem": PEM}, zipfile.ZIP_STORED), "logo.png": b"\x89PNG..", "r.txt": b"0 hi"}),
        zipped({"all.pem": PEM, "request.csr": REQUEST, "old.csr": csr.read(REQUEST, "x")}),
        sealed(None),
        PEM + KEY_PEM + REQUEST,
    ],
    ids=["PEM", "mail", "mark", "UTF-16", "UTF-16 bare", "older label", "cut block before", "PKCS#7 DER", "PKCS#7 PEM",
         "PKCS#7 mislabelled", "ZIP", "ZIP in ZIP", "ZIP with requests", "PKCS#12 open", "PEM with key"],
)  # fmt: skip
def test_all_certificates_are_found_whatever_form_they_come_in(data: bytes) -> None:
    assert found(data) == WHOLE


def test_a_sealed_pkcs12_is_opened_with_its_passphrase_alone_and_its_key_is_told_of() -> None:
    assert found(sealed(b"tide"), b"tide") == WHOLE
    assert haul_of(sealed(b"tide"), b"tide").keys == ["given"]
    for passphrase, told in ((None, "needs its passphrase"), (b"ebb", "another one")):
        with pytest.raises(BundleTrouble, match=told):
            found(sealed(b"tide"), passphrase)


def test_keys_are_noticed_and_never_read() -> None:
    der_key = LEAF.key.private_bytes(
        serialization.Encoding.DER, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    for data in (KEY_PEM, der_key, zipped({"k": KEY_PEM})):
        haul = haul_of(data)
        assert (len(haul.keys), haul.found, haul.nothing) == (1, [], [])
    assert haul_of(b"hello").nothing == ["given"]


def entry(name: str, data: bytes = PEM, **changes: int) -> bytes:
    made = zipped({name: data}, changes.pop("how", zipfile.ZIP_DEFLATED))
    if changes.pop("encrypted", 0):  # the flag stands at 6 in the local header, at 8 in the directory's
        at = made.index(b"PK\x01\x02")
        made = made[:6] + b"\x01\x00" + made[8 : at + 8] + b"\x01\x00" + made[at + 10 :]
    return made


def bomb() -> bytes:
    return zipped({f"{n}.pem": bytes(MOST_BYTES // 4) for n in range(6)})


def nested(depth: int) -> bytes:
    data = zipped({"all.pem": PEM})
    for _ in range(depth):
        data = zipped({"x.zip": data})
    return data


def slow_pkcs12() -> bytes:
    """A PKCS#12 whose MAC asks for two thousand million iterations."""
    data = sealed(b"tide")
    at = max(data.rfind(bytes([2, size])) for size in (1, 2, 3, 4))
    size = data[at + 1]
    grown = data[:at] + b"\x02\x04\x7f\xff\xff\xff" + data[at + 2 + size :]
    # The lengths around it grow with it: the outermost one and that of MacData, which is the last short sequence.
    more = len(grown) - len(data)
    outer = struct.unpack(">H", grown[2:4])[0] + more
    grown = grown[:2] + struct.pack(">H", outer) + grown[4:]
    mac = next(i for i in range(len(data) - 2, 0, -1) if data[i] == 0x30 and i + 2 + data[i + 1] == len(data))
    return grown[: mac + 1] + bytes([grown[mac + 1] + more]) + grown[mac + 2 :]


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (bomb(), "unpacks to more than 16 MiB"),
        (nested(4), "archives within archives"),
        (entry("../../etc/cron.d/x"), "outside of its folder"),
        (entry("/etc/x"), "outside of its folder"),
        (entry("..\\x"), "outside of its folder"),
        (entry("C:\\x"), "outside of its folder"),
        (entry("a", encrypted=1), "encrypted"),
        (entry("a", how=zipfile.ZIP_LZMA), "unusual way"),
        (entry("a") + b"PK\x01\x02" * 6000, "more than 5000 entries"),
        (entry("a")[:-30], "ZIP file is malformed"),
        (as_der(LEAF.certificate)[:-3], "malformed"),
        (b"\x30\x82\x10\x00" + bytes(4096), "malformed"),
        (to_pem(LEAF.certificate).replace(b"MII", b"MAA"), "malformed"),
        (b"-----BEGIN CERTIFICATE-----\n!!!!\n-----END CERTIFICATE-----\n", "not base64"),
        (b"\x30\x83\x08\x00\x00" + bytes(524_288), "malformed"),
        (pkcs7.serialize_certificates(ALL, serialization.Encoding.DER)[:-40], "PKCS#7"),
        (slow_pkcs12(), "absurd amount of work"),
        (PEM * (MOST_CERTIFICATES // 3 + 1), "more than 2000 certificates"),
    ],
    ids=["bomb", "nested", "dots", "absolute", "dots the Windows way", "drive", "encrypted", "LZMA", "entries",
         "cut ZIP", "cut DER", "zeros", "damaged PEM", "no base64", "large DER", "cut PKCS#7", "slow PKCS#12",
         "ten thousand"],
)  # fmt: skip
def test_what_is_hostile_or_broken_is_refused_with_a_clear_error(data: bytes, told: str) -> None:
    with pytest.raises(BundleTrouble) as caught:
        haul_of(data, b"tide")
    assert told in f"{caught.value.what} {caught.value.said}"
    assert caught.value.where.startswith("given")
    assert caught.value.advice


def test_iterations_are_counted_without_opening_anything() -> None:
    assert der.most_iterations(slow_pkcs12()) == 0x7FFFFFFF
    assert 1000 < der.most_iterations(sealed(b"tide")) < 1_000_000
    assert der.most_iterations(sealed(b"tide")[:-1]) > 1 << 60  # nothing can be told
    assert max(der.most_iterations(sealed(b"tide", 2_000)) for _ in range(200)) < 1_000_000, (
        "ciphertexts are no encodings"
    )


SEEDS = [
    as_der(LEAF.certificate), PEM, sealed(b"tide"), sealed(None), zipped({"a.pem": PEM, "b.cer": as_der(ALL[1])}),
    pkcs7.serialize_certificates(ALL, serialization.Encoding.DER),
]  # fmt: skip


@settings(max_examples=400)
@given(st.sampled_from(SEEDS), st.data())
def test_no_mutated_bundle_gives_anything_but_certificates_or_a_clean_error(seed: bytes, data: st.DataObject) -> None:
    mutated = bytearray(seed)
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, max(len(mutated) - 1, 0)))
        kind = data.draw(st.integers(0, 2))
        if kind == 0:
            mutated[at : at + 1] = bytes([data.draw(st.integers(0, 255))])
        elif kind == 1:
            del mutated[at : at + data.draw(st.integers(1, 40))]
        else:
            mutated[at:at] = mutated[at : at + data.draw(st.integers(1, 40))]
    try:
        haul = haul_of(bytes(mutated), b"tide")
    except BundleTrouble:
        return
    pool = Pool([each.certificate for each in haul.found], [ROOT.certificate])
    for each in haul.found:
        assert facts(each.certificate).sha256 == each.certificate.fingerprint(hashes.SHA256()).hex()
        assert find_paths(each.certificate, pool, (), NOW) or arrange(each.certificate, pool) is not None


def test_hostile_files_take_less_than_150_mb(tmp_path: Path) -> None:
    for number, data in enumerate((bomb(), PEM * 3400, b"\x30\x84\x7f\xff\xff\xff" + bytes(MOST_BYTES - 6))):
        (tmp_path / str(number)).write_bytes(data)
    script = (
        "import re, sys; from pathlib import Path; from inkstamp.pki.bundles import Haul, open_into\n"
        "from inkstamp.errors import BundleTrouble\n"
        "for file in sys.argv[1:]:\n"
        "    try: open_into(Haul(), Path(file).read_bytes(), file, lambda _: None)\n"
        "    except BundleTrouble as error: print(error.what)\n"
        # not ru_maxrss, which a child takes over from the parent that started it
        "print(re.search(r'VmHWM:\\s+(\\d+)', Path('/proc/self/status').read_text())[1])"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, *map(str, sorted(tmp_path.iterdir()))],
        capture_output=True,
        text=True,
        check=True,
    )
    *told, peak = done.stdout.splitlines()
    assert len(told) == 3
    assert int(peak) * 1024 < 150_000_000
