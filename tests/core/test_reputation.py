"""The arithmetic of readings: exact sums, margins, memory, fairness."""

from datetime import date

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.reputation import (
    FACTORS,
    Condition,
    DayCounts,
    Reading,
    condition_of,
    overall_readings,
    provider_readings,
)

FIRST = date(2026, 9, 1)


def series(mail: float, days: int = 40, reports: bool = True, last: int | None = None, **rates: float) -> list[Reading]:
    """Readings of an even stream; `rates` apply to the last `last` days (to all without it)."""
    volume = np.full(days, mail)
    on = np.ones(days) if last is None else np.array([float(day >= days - last) for day in range(days)])
    parts = {name: volume * on * rates.get(name, 0.0) for name in ("bad_addresses", "refusals", "delays", "complaints")}
    return provider_readings("p", FIRST, DayCounts(volume, volume, reports_complaints=reports, **parts))


@given(
    st.lists(
        st.tuples(st.integers(0, 5000), *(st.integers(0, 500) for _ in range(4))),
        min_size=1,
        max_size=20,
    ),
    st.booleans(),
)
@settings(max_examples=60, deadline=None)
def test_pulls_add_up_exactly_to_what_is_missing(days: list[tuple[int, ...]], reports: bool) -> None:
    columns = np.array(days, dtype=float).T
    mail = columns[0]
    one = provider_readings("p", FIRST, DayCounts(mail, mail, *columns[1:], reports_complaints=reports))
    two = provider_readings("q", FIRST, DayCounts(mail * 3, mail * 3, *columns[1:][::-1], reports_complaints=True))
    for reading in [*one, *two, *overall_readings({"p": one, "q": two})]:
        if reading.value is None:
            continue
        assert round(10 * reading.value) + sum(round(10 * pull.points) for pull in reading.pulls) == 1000
        assert 0 <= reading.value <= 100
        assert reading.condition is condition_of(reading.value)


@pytest.mark.parametrize(
    ("value", "condition"),
    [
        (100, Condition.SOUND),
        (80, Condition.SOUND),
        (79.9, Condition.TARNISHED),
        (60, Condition.TARNISHED),
        (59.9, Condition.CORRODED),
        (35, Condition.CORRODED),
        (34.9, Condition.SEIZED),
        (0, Condition.SEIZED),
    ],
)
def test_conditions_begin_at_80_60_and_35(value: float, condition: Condition) -> None:
    assert condition_of(value) is condition


def test_too_little_mail_gives_no_reading_at_all() -> None:
    assert series(0)[-1].value is None
    assert series(1, days=5)[-1].value is None
    assert series(20)[-1].value is not None


def test_a_margin_is_wide_when_there_is_little_mail() -> None:
    margins = [series(mail)[-1].margin or 0 for mail in (10, 100, 1000, 10_000)]
    assert margins == sorted(margins, reverse=True)
    assert margins[0] > 4 * margins[-1]


def test_a_few_complaints_from_little_mail_weigh_less_than_the_same_share_of_much() -> None:
    few, many = series(10, complaints=0.004)[-1], series(100_000, complaints=0.004)[-1]
    assert few.value is not None
    assert many.value is not None
    assert few.value > many.value + 10


@pytest.mark.parametrize("factor", FACTORS, ids=lambda factor: factor.name)
def test_the_curve_rises_and_meets_its_two_lines(factor) -> None:  # type: ignore[no-untyped-def]
    rates = np.linspace(0, 1, 2001)
    shares = factor.share_of_weight(rates)
    assert np.all(np.diff(shares) >= 0)
    assert shares[0] == 0
    assert shares[-1] <= 1  # it never reaches 1, but floating point does
    at = factor.share_of_weight(np.array([factor.watch, factor.stop]))
    assert at == pytest.approx([0.2, 0.7])


def test_a_complaint_surge_shows_the_same_day_and_fades_after_it_ends() -> None:
    surge = series(3000, days=40, last=1, complaints=0.01)
    assert (surge[-2].value or 0) - (surge[-1].value or 0) > 5
    volume = np.full(80, 3000.0)
    complaints = np.zeros(80)
    complaints[20:25] = 30
    none = np.zeros(80)
    counts = DayCounts(volume, volume, none, none, none, complaints, reports_complaints=True)
    values = [reading.value or 0 for reading in provider_readings("p", FIRST, counts)]
    assert min(values) == values[24]
    assert values[24] < values[40] < values[60]
    assert values[60] > 95


def test_an_outage_alone_hardly_moves_a_reading() -> None:
    quiet, delayed = series(1000)[-1], series(1000, last=1, delays=0.9)[-1]
    assert (quiet.value or 0) - (delayed.value or 0) <= 12


def test_complaints_count_only_where_the_provider_reports_them() -> None:
    reading = series(1000, reports=False, complaints=0.05)[-1]
    assert "complaints" not in {pull.factor for pull in reading.pulls}
    assert reading.value is not None
    assert reading.value > 95


def test_the_overall_reading_is_weighted_by_mail_and_names_the_provider() -> None:
    good, bad = series(9000), series(1000, refusals=0.3)
    overall = overall_readings({"good": good, "bad": bad})[-1]
    assert overall.value is not None
    assert (bad[-1].value or 0) < overall.value < (good[-1].value or 0)
    heaviest = max(overall.pulls, key=lambda pull: pull.points)
    assert (heaviest.factor, heaviest.provider) == ("refusals", "p")
    assert overall.value > 90


def test_a_provider_without_enough_mail_does_not_count_in_the_overall_reading() -> None:
    known = series(1000)
    assert overall_readings({"known": known, "tiny": series(0.1)})[-1].value == known[-1].value
    assert overall_readings({"tiny": series(0.1)})[-1].value is None
