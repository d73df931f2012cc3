"""Events, their identity, counting, rates, providers."""

from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.dns import AnswerStatus, drive
from rust_gauge.core.errors import EventError
from rust_gauge.core.mailflow import (
    NO_MAIL,
    UNRESOLVED,
    Event,
    FlowCounts,
    Kind,
    Tally,
    difference,
    find_provider,
    make_event,
    rate,
)
from rust_gauge.core.replies import Cause, Permanence
from tests.answers import answering

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


def event(**changes: Any) -> Event:
    values: dict[str, Any] = {
        "kind": Kind.BOUNCED,
        "time": NOW - timedelta(hours=1),
        "domain": "news.glasswort.example",
        "recipient": "a@tidepost.example",
        "message_id": "m1",
        "diagnostic": "550 5.1.1 no such mailbox",
    }
    return make_event(now=NOW, **{**values, **changes})


def test_an_event_is_normalised_and_classified() -> None:
    made = event(domain="NEWS.Glasswort.example.", recipient='"A" <a@TidePost.example>', sending_ip="2001:DB8:0::1")
    assert (made.domain, str(made.recipient), made.sending_ip) == (
        "news.glasswort.example",
        "a@tidepost.example",
        "2001:db8::1",
    )
    assert (made.cause, made.permanence, made.cause_rule) == (
        Cause.NO_SUCH_MAILBOX,
        Permanence.PERMANENT,
        "rule:no-mailbox",
    )


@pytest.mark.parametrize(
    ("changes", "field"),
    [
        ({"time": NOW + timedelta(minutes=11)}, "time"),
        ({"time": datetime(1999, 12, 31, tzinfo=UTC)}, "time"),
        ({"time": datetime(2026, 11, 20, 8)}, "time"),
        ({"domain": "nodot"}, "domain"),
        ({"recipient": "nobody"}, "recipient"),
        ({"sending_ip": "1.2.3"}, "sending_ip"),
    ],
)
def test_a_value_that_cannot_be_right_is_refused_with_its_field(changes: dict[str, Any], field: str) -> None:
    with pytest.raises(EventError) as caught:
        event(**changes)
    assert caught.value.field == field


def test_a_clock_that_runs_a_little_ahead_is_borne() -> None:
    assert event(time=NOW + timedelta(minutes=9)).occurred_at > NOW


@pytest.mark.parametrize(
    "changes",
    [
        {"recipient": "A@tidepost.EXAMPLE"},
        {"time": (NOW - timedelta(hours=1)).astimezone()},
        {"diagnostic": "another text"},
        {"domain": "news.glasswort.example."},
    ],
)
def test_the_same_event_told_again_has_the_same_identity(changes: dict[str, Any]) -> None:
    assert event(**changes).identity == event().identity


@pytest.mark.parametrize(
    "changes",
    [
        {"kind": Kind.DELAYED},
        {"time": NOW},
        {"recipient": "b@tidepost.example"},
        {"message_id": "m2"},
        {"attempt": 2},
        {"stream": "other"},
        {"id": "x"},
    ],
)
def test_another_event_has_another_identity(changes: dict[str, Any]) -> None:
    assert event(**changes).identity != event().identity


def test_a_sources_own_id_stands_for_all_but_kind_time_and_recipient() -> None:
    assert event(id="x", message_id="m1").identity == event(id="x", message_id="other").identity
    assert event(id="x").identity != event(id="x", kind=Kind.DELAYED).identity


@pytest.mark.parametrize(
    ("changes", "cause", "permanence"),
    [
        ({"cause": Cause.CONTENT, "permanence": Permanence.PERMANENT}, Cause.CONTENT, Permanence.PERMANENT),
        ({"cause": Cause.CONTENT}, Cause.CONTENT, Permanence.PERMANENT),
        ({"diagnostic": ""}, Cause.UNCLASSIFIED, Permanence.TRANSIENT),
        ({"kind": Kind.DELAYED}, Cause.NO_SUCH_MAILBOX, Permanence.TRANSIENT),
        ({"kind": Kind.DELIVERED}, Cause.NONE, Permanence.NONE),
    ],
)
def test_a_stated_cause_is_kept_and_doubt_never_condemns(
    changes: dict[str, Any], cause: Cause, permanence: Permanence
) -> None:
    made = event(**changes)
    assert (made.cause, made.permanence) == (cause, permanence)


def test_events_are_counted_by_hour_in_key_order() -> None:
    tally = Tally()
    for minute in (5, 50, 65):
        tally.add(event(time=NOW - timedelta(hours=3) + timedelta(minutes=minute)), "tidepost.example")
    tally.add(event(kind=Kind.DELIVERED, time=NOW - timedelta(hours=3)), "tidepost.example", weight=7)
    keys = [(key.hour.hour, str(key.kind), n) for key, n in tally]
    assert keys == [(9, "bounced", 2), (9, "delivered", 7), (10, "bounced", 1)]


@pytest.mark.parametrize(
    ("records", "provider"),
    [
        ({"d.example MX": ["10 mx1.in.tidepost.example."]}, "tidepost.example"),
        ({"d.example MX": ["20 b.other.example.", "10 a.tidepost.example."]}, "tidepost.example"),
        ({"d.example MX": ["10 b.other.example.", "10 a.tidepost.example."]}, "tidepost.example"),
        ({"d.example MX": ["0 ."]}, NO_MAIL),
        ({"d.example A": ["192.0.2.1"]}, "d.example"),
        ({"d.example AAAA": ["2001:db8::1"]}, "d.example"),
        ({"d.example TXT": ["x"]}, NO_MAIL),
        ({}, NO_MAIL),
    ],
)
def test_the_provider_is_the_registered_domain_of_the_best_mx(records: dict[str, list[str]], provider: str) -> None:
    assert drive(find_provider("d.example"), answering(records)) == provider


def test_a_provider_is_unresolved_when_nobody_answers() -> None:
    assert drive(find_provider("d.example"), answering({}, {"d.example": AnswerStatus.TIMEOUT})) == UNRESOLVED


def test_a_rate_has_an_interval_that_its_size_allows() -> None:
    few, many = rate(1, 12), rate(100_000, 1_200_000)
    assert few is not None
    assert many is not None
    assert few.value == many.value
    assert few.high - few.low > 50 * (many.high - many.low)
    assert rate(0, 0) is None
    with pytest.raises(ValueError, match="negative"):
        rate(-1, 5)


@given(st.integers(0, 10_000), st.integers(1, 10_000))
def test_an_interval_contains_its_rate(count: int, total: int) -> None:
    found = rate(min(count, total), total)
    assert found is not None
    assert 0 <= found.low <= found.value + 1e-12
    assert found.value - 1e-12 <= found.high <= 1


def test_withheld_mail_is_no_bounce() -> None:
    counts = FlowCounts.of(
        [
            (Kind.DELIVERED, Permanence.NONE, 90),
            (Kind.BOUNCED, Permanence.PERMANENT, 6),
            (Kind.BOUNCED, Permanence.TRANSIENT, 4),
            (Kind.WITHHELD, Permanence.NONE, 50),
            (Kind.DELAYED, Permanence.TRANSIENT, 10),
        ]
    )
    assert counts.attempted == 100
    assert counts.permanent_rate is not None
    assert counts.permanent_rate.value == 0.06
    assert counts.complaint_rate is not None
    assert (counts + counts).withheld == 100


def test_a_difference_is_told_only_when_its_interval_leaves_zero_out() -> None:
    few, many = rate(2, 100), rate(9, 100)
    assert few is not None
    assert many is not None
    assert not difference(few, few).can_be_told
    assert difference(few, few).value == 0
    large, larger = rate(200, 10_000), rate(300, 10_000)
    assert large is not None
    assert larger is not None
    found = difference(large, larger)
    assert found.can_be_told
    assert 0 < found.low < found.value < found.high
    back = difference(larger, large)
    assert (back.low, back.high) == (pytest.approx(-found.high), pytest.approx(-found.low))
