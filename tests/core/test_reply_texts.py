"""Replies in many wordings and languages, and what must hold for any reply: no good address is suppressed for our fault."""

import itertools
import unicodedata
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.replies import Cause, classify
from rust_gauge.core.replies import reply_pattern as module
from rust_gauge.core.replies.causes import ADDRESS_CAUSES
from rust_gauge.core.replies.reply_pattern import wording_of
from rust_gauge.core.replies.rules import built_in_rules
from rust_gauge.core.replies.vocabulary import clauses_of, notions, read_statement
from rust_gauge.core.suppression import DEFAULT_POLICY
from tests.vectors.replies import (
    DEVELOPED,
    EIGHTH,
    ELEVENTH,
    FIFTH,
    FOURTH,
    NINTH,
    SECOND,
    SET_ASIDE,
    SEVENTH,
    SIXTH,
    TENTH,
    THIRD,
)  # fmt: skip

ALL = [*DEVELOPED, *SET_ASIDE, *SECOND, *THIRD, *FOURTH, *FIFTH, *SIXTH, *SEVENTH, *EIGHTH, *NINTH, *TENTH, *ELEVENTH]


@pytest.mark.parametrize(("text", "cause", "permanence"), ALL)
def test_a_reply_is_classified(text: str, cause: str, permanence: str) -> None:
    found = classify(text)
    assert (str(found.cause), str(found.permanence)) == (cause, permanence), found.rule


# Codes about the recipient, with words about us or about this moment.
CODES = ("550 5.1.1", "550 5.1.10", "550 5.2.1", "553 5.1.3", "550-5.1.1", "smtp;550 5.1.1", "550 5.1.2")
OURS = (
    "message from {} rejected as spam", "your IP {} has a poor reputation", "{} is listed by bl.list.example",
    "the sender {} is blocked", "SPF check of {} failed", "DMARC policy of {} not met", "your domain {} is not trusted",
    "content of the message is prohibited", "too many messages from {}", "your server {} is not allowed to send here",
    "denied by security policy", "complaints about {}", "virus found", "relaying from {} denied",
    "your network {} sends unsolicited mail", "mail from {} refused", "STARTTLS is required",
)  # fmt: skip
NOW = (
    "temporarily unavailable", "try again later", "the mailbox is busy right now", "system error, please retry",
    "greylisted", "deferred due to maintenance", "server overloaded", "connection to the backend timed out",
    "mailbox full", "over quota", "rate limit of the user exceeded", "address lookup failed, come back later",
)  # fmt: skip


@pytest.mark.parametrize(("code", "words"), list(itertools.product(CODES, (*OURS, *NOW))))
def test_words_about_us_or_now_win_over_a_code_about_the_recipient(code: str, words: str) -> None:
    for name in ("news.d.example", "192.0.2.7", "kim@d.example"):
        found = classify(f"{code} {words.format(name)}")
        assert found.cause not in ADDRESS_CAUSES, found.rule


PEOPLE = (
    "user {} not found",
    "no such mailbox {}",
    "recipient {} unknown",
    "the account {} is closed",
    "unknown person {}",
)
OUR_DOMAIN = (
    "your domain {} does not exist", "domain of sender address {} not found", "the sender's domain {} has no MX",
    "invalid domain in MAIL FROM {}", "return path domain {} does not resolve", "HELO name {} is an invalid domain",
    "From domain {} not found", "this domain does not accept mail from {}",
)  # fmt: skip


@pytest.mark.parametrize(
    ("code", "words"), list(itertools.product((*CODES, "550", "550 5.1.8", "553 5.4.4"), (*PEOPLE, *OUR_DOMAIN)))
)
def test_no_reply_about_a_person_or_about_us_is_about_the_recipients_domain(code: str, words: str) -> None:
    for name in ("news.d.example", "kim@tidepost.example", "kim"):
        assert classify(f"{code} {words.format(name)}").cause is not Cause.NO_SUCH_DOMAIN


@given(st.sampled_from([text for text, _, _ in ALL]), st.lists(st.text(max_size=30), max_size=5))
def test_a_wording_does_not_depend_on_what_was_read_before(text: str, others: list[str]) -> None:
    module._KNOWN.clear()
    fresh = wording_of(text)
    for other in (*others, *text.split(), text):
        wording_of(other)
    assert wording_of(text) == fresh
    assert wording_of(fresh) == fresh


@pytest.mark.parametrize(("text", "cause", "permanence"), ALL)
def test_lines_joined_in_any_way_are_one_reply(text: str, cause: str, permanence: str) -> None:
    """The same words with line breaks that are real, escaped, or lost."""
    code, _, rest = text.partition(" ")
    if not (code.isdigit() and len(rest.split()) > 2):
        return
    enhanced, _, words = rest.partition(" ")
    head = f"{code}-{enhanced} " if enhanced[:1].isdigit() else f"{code}-"
    parts = (words if enhanced[:1].isdigit() else rest).rsplit(" ", 1)
    for joined in ("\n", "\\r\\n", " "):
        lines = joined.join([head + parts[0], head.replace("-", " ", 1) + parts[-1]])
        assert str(classify(lines).cause) == cause, lines


def test_each_statement_of_a_rule_decides_some_reply() -> None:
    """A statement that decides nothing is either superfluous or untested."""
    undecided = {(rule.name, says) for rule in built_in_rules().rules for says in rule.says}
    examples = [text for rule in built_in_rules().rules for text in rule.fits]
    for text in (*examples, *(text for text, _, _ in ALL)):
        clauses = clauses_of(wording_of(text))
        decided = classify(text).rule.removeprefix("rule:")
        undecided -= {
            (name, says) for name, says in undecided if name == decided and read_statement(says).fits(clauses)
        }
    assert undecided == set()


def test_case_and_accents_make_no_difference() -> None:
    for text, cause, _ in ALL:
        bare = "".join(c for c in unicodedata.normalize("NFD", text) if not "\u0300" <= c <= "\u036f")
        assert str(classify(unicodedata.normalize("NFC", bare)).cause) == cause, text
        assert str(classify(unicodedata.normalize("NFD", text)).cause) == cause, text


@pytest.mark.parametrize("text", ["recipient & nobody", "recipent & missing", "!sender", "", "recipient & & missing"])
def test_a_statement_that_cannot_be_read_is_explained(text: str) -> None:
    with pytest.raises(ValueError, match=r"notion|nothing"):
        read_statement(text)


def test_no_filter_stands_before_a_pattern() -> None:
    """With words beside its pattern a built-in rule could exclude what the pattern matches."""
    assert [rule.name for rule in built_in_rules().rules if rule.words and rule.pattern] == []


def test_no_reply_about_us_suppresses_by_the_default_policy() -> None:
    for code, words in itertools.product(CODES, OURS):
        found = classify(f"{code} {words.format('d.example')}")
        for rule in DEFAULT_POLICY.rules:
            if rule.fits(Kind.BOUNCED, found.cause, found.permanence, "", ""):
                assert str(rule.act) in ("nothing", "wait"), (code, words, rule.name)
                break


def test_the_documentation_lists_every_notion() -> None:
    text = (Path(__file__).parents[2] / "docs/mailflow.md").read_text()
    assert [name for name, notion in notions().items() if f"| `{name}` | {notion.help} |" not in text] == []
