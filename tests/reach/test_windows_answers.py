"""What a Windows Server answers is somebody else's text: read within bounds, or refused in our words."""

import base64
import json
import re
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inkstamp.errors import FileTrouble, InkStampError, ReachTrouble, ServerTrouble
from inkstamp.reach.process import Ended
from inkstamp.reach.windows.host import WindowsHost
from inkstamp.reach.windows.state import Binding, StoreItem, WindowsState, pem_of


class Answers:
    """In the place of a connection: gives what a test says, with the mark of the request."""

    def __init__(self, output: str | bytes, complaint: bytes = b"", status: int = 0) -> None:
        self.url, self.name = "ssh://iis1.test", "iis1.test"
        self._output, self._complaint, self._status = output, complaint, status
        self.sent = b""

    def send(self, command: str, data: bytes, **_: object) -> Ended:
        self.command, self.sent = command, data
        found = re.search(rb"'([0-9a-f]{16})'", data)
        assert found is not None
        mark = found[1].decode()
        given = self._output if isinstance(self._output, bytes) else self._output.replace("MARK", mark).encode()
        return Ended(self._status, given, self._complaint, False)

    def lost(self, complaint: str, *, begun: bool) -> ReachTrouble:
        return ReachTrouble("lost" if begun else "not there", said=complaint)


def host(answers: Answers) -> WindowsHost:
    made = WindowsHost("ssh://iis1.test")
    made._connection = answers  # type: ignore[assignment]
    return made


def framed(answer: object) -> str:
    text = base64.b64encode(answer if isinstance(answer, bytes) else json.dumps(answer).encode()).decode()
    return f"inkstamp-begins MARK\r\n{text}\r\nMARK inkstamp-ends\r\n"


DONE: dict[str, Any] = {"done": True, "answer": {}}


def test_what_is_sent_is_one_line_of_ascii_and_no_part_of_it_is_an_argument() -> None:
    answers = Answers(framed(DONE))
    host(answers).change({"import": {"password": "gulls'; Remove-Item *"}, "bindings": []})
    assert answers.command == "powershell -NoProfile -NonInteractive -Command -"
    assert answers.sent.isascii()
    assert answers.sent.count(b"\n") == 2
    assert b"gulls" not in answers.sent
    assert answers.sent.endswith(b"\nexit\n")


@pytest.mark.parametrize(
    ("output", "kind", "told"),
    [
        ("", ReachTrouble, "not there"),
        ("inkstamp-begins MARK\r\nAAAA", ReachTrouble, "lost"),
        ("inkstamp-begins other\r\nAAAA\r\nother inkstamp-ends", ReachTrouble, "lost"),
        (framed(b"no json"), ServerTrouble, "cannot be understood"),
        (framed([]), ServerTrouble, "cannot be understood"),
        (framed({"done": True, "answer": {"sites": 5}}), ServerTrouble, "cannot be understood"),
        (framed({"done": True, "answer": {"sites": [{"name": "a"}]}}), ServerTrouble, "cannot be understood"),
        (framed(b"[" * 100_000), ServerTrouble, "cannot be understood"),
        ("inkstamp-begins MARK\r\nA\r\nMARK inkstamp-ends", ServerTrouble, "cannot be understood"),
        (framed({"done": False, "error": "Zugriff\x1b[2J"}), ServerTrouble, "refuses to tell its sites"),
    ],
)
def test_an_answer_that_is_none_is_one_error_of_ours(output: str, kind: type[InkStampError], told: str) -> None:
    with pytest.raises(kind, match=told) as caught:
        host(Answers(output)).state()
    assert "\x1b" not in caught.value.said


@settings(max_examples=200, deadline=None)
@given(st.binary(max_size=300), st.binary(max_size=100), st.sampled_from([0, 1, 127, 255, 9009]))
def test_any_bytes_are_an_error_of_ours(output: bytes, complaint: bytes, status: int) -> None:
    with pytest.raises(InkStampError):
        host(Answers(output, complaint, status)).state()


def test_a_machine_without_powershell_and_a_file_that_is_refused_are_told_apart() -> None:
    with pytest.raises(ReachTrouble, match=r"PowerShell of iis1\.test does not answer"):
        host(Answers("", b"'powershell' is not recognized as an internal or external command", 1)).state()
    refused = {"done": False, "error": "inkstamp: C:\\x is a link or a junction"}
    with pytest.raises(FileTrouble, match=r"C:\\x is a link or a junction on iis1\.test"):
        host(Answers(framed(refused))).plant("C:\\", ("x", "t"), b"")


def test_what_cannot_be_read_in_a_store_or_a_binding_counts_as_not_there() -> None:
    odd = StoreItem("My", "AB", "!!!")
    state = WindowsState(certificates=(odd,))
    assert pem_of(state, "My/AB") is None
    assert pem_of(state, "My/CD") is None
    for text in ("", "x", "*:x:a", "::", "1:2:3:4", "*:99999999999:a.test"):
        each = Binding("https", text)
        assert isinstance(each.port, int)
        assert isinstance(each.host + each.address, str)
