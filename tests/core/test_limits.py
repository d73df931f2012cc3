"""Sending limits: use, forecasts, and what replies say of limits and of proof."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.replies.limits import StatedLimit, Unproven, stated_limit, unproven
from rust_gauge.core.sending.limits import Period, free_at, use_of, used_in, with_cleared

NOW = datetime(2026, 12, 1, 12, 30, tzinfo=UTC)


def hour(back: int) -> datetime:
    """The full hour so many hours before that of now."""
    return NOW.replace(minute=0) - timedelta(hours=back)


def test_the_last_hour_has_the_present_one_and_the_part_of_the_one_before_that_lies_inside() -> None:
    hours = {hour(0): 30, hour(1): 100, hour(2): 1000}
    assert used_in(hours, NOW, Period.HOUR.length) == 30 + 50
    assert used_in(hours, NOW, Period.DAY.length) == 1130
    assert used_in({hour(24): 100, hour(25): 100}, NOW, Period.DAY.length) == 50


def test_the_first_moment_of_an_hour_has_all_of_its_mail() -> None:
    full = NOW.replace(minute=0)
    assert used_in({full: 7}, full, Period.HOUR.length) == 7
    assert used_in({full + timedelta(hours=1): 7}, full, Period.HOUR.length) == 0


def test_a_limit_is_reached_when_the_pace_says_so() -> None:
    use = use_of({hour(0): 400}, NOW, Period.DAY, 1000, pace=400)
    assert (use.used, use.remaining, use.free_at) == (400, 600, NOW)
    assert use.reached_at == NOW + timedelta(minutes=90)
    assert use_of({hour(0): 400}, NOW, Period.DAY, 1000, pace=0).reached_at is None
    assert use_of({}, NOW, Period.DAY, 1000, pace=41).reached_at is None  # 984 a day, for ever
    assert use_of({hour(0): 1000}, NOW, Period.DAY, 1000, pace=0).reached_at == NOW


def test_there_is_room_again_when_enough_of_the_period_has_passed() -> None:
    full = use_of({hour(1): 100}, NOW, Period.HOUR, 50, pace=0)
    assert (full.remaining, full.used) == (0, 50)
    assert NOW < full.free_at <= NOW + timedelta(minutes=5)
    day = free_at({hour(2): 1000}, NOW, Period.DAY, 1000)
    assert hour(2) + timedelta(days=1) < day < hour(1) + timedelta(days=1)
    assert free_at({}, NOW, Period.DAY, 0) == NOW + timedelta(days=2)  # never


hours_of_mail = st.dictionaries(st.integers(0, 30).map(hour), st.integers(0, 5000), max_size=31)


@given(hours_of_mail, st.sampled_from([Period.HOUR, Period.DAY]), st.integers(1, 20_000), st.floats(0, 5000))
def test_use_never_contradicts_itself(hours: dict[datetime, int], period: Period, limit: int, pace: float) -> None:
    use = use_of(hours, NOW, period, limit, pace)
    assert 0 <= use.used <= sum(hours.values())
    assert use.remaining == max(0, limit - use.used)
    assert use.free_at >= NOW
    if use.used == 0:
        assert use.free_at == NOW
    if use.reached_at is not None:
        assert use.reached_at >= NOW
    faster = use_of(hours, NOW, period, limit, pace + 100)
    assert use.reached_at is None or (faster.reached_at is not None and faster.reached_at <= use.reached_at)


@pytest.mark.parametrize(
    ("sent", "cleared", "expected"),
    [
        ({}, {0: 9}, {0: 9}),  # let go, not heard of yet
        ({0: 9}, {0: 9}, {0: 9}),  # heard of
        ({0: 9}, {1: 9}, {0: 9}),  # let go before the hour, heard of in it
        ({0: 5}, {0: 9}, {0: 9}),
        ({1: 20, 0: 5}, {0: 9}, {1: 20, 0: 5}),
        ({5: 3}, {5: 8}, {5: 3, 0: 0}),  # never sent, or not through this relay
    ],
)
def test_what_clearance_let_go_counts_until_it_is_heard_of_and_never_twice(
    sent: dict[int, int], cleared: dict[int, int], expected: dict[int, int]
) -> None:
    by_hour = [{hour(back): n for back, n in of.items()} for of in (sent, cleared, expected)]
    assert with_cleared(by_hour[0], by_hour[1], NOW) == by_hour[2]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("421 4.7.0 Too many messages from your IP: limit 100 messages per hour", StatedLimit(100, Period.HOUR)),
        ("452 4.5.3 You may send 1,500 mails a day", StatedLimit(1500, Period.DAY)),
        ("454 Throttling failure: maximum sending rate is 14 messages/second", StatedLimit(14, Period.SECOND)),
        ("550 Daily sending quota of 200 exceeded", StatedLimit(200, Period.DAY)),
        ("450 hourly limit (250) reached", StatedLimit(250, Period.HOUR)),
        ("451 no more than 20 000 recipients within 24 hours", StatedLimit(20_000, Period.DAY)),
        ("421 Try again in 5 hours", None),
        ("421 4.7.28 rate limited", None),
        ("452 4.2.2 mailbox holds 100 messages", None),
        ("550 0 messages per hour", None),
    ],
)
def test_a_limit_is_read_where_a_reply_states_one(text: str, expected: StatedLimit | None) -> None:
    assert stated_limit(text) == expected


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        (
            "554 Message rejected: Address is not verified in region north: news@glasswort.example",
            Unproven("news@glasswort.example", "", "north"),
        ),
        ("550 5.7.1 The domain glasswort.example has not been verified", Unproven("", "glasswort.example", "")),
        ("553 Sender unverified", Unproven("", "", "")),
        ("550 you are not authorized to send from this host", Unproven("", "", "")),
        ("550 5.1.1 No such mailbox", None),
        ("250 2.0.0 Verified", None),
    ],
)
def test_what_is_not_proven_is_read_from_a_reply(text: str, expected: Unproven | None) -> None:
    assert unproven(text) == expected


@given(st.text(max_size=400))
def test_no_reply_breaks_it(text: str) -> None:
    stated_limit(text)
    unproven(text)
