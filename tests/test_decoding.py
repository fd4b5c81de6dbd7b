"""Structs are read by several threads at once from the first moment."""

import ast
import subprocess
import sys

from test_layers import MODULES, SOURCE

MANY = """
import sys, threading
import msgspec
from inkstamp.decoding import from_json

sys.setswitchinterval(1e-6)
INSIDE = [("a", str), ("b", int | None, None), ("c", list[str], [])]
for _ in range(150):
    inner = msgspec.defstruct("Inner", INSIDE, frozen=True)
    outer = msgspec.defstruct("Outer", [("x", inner), ("y", list[inner]), ("z", dict[str, inner])], frozen=True)
    together, read = threading.Barrier(4), []
    def once(kind=outer):
        together.wait()
        read.append(from_json(b'{"x": {"a": "1"}, "y": [{"a": "2", "c": ["d"]}], "z": {"k": {"a": "3"}}}', kind))
    threads = [threading.Thread(target=once) for _ in range(4)]
    for thread in threads: thread.start()
    for thread in threads: thread.join()
    assert len(read) == 4 and read.count(read[0]) == 4
"""


def test_threads_that_read_a_struct_for_the_first_time_at_once_do_not_bring_the_process_down() -> None:
    done = subprocess.run([sys.executable, "-c", MANY], capture_output=True, text=True, timeout=120, check=False)
    assert (done.returncode, done.stderr) == (0, "")


def test_structs_are_decoded_in_the_one_place_that_is_safe_for_threads() -> None:
    """`decode` without a type, and decoders of what is no Struct, need no care."""
    elsewhere: list[str] = []
    for file in MODULES:
        for node in ast.walk(ast.parse(file.read_text())):
            if not isinstance(node, ast.Call) or file == SOURCE / "decoding.py":
                continue
            called = ast.unparse(node.func)
            kinds = [*node.args[1:], *(each.value for each in node.keywords if each.arg == "type")]
            kinds = node.args if called.endswith(".Decoder") else kinds
            decodes = called.startswith("msgspec.") and called.rpartition(".")[2] in {"decode", "convert", "Decoder"}
            if decodes and any(not ast.unparse(kind).startswith(("dict[", "tuple[", "list[")) for kind in kinds):
                elsewhere.append(f"{file.relative_to(SOURCE)} line {node.lineno}")
    assert elsewhere == []
