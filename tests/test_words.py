"""The program speaks the trade's language: words of a dialect that it once had do not come back."""

import argparse
import re

import pytest
from spoken import messages, parsers

NEVER = re.compile(
    r"\b(mend(s|ed|ing)?|vouch(es)?|stands for|stands? (alone|there|behind|beside|without)|is away|goes on with|"
    r"nobody is there|takes? (in|up) |took in|taken in|otherwise than|for ever|anew|looked at|who does not say|"
    r"put (back|up)|goes back|went back|cut short|of ours|is no moment|words above|fit to be)\b"
)
TERMS = (
    "self-signed",
    "incomplete chain",
    "intermediate missing",
    "expired",
    "hostname mismatch",
    "session resumption",
    "clients without SNI",
    "key exchange",
    "post-quantum",
    "OCSP",
    "HSTS header",
    "no redirect from HTTP to HTTPS",
    "challenge response",
    "validation file",
    "validate",
    "CSR",
    "external account binding (EAB)",
    "deactivate",
    "revoke",
    "reissue",
    "resum",
    "unreachable",
    "state",
    "data directory",
    "JSON lines",
    "internal error",
    "rollover",
)


def test_no_message_and_no_help_page_has_a_word_of_the_dialect() -> None:
    said = [*messages(), *((each.prog, each.format_help()) for each in parsers())]
    assert [f"{where}: {found[0]}" for where, text in said if (found := NEVER.search(text))] == []


@pytest.mark.parametrize("term", TERMS)
def test_whoever_searches_for_the_usual_word_finds_it(term: str) -> None:
    assert any(term in text for _, text in messages())


def test_every_argument_says_what_it_is_and_every_help_line_stands_by_itself() -> None:
    poor = []
    for parser in parsers():
        for action in parser._actions:
            told = action.help or ""
            if told == argparse.SUPPRESS or isinstance(action, argparse._HelpAction | argparse._SubParsersAction):
                continue
            if not told or re.match(r"(it|its|of|as) ", told):
                poor.append(f"{parser.prog} {action.dest}: {told!r}")
    assert poor == []
