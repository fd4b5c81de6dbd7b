"""The worst inputs that were found: each ends in a result or in one of our own errors (tools/fuzz.py finds more)."""

from pathlib import Path

import pytest
from fuzzing import CORPUS, READERS, trouble_with

pytestmark = pytest.mark.filterwarnings("ignore")  # as the program has it: what libraries warn of is strangers' doing

PIECES = (
    b'a "',
    b"a;",
    b"a\n",
    b"a ",
    b"a{",
    b"${",
    b"\\\n",
    b"<a>\n",
    b'a = "b" + ',
    b"a(",
    b"[",
    b"-----BEGIN ",
    b"key a { ",
)
_MUCH = 150_000
"""Bytes: what grows with their square would take minutes for as many."""


@pytest.mark.parametrize("name", READERS)
def test_what_was_hard_to_read_once_ends_in_a_result_or_an_error_of_ours(name: str) -> None:
    reader = READERS[name]
    kept = sorted((CORPUS / name).glob("*"))
    troubles = {file.name: trouble_with(reader, file.read_bytes()) for file in kept}
    troubles |= {f"seed {number}": trouble_with(reader, seed) for number, seed in enumerate(reader.seeds)}
    troubles |= {f"much of {piece!r}": trouble_with(reader, piece * (_MUCH // len(piece))) for piece in PIECES}
    assert {each: trouble for each, trouble in troubles.items() if trouble} == {}


def test_every_folder_of_the_corpus_belongs_to_a_reader() -> None:
    assert {each.name for each in Path(CORPUS).iterdir()} <= set(READERS)
