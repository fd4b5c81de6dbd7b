"""Keys of the configuration from environment variables."""

from pathlib import Path

import pytest

from inkstamp.config.config_file import ConfigFile
from inkstamp.config.entries import TABLES
from inkstamp.config.environment import settings_of
from inkstamp.config.load import parse
from inkstamp.errors import ConfigurationError
from inkstamp.locks import Locks

FILE = b"""
[authority.quayside]
directory = "https://ca.test/"
agree_terms = true
at_once = 3
[server.front-two]
kind = "nginx"
tls = "wide"
"""


def config_file(folder: Path, data: bytes | None) -> ConfigFile:
    path = folder / "inkstamp.toml"
    if data is not None:
        path.write_bytes(data)
    return ConfigFile(path, folder / "cache", Locks(folder / "locks"))


def test_a_variable_sets_a_key_over_the_file_and_an_empty_one_takes_it_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("INKSTAMP__AUTHORITY__QUAYSIDE__AT_ONCE", "7")
    monkeypatch.setenv("INKSTAMP__SERVER__FRONT_TWO__TLS", "")
    monkeypatch.setenv("INKSTAMP__SERVER__FRONT_TWO__RELOAD", "/bin/kill,-HUP,1")
    monkeypatch.setenv("INKSTAMP__SERVER__BOX__KIND", "files")
    monkeypatch.setenv("INKSTAMP__SERVER__BOX__FILES", '[{"path": "/srv/tls/both.pem", "form": "combined"}]')
    monkeypatch.setenv("INKSTAMP__RENEWAL__METRICS", "/run/inkstamp.prom")
    monkeypatch.setenv("INKSTAMP__SUBJECT__ORGANISATION", "Saltmarsh Hosting")
    monkeypatch.setenv("INKSTAMP__KEY_GROUP", "ssl-cert")
    found = config_file(tmp_path, FILE).current
    assert (found.authority["quayside"].at_once, found.authority["quayside"].agree_terms) == (7, True)
    assert (found.server["front-two"].tls, found.server["front-two"].reload) == (None, ("/bin/kill", "-HUP", "1"))
    assert found.server["box"].files[0].form == "combined"
    assert (found.renewal.metrics, found.subject.organisation, found.key_group) == (
        "/run/inkstamp.prom", "Saltmarsh Hosting", "ssl-cert",
    )  # fmt: skip


def test_the_environment_alone_is_a_configuration(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert config_file(tmp_path, None).whole.authority == {}
    monkeypatch.setenv("INKSTAMP__AUTHORITY__QUAYSIDE__DIRECTORY", "https://ca.test/")
    monkeypatch.setenv("INKSTAMP__AUTHORITY__QUAYSIDE__AGREE_TERMS", "yes")
    assert config_file(tmp_path, None).current.authority["quayside"].directory == "https://ca.test/"


def test_a_large_configuration_that_was_read_before_is_not_taken_for_that_of_another_environment(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    entries = [b'[certificate.c%d]\nnames = ["c%d.test"]\nvia = "by-hand"\n' % (each, each) for each in range(120)]
    many = FILE + b"".join(entries)
    assert config_file(tmp_path, many).current.authority["quayside"].at_once == 3
    monkeypatch.setenv("INKSTAMP__AUTHORITY__QUAYSIDE__AT_ONCE", "9")
    assert config_file(tmp_path, many).current.authority["quayside"].at_once == 9


@pytest.mark.parametrize(
    ("variable", "value", "said"),
    [
        ("INKSTAMP__AUTHORTY__QUAYSIDE__AT_ONCE", "3", "names no key"),
        ("INKSTAMP__RENEWAL", "3", "names no key"),
        ("INKSTAMP__HOME", "/srv", "INKSTAMP_HOME"),
        ("INKSTAMP__", "3", "names no key"),
        ("INKSTAMP__SERVER__FRONT__KIND__MORE", "nginx", "names no key"),
        ("INKSTAMP__SERVER__FRONT_TWO__KNID", "nginx", "did you mean “kind”?"),
        ("INKSTAMP__AUTHORITY__QUAYSIDE__AT_ONCE", "many", "is a number"),
        ("INKSTAMP__AUTHORITY__QUAYSIDE__AGREE_TERMS", "perhaps", "true or false"),
        ("INKSTAMP__SERVER__FRONT_TWO__FILES", "[{", "is no JSON"),
        ("INKSTAMP__SERVER__FRONT_TWO__FILES", "a\x1b[31m", "cannot be used"),
        ("INKSTAMP__SERVER__FRONT_TWO__TLS", "ancient", "ancient"),
        ("INKSTAMP__SERVER__FRONT_TWO__SUDO", '{"a": 1}', "bool"),
    ],
)
def test_a_variable_that_cannot_be_used_is_named_in_one_error(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, variable: str, value: str, said: str
) -> None:
    monkeypatch.setenv(variable, value)
    with pytest.raises(ConfigurationError) as refused:
        parse(FILE, tmp_path / "inkstamp.toml")
    assert variable in refused.value.where
    assert said in f"{refused.value.what} {refused.value.said} {refused.value.advice}"


def test_every_table_of_the_file_can_be_named_by_a_variable() -> None:
    for table, kind in TABLES.items():
        for key in kind.__struct_fields__:
            name = f"INKSTAMP__{table}__a_b__{key}".upper()
            (found,) = settings_of({name: ""})
            assert (found.path, found.value) == ((table, "a-b", key), None)
