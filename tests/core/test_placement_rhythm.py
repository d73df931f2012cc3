"""When schedules run."""

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.errors import InputError
from rust_gauge.core.placement.rhythm import Every, Rhythm, describe, next_time

NOON = datetime(2026, 12, 1, 12, 0, tzinfo=UTC)  # a Tuesday
MADE_UP = ("UTC", "Atlantic/Faroe", "America/St_Johns", "Asia/Kathmandu", "Australia/Lord_Howe", "Pacific/Apia")


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


@pytest.mark.parametrize(
    ("rhythm", "after", "expected"),
    [
        (Rhythm(Every.HOURLY), NOON, at("2026-12-01T13:00")),
        (Rhythm(Every.HOURLY, minute=30), NOON, at("2026-12-01T12:30")),
        (Rhythm(Every.HOURLY, (6, 18)), NOON, at("2026-12-01T18:00")),
        (Rhythm(Every.DAILY, (9,)), NOON, at("2026-12-02T09:00")),
        (Rhythm(Every.DAILY, (12,)), NOON, at("2026-12-02T12:00")),  # not the same again
        (Rhythm(Every.DAILY, (18, 9)), NOON, at("2026-12-01T18:00")),
        (Rhythm(Every.WEEKLY, (9,), weekdays=(1, 4)), NOON, at("2026-12-03T09:00")),
        (Rhythm(Every.MONTHLY, (9,), month_days=(31,)), at("2027-02-01T00:00"), at("2027-02-28T09:00")),
        (Rhythm(Every.MONTHLY, (9,), month_days=(1, 15)), NOON, at("2026-12-15T09:00")),
        # 02:30 of 2027-03-28 is skipped by the clock there, and runs when that hour is over
        (Rhythm(Every.DAILY, (2,), 30, time_zone="Europe/Berlin"), at("2027-03-28T00:00"), at("2027-03-28T01:30")),
        # 02:30 of 2026-10-25 comes twice: the first time counts
        (Rhythm(Every.DAILY, (2,), 30, time_zone="Europe/Berlin"), at("2026-10-24T23:00"), at("2026-10-25T00:30")),
        (Rhythm(Every.DAILY, (2,), 30, time_zone="Europe/Berlin"), at("2026-10-25T00:45"), at("2026-10-26T01:30")),
    ],
)
def test_the_next_time(rhythm: Rhythm, after: datetime, expected: datetime) -> None:
    assert next_time(rhythm, after) == expected


rhythms = st.builds(
    lambda every, hours, minute, weekdays, month_days, zone: Rhythm(
        every, tuple(hours), minute, tuple(weekdays), tuple(month_days), zone
    ),
    st.sampled_from(list(Every)), st.lists(st.integers(0, 23), min_size=1, max_size=3), st.integers(0, 59),
    st.lists(st.integers(1, 7), min_size=1, max_size=3), st.lists(st.integers(1, 31), min_size=1, max_size=3),
    st.sampled_from(MADE_UP),
)  # fmt: skip
moments = st.datetimes(datetime(2026, 1, 1), datetime(2028, 12, 31), timezones=st.just(UTC))


@given(rhythms, moments)
def test_a_schedule_runs_later_at_a_chosen_day_and_within_two_months(rhythm: Rhythm, after: datetime) -> None:
    found = next_time(rhythm, after)
    assert after < found <= after + timedelta(days=63)
    local = found.astimezone(ZoneInfo(rhythm.time_zone))
    if rhythm.every is Every.WEEKLY:
        assert local.isoweekday() in rhythm.weekdays
    if rhythm.every is Every.MONTHLY:
        last = (local.replace(day=28) + timedelta(days=4)).replace(day=1) - timedelta(days=1)
        assert local.day in {min(day, last.day) for day in rhythm.month_days}


@given(rhythms, moments)
def test_no_time_is_left_out(rhythm: Rhythm, after: datetime) -> None:
    """Asking from anywhere before a time gives that time or an earlier one."""
    first = next_time(rhythm, after)
    assert next_time(rhythm, after + (first - after) / 2) == first
    assert next_time(rhythm, first) > first


@pytest.mark.parametrize(
    ("values", "field"),
    [
        ({"every": Every.DAILY}, "hours"),
        ({"every": Every.WEEKLY, "hours": (9,)}, "weekdays"),
        ({"every": Every.MONTHLY, "hours": (9,)}, "month_days"),
        ({"every": Every.DAILY, "hours": (24,)}, "hours"),
        ({"every": Every.WEEKLY, "hours": (9,), "weekdays": (0,)}, "weekdays"),
        ({"every": Every.HOURLY, "minute": 60}, "minute"),
        ({"every": Every.HOURLY, "time_zone": "Nowhere/Town"}, "time_zone"),
        ({"every": Every.HOURLY, "time_zone": "../etc/passwd"}, "time_zone"),
    ],
)
def test_what_would_never_run_is_refused(values: dict[str, object], field: str) -> None:
    with pytest.raises(InputError) as caught:
        Rhythm(**values)  # type: ignore[arg-type]
    assert caught.value.field == field


@pytest.mark.parametrize(
    ("rhythm", "words"),
    [
        (Rhythm(Every.HOURLY), "every hour at minute 0"),
        (Rhythm(Every.HOURLY, (9, 15)), "daily at 09:00 and 15:00 (UTC)"),
        (Rhythm(Every.WEEKLY, (9,), 5, weekdays=(4, 1)), "Mondays and Thursdays at 09:05 (UTC)"),
        (
            Rhythm(Every.MONTHLY, (8,), month_days=(1, 2, 11, 23)),
            "the 1st, 2nd, 11th and 23rd of each month at 08:00 (UTC)",
        ),
    ],
)
def test_a_rhythm_in_words(rhythm: Rhythm, words: str) -> None:
    assert describe(rhythm) == words
