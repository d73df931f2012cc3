"""Shifts: found soon when a rate rises, hardly ever when nothing changes, over when the rate is back."""

import random
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.mailflow.shifts import WINDOW, Hour, Shift, find_shifts, threshold_of, usual_of

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
FOR_FORTY = threshold_of(1, 40)


def hours(rate: Callable[[float], float], volume: int = 60, likeness: float = 0.0, seed: int = 1) -> list[Hour]:
    """Five weeks up to now; `rate` by the hours that are left until now."""
    luck, out = random.Random(seed), []
    for left in range(36 * 24, 0, -1):
        p = rate(left)
        if likeness:
            size = (1 - likeness) / likeness
            p = luck.betavariate(p * size, (1 - p) * size)
        total = luck.randint(volume // 2, volume * 3 // 2)
        out.append(Hour(NOW - timedelta(hours=left), sum(luck.random() < p for _ in range(total)), total))
    return out


@pytest.mark.parametrize(
    ("usual", "raised", "volume", "within"),
    [(0.01, 0.2, 60, 1), (0.01, 0.05, 100, 6), (0.002, 0.03, 200, 2), (0.3, 0.8, 60, 1)],
)
def test_a_rise_is_found_within_hours(usual: float, raised: float, volume: int, within: int) -> None:
    (found,) = find_shifts(hours(lambda left: raised if left <= 10 else usual, volume), NOW, FOR_FORTY)
    assert found.ended_at is None
    assert abs(found.began_at - (NOW - timedelta(hours=10))) <= timedelta(hours=1)
    assert found.found_at - found.began_at <= timedelta(hours=within)
    assert found.rate == pytest.approx(raised, rel=0.3)
    assert found.usual == pytest.approx(usual, rel=0.4)


def test_an_hour_that_is_still_filling_is_enough() -> None:
    made = hours(lambda _: 0.01, 100)
    made[-1] = Hour(made[-1].at, 12, 25)  # a quarter of an hour into it
    (found,) = find_shifts(made, NOW, FOR_FORTY)
    assert (found.began_at, found.count) == (made[-1].at, 12)


def test_a_shift_is_over_when_the_rate_is_back() -> None:
    (found,) = find_shifts(hours(lambda left: 0.2 if 20 < left <= 40 else 0.01, 80), NOW, FOR_FORTY)
    assert found.ended_at is not None
    assert abs(found.ended_at - (NOW - timedelta(hours=20))) <= timedelta(hours=1)
    assert found.rate == pytest.approx(0.2, rel=0.2), "what came after it is not counted"


def test_two_shifts_are_two() -> None:
    for seed in range(3):
        made = hours(lambda left: 0.3 if 100 < left <= 110 or left <= 8 else 0.01, 60, seed=seed)
        assert [shift.ended_at is None for shift in find_shifts(made, NOW, FOR_FORTY)] == [False, True]


@pytest.mark.parametrize("likeness", [0.0, 0.01, 0.1])
def test_where_nothing_changes_alarms_are_as_rare_as_stated(likeness: float) -> None:
    found: list[Shift] = []
    for seed in range(40):
        found += find_shifts(hours(lambda _: 0.02, 30, likeness, seed), NOW, threshold_of(1, 1))
    # 40 series of 8 days are 0.9 years, so one is to be expected at the most; four would happen once in fifty times.
    assert len(found) < 4


def test_hours_that_differ_by_themselves_are_no_shift() -> None:
    made = hours(lambda left: 0.15 if left % 24 in (3, 4) else 0.01, 60)  # each night another kind of mail
    assert find_shifts(made, NOW, FOR_FORTY) == []


def test_nobody_knows_what_is_usual_of_little_mail() -> None:
    assert usual_of([Hour(NOW, 1, 10)] * 20) is None
    few = [Hour(NOW - timedelta(hours=left), 3, 3) for left in range(100, 0, -1)]
    assert find_shifts(few, NOW, FOR_FORTY) == []


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 400), st.integers(0, 400)), max_size=300))
def test_whatever_the_counts_are_shifts_lie_in_the_window_and_in_order(counts: list[tuple[int, int]]) -> None:
    made = [
        Hour(NOW - timedelta(hours=3 * left), min(k, n), max(k, n)) for left, (k, n) in zip(range(len(counts), 0, -1), counts, strict=True)
    ]  # fmt: skip
    end = NOW - WINDOW - timedelta(hours=1)
    for shift in find_shifts(made, NOW, threshold_of(100, 1)):
        assert end <= shift.began_at <= shift.found_at <= NOW
        assert shift.began_at >= end
        assert 0 < shift.count <= shift.total
        end = shift.ended_at or NOW
