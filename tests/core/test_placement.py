"""Copies for seeds, what a receiver did to one, and what copies say about a provider."""

import random
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dkim import split_message
from rust_gauge.core.errors import InputError
from rust_gauge.core.placement import (
    FOUND,
    MARK_FIELD,
    OPEN,
    CopyPlan,
    ExtraField,
    Outcome,
    make_copy,
    new_mark,
    read_arrival,
    sum_up,
)
from rust_gauge.core.placement.copies import MAX_COPIED, is_mark
from rust_gauge.core.placement.turns import Point, find_turn

NOW = datetime(2026, 11, 30, 12, 0, tzinfo=UTC)
MARK = new_mark(bytes(range(10)))
RAW = (
    b"Received: from a by b; Mon, 30 Nov 2026 11:00:00 +0000\r\n"
    b"DKIM-Signature: v=1; d=old.example\r\n"
    b"From: Theatre <news@glasswort.example>\r\nTo: list@glasswort.example\r\nCc: x@d.example\r\n"
    b"Message-ID: <1@old.example>\r\nDate: Mon, 30 Nov 2026 10:59:00 +0000\r\n"
    b"Subject: The spring\r\n season\r\nX-Template: spring\r\nList-Unsubscribe: <https://glasswort.example/u>\r\n"
    b"\r\nCome and see.\r\n.\r\n"
)


def copy(plan: CopyPlan | None = None, raw: bytes = RAW) -> bytes:
    return make_copy(raw, plan or CopyPlan(), mark=MARK, to="seed@tidepost.example", domain="office.example", now=NOW)


def header(raw: bytes) -> dict[str, str]:
    return {field.name: field.text for field in split_message(raw).fields}


def test_a_copy_is_the_message_on_a_way_of_its_own() -> None:
    made = header(copy())
    assert made == {
        "Date": "Mon, 30 Nov 2026 12:00:00 +0000", "From": "Theatre <news@glasswort.example>",
        "To": "seed@tidepost.example", "Message-ID": f"<{MARK}@office.example>", MARK_FIELD: MARK,
        "Subject": "The spring season", "X-Template": "spring", "List-Unsubscribe": "<https://glasswort.example/u>",
    }  # fmt: skip
    assert split_message(copy()).body == split_message(RAW).body


def test_the_outlets_from_and_fields_take_the_place_of_the_messages_own() -> None:
    extra = (ExtraField("x-template", "winter"), ExtraField("Feedback-ID", "7"))
    made = header(copy(CopyPlan("Tïcket desk", "desk@glasswort.example", keep_custom=False, extra=extra)))
    assert made["From"].endswith("<desk@glasswort.example>")
    assert made["From"].isascii()
    assert (made["x-template"], made["Feedback-ID"]) == ("winter", "7")
    assert "X-Template" not in made
    assert made["Subject"] == "The spring season"
    assert "List-Unsubscribe" in made


@pytest.mark.parametrize(
    ("raw", "plan", "what"),
    [
        (b"\r\nonly text", CopyPlan(), "no header"),
        (b"Subject: x\r\n\r\ny", CopyPlan(), "no From"),
        (b"From: a@b.example\r\n\r\n" + b"x" * MAX_COPIED, CopyPlan(), "10 MB"),
    ],
)
def test_what_cannot_be_copied_says_why(raw: bytes, plan: CopyPlan, what: str) -> None:
    with pytest.raises(InputError) as caught:
        copy(plan, raw)
    assert what in f"{caught.value} {caught.value.why}"


@pytest.mark.parametrize(
    ("name", "value"), [("a b", "x"), ("", "x"), ("From", "x"), ("X-A", "x\r\nBcc: y"), ("X", "é" * 500)]
)
def test_fields_that_cannot_be_sent_are_refused(name: str, value: str) -> None:
    with pytest.raises(InputError):
        ExtraField(name, value)


@given(st.binary(max_size=300), st.binary(min_size=10, max_size=10))
def test_every_copy_is_found_by_its_mark_alone(body: bytes, random: bytes) -> None:
    mark = new_mark(random)
    made = make_copy(
        b"From: a@b.example\r\nPlacement-Mark: other\r\n\r\n" + body, CopyPlan(), mark=mark, to="s@d.example",
        domain="d.example", now=NOW,
    )  # fmt: skip
    assert [field.text for field in split_message(made).all(MARK_FIELD)] == [mark]
    assert is_mark(mark)


def arrived(changed: bytes, top: bytes = b"") -> bytes:
    way = (
        b"Received: from out.driftline.example (out [192.0.2.9])\r\n\tby mx.tidepost.example with ESMTPS id 7;\r\n"
        b"\tMon, 30 Nov 2026 12:00:41 +0000\r\n"
        b"Received: from desk by out.driftline.example with ESMTPSA;\r\n Mon, 30 Nov 2026 12:00:01 +0000\r\n"
    )
    return top + way + changed


def test_the_way_is_read_from_its_beginning_with_the_time_of_each_step() -> None:
    hops = read_arrival(copy(), arrived(copy())).hops
    assert [(hop.from_host, hop.by_host, hop.protocol, hop.seconds) for hop in hops] == [
        ("desk", "out.driftline.example", "ESMTPSA", None),
        ("out.driftline.example", "mx.tidepost.example", "ESMTPS", 40.0),
    ]


def test_only_the_receivers_own_results_count() -> None:
    top = (
        b"Authentication-Results: mx.tidepost.example (a (nested) comment);\r\n spf=softfail (not; allowed)\r\n"
        b"  smtp.mailfrom=news@glasswort.example;\r\n dkim=pass header.d=glasswort.example header.s=s1;\r\n dmarc=pass\r\n"
        b"Authentication-Results: forged.example; dmarc=fail\r\n"
    )
    found = read_arrival(copy(), arrived(copy(), top)).verified
    assert [(each.method, each.result, each.properties) for each in found] == [
        ("spf", "softfail", "smtp.mailfrom=news@glasswort.example"),
        ("dkim", "pass", "header.d=glasswort.example header.s=s1"),
        ("dmarc", "pass", ""),
    ]


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (lambda raw: raw, []),
        (lambda raw: raw.replace(b"\r\n", b"\n"), []),
        (lambda raw: raw + b"\r\n\r\n", []),
        (lambda raw: raw.replace(b"The spring\r\n season", b"The spring season"), []),
        (lambda raw: raw.replace(b"Subject: The", b"Subject: [SPAM?] The"),
         [("Subject", "The spring season", "[SPAM?] The spring season")]),
        (lambda raw: raw.replace(b"X-Template: spring\r\n", b""), [("X-Template", "spring", "")]),
        (lambda raw: raw.replace(b"X-Template", b"X-Checked: no\r\nX-Template"), [("X-Checked", "", "no")]),
        (lambda raw: raw + b"\r\nChecked by a scanner.\r\n", [("body", "", "\nChecked by a scanner.")]),
        (lambda raw: raw.replace(b"Come and see", b"Come and look"),
         [("body", "Come and see.", "Come and look.")]),
    ],
)  # fmt: skip
def test_what_was_changed_on_the_way_is_told(change: object, expected: list[tuple[str, str, str]]) -> None:
    found = read_arrival(copy(), arrived(change(copy()))).changes  # type: ignore[operator]
    assert [(each.where, each.before, each.after) for each in found] == expected


@given(st.binary(max_size=400), st.binary(max_size=400))
def test_whatever_arrives_is_read(sent: bytes, received: bytes) -> None:
    read_arrival(sent, received)
    assert read_arrival(sent, sent).changes == ()


def test_sums_count_only_what_the_provider_did_and_say_how_little_that_is() -> None:
    (kestrel, tide) = sum_up(
        [("Tidepost", Outcome.INBOX, 3), ("Kestrelbox", Outcome.SPAM, 1), ("Kestrelbox", Outcome.INBOX, 1),
         ("Kestrelbox", Outcome.MISSING, 1), ("Kestrelbox", Outcome.REFUSED, 1), ("Kestrelbox", Outcome.UNREAD, 9),
         ("Kestrelbox", Outcome.NOT_SENT, 2), ("Kestrelbox", Outcome.SENT, 4), ("Kestrelbox", Outcome.QUEUED, 1)]
    )  # fmt: skip
    assert tide.inbox is not None and (tide.inbox.count, tide.inbox.total) == (3, 3)
    assert tide.inbox.low < 0.45  # three of three say little
    assert (kestrel.judged, kestrel.open) == (4, 5)
    assert kestrel.spam is not None and kestrel.missing is not None
    assert (kestrel.spam.value, kestrel.missing.value) == (0.25, 0.5)
    (nobody,) = sum_up([("Orchard Mail", Outcome.UNREAD, 3)])
    assert (nobody.inbox, nobody.judged) == (None, 0)


@given(st.lists(st.tuples(st.sampled_from(["a", "b"]), st.sampled_from(list(Outcome)), st.integers(0, 50))))
def test_each_copy_is_in_one_sum(counted: list[tuple[str, Outcome, int]]) -> None:
    sums = sum_up(counted)
    assert sum(sum(each.counts.values()) for each in sums) == sum(number for _, _, number in counted)
    for each in sums:
        apart = each.counts.get(Outcome.UNREAD, 0) + each.counts.get(Outcome.NOT_SENT, 0)
        assert each.judged + each.open + apart == sum(each.counts.values())
    assert not FOUND & OPEN


def series(*parts: tuple[int, int, int]) -> list[Point]:
    """Points, a day apart, from (number of runs, in the inbox of each, judged of each)."""
    pairs = [(inbox, judged) for number, inbox, judged in parts for _ in range(number)]
    return [Point(NOW + timedelta(days=day), inbox, judged) for day, (inbox, judged) in enumerate(pairs)]


@pytest.mark.parametrize(
    ("points", "day", "worse"),
    [
        (series((20, 4, 4), (5, 1, 4)), 20, True),
        (series((10, 0, 3), (10, 3, 3)), 10, False),
        (series((8, 4, 4), (2, 0, 0), (8, 0, 4)), 10, True),  # runs of which nothing is known cut nothing
        (series((60, 19, 20), (30, 14, 20)), 60, True),
        (series((801, 4, 4), (399, 2, 4)), 801, True),
    ],
)
def test_the_run_at_which_placement_turned_is_found(points: list[Point], day: int, worse: bool) -> None:
    turn = find_turn(points)
    assert turn is not None
    assert (turn.at, turn.is_worse) == (NOW + timedelta(days=day), worse)
    assert turn.chance <= 0.01
    assert turn.last_before < turn.at


@pytest.mark.parametrize(
    "points",
    [[], series((1, 4, 4)), series((30, 4, 4)), series((30, 0, 4)), series((3, 4, 4), (1, 0, 4)), series((9, 0, 0)),
     series((2, 1, 1), (2, 0, 1))],
)  # fmt: skip
def test_without_enough_to_tell_nothing_turned(points: list[Point]) -> None:
    assert find_turn(points) is None


def test_runs_without_a_turn_are_hardly_ever_said_to_turn() -> None:
    dice = random.Random(7)
    found = 0
    for _ in range(100):
        share = dice.uniform(0.2, 0.95)
        days = [sum(dice.random() < share for _ in range(4)) for _ in range(30)]
        found += find_turn([Point(NOW + timedelta(days=day), inbox, 4) for day, inbox in enumerate(days)]) is not None
    assert found <= 4  # one in a hundred is expected


@given(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 6)), max_size=12))
def test_a_turn_tells_the_same_copies_as_its_runs(pairs: list[tuple[int, int]]) -> None:
    points = [Point(NOW + timedelta(days=day), min(pair), max(pair)) for day, pair in enumerate(pairs)]
    turn = find_turn(points)
    if turn is not None:
        assert turn.before.total + turn.after.total == sum(point.judged for point in points)
        assert turn.before.count + turn.after.count == sum(point.inbox for point in points)
