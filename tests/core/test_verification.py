"""Outside verifiers: requests, answers, money, records."""

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.errors import InputError
from rust_gauge.core.mailflow.mapping import FieldRule
from rust_gauge.core.suppression.checks import Verdict
from rust_gauge.core.verification.asking import Template, answer_mapping, read_answers
from rust_gauge.core.verification.record import Outcome, record_of
from rust_gauge.core.verification.spending import affordable, from_micros, to_micros


def test_a_request_is_filled_in_and_percent_encoded() -> None:
    made = Template(
        "GET", "https://v.example/check/{domain}?address={address}", (("Authorization", "Bearer {secret}"),)
    ).fill(["a+b&c@tidepost.example"], "s3")
    assert made.url == "https://v.example/check/tidepost.example?address=a%2Bb%26c%40tidepost.example"
    assert made.headers == (("Authorization", "Bearer s3"),)
    assert made.body is None


def test_a_body_takes_one_address_or_many() -> None:
    one = Template("POST", "https://v.example", (), {"who": {"mail": "<{address}>"}, "n": 1})
    assert json.loads(one.fill(["a@d.example", "b@d.example"], "").body or b"") == {
        "who": {"mail": "<a@d.example>"}, "n": 1,
    }  # fmt: skip
    many = Template("POST", "https://v.example", (), {"ask": "{addresses}", "key": "{secret}"})
    assert many.takes_many
    assert json.loads(many.fill(["a@d.example", "b@d.example"], "s").body or b"") == {
        "ask": ["a@d.example", "b@d.example"], "key": "s",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("values", "field"),
    [(("PUT", "https://v.example/{address}"), "method"), (("GET", "https://v.example"), "url"),
     (("GET", "https://v.example/{address}", (), {}), "body"),
     (("POST", "https://v.example/{address}", (), {"ask": "{addresses}"}), "url")],
)  # fmt: skip
def test_a_request_that_cannot_be_is_refused(values: Any, field: str) -> None:
    with pytest.raises(InputError) as caught:
        Template(*values)
    assert caught.value.field == field


TABLE = {"open": "good", "closed": "bad", "unsure": "unknown", "full": "doubtful"}
FIELDS = {"verdict": FieldRule("$.mailbox.state", table=TABLE), "detail": FieldRule("$.mailbox.note")}


@pytest.mark.parametrize(
    ("word", "verdict"),
    [("open", Verdict.GOOD), ("CLOSED", Verdict.BAD), ("full", Verdict.DOUBTFUL), ("odd", Verdict.UNKNOWN)],
)
def test_the_verifiers_words_become_ours_and_unknown_ones_say_nothing(word: str, verdict: Verdict) -> None:
    mapping = answer_mapping(FIELDS, many=False)
    octets = json.dumps({"mailbox": {"state": word, "note": "so"}}).encode()
    found = read_answers(octets, mapping, TABLE, ["a@d.example"])["a@d.example"]
    assert (found.verdict, found.word, found.detail) == (verdict, word, "so")


def test_answers_about_many_go_to_the_address_that_they_name() -> None:
    fields = {
        "verdict": FieldRule("@.state", table=TABLE), "address": FieldRule("@.who"),
    }  # fmt: skip
    mapping = answer_mapping(fields, rows="$", each="$.answers[*]", many=True)
    octets = json.dumps(
        {"answers": [{"who": "B@d.example", "state": "closed"}, {"who": "x@d.example", "state": "open"},
                     {"who": "a@d.example", "state": "open"}, {"who": "c@d.example"}]}
    ).encode()  # fmt: skip
    found = read_answers(octets, mapping, TABLE, ["a@d.example", "b@d.example", "c@d.example"])
    assert {address: answer.verdict for address, answer in found.items()} == {
        "b@d.example": Verdict.BAD, "a@d.example": Verdict.GOOD,
    }  # fmt: skip


@pytest.mark.parametrize("octets", [b"", b"<html>", b"[]", b'{"mailbox": {}}', b'{"mailbox": 3}', b"null", b"\xff"])
def test_an_answer_without_a_verdict_is_none(octets: bytes) -> None:
    with pytest.raises(InputError):
        read_answers(octets, answer_mapping(FIELDS, many=False), TABLE, ["a@d.example"])


@given(st.binary(max_size=60) | st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["mailbox", "state", "x"]), inner),
).map(lambda value: json.dumps(value).encode()))  # fmt: skip
def test_any_answer_is_read_or_refused(octets: bytes) -> None:
    mapping = answer_mapping(FIELDS, many=False)
    try:
        found = read_answers(octets, mapping, TABLE, ["a@d.example"])
    except InputError:
        return
    assert found.keys() == {"a@d.example"}


@pytest.mark.parametrize(
    ("fields", "many", "words"),
    [({}, False, "where the verdict is"), ({"verdict": FieldRule("$.a"), "price": FieldRule("$.b")}, False, "no field"),
     ({"verdict": FieldRule("$.a")}, True, "which is which"),
     ({"verdict": FieldRule("$.a", table={"x": "fine"})}, False, "'fine' is not a verdict")],
)  # fmt: skip
def test_an_answer_that_could_not_be_read_is_refused_before(fields: Any, many: bool, words: str) -> None:
    with pytest.raises(InputError, match=words):
        answer_mapping(fields, many=many)


@pytest.mark.parametrize(
    ("wanted", "price", "today", "month", "day_budget", "month_budget", "allowed"),
    [
        (10, 2000, 0, 0, None, None, 10), (10, 2000, 0, 0, 9000, None, 4), (10, 2000, 5000, 5000, 9000, None, 2),
        (10, 2000, 0, 99_000, 9000, 100_000, 0), (10, 0, 50, 50, 0, 0, 10), (10, 2000, 10_000, 0, 9000, None, 0),
    ],
)  # fmt: skip
def test_a_budget_is_never_exceeded(
    wanted: int, price: int, today: int, month: int, day_budget: int | None, month_budget: int | None, allowed: int
) -> None:
    found = affordable(wanted, price, spent_today=today, spent_month=month, per_day=day_budget, per_month=month_budget)
    assert found == allowed


def test_money_is_counted_exactly() -> None:
    assert to_micros(0.0004) == 400
    assert to_micros("0.1") + to_micros(0.2) == to_micros(0.3)
    assert from_micros(1_500_000) == 1.5


def test_a_record_counts_only_verdicts_that_mail_followed() -> None:
    counts = [(Verdict.GOOD, None, 50), (Verdict.GOOD, Outcome.DELIVERED, 40), (Verdict.GOOD, Outcome.INVALID, 10),
              (Verdict.BAD, Outcome.DELIVERED, 1)]  # fmt: skip
    lines = {line.verdict: line for line in record_of(counts)}
    good = lines[Verdict.GOOD]
    assert (good.given, good.mailed, good.invalid, good.share) == (100, 50, 10, 0.2)
    low, high = good.interval or (0, 0)
    assert (round(low, 3), round(high, 3)) == (0.112, 0.330)  # Wilson, 10 of 50
    assert lines[Verdict.BAD].share == 0
    assert lines[Verdict.UNKNOWN].interval is None
