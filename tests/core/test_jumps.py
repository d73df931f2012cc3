"""Jumps of single rates: found on their day, seldom found where nothing changed, over when the rate is as before."""

from typing import Any

import numpy as np
import pytest

from rust_gauge.core.reputation import COUNTS, Jump, Surroundings, find_jumps, threshold_of

DAYS = 90


def mail(n: float, days: int = DAYS) -> Any:
    counts = np.zeros((len(COUNTS), 1, days))
    counts[0] = counts[1] = n
    return counts


def around(series: int = 1, **more: Any) -> Surroundings:
    return Surroundings(np.ones(series, dtype=bool), **more)


def found(counts: Any, where: Surroundings | None = None) -> list[Jump]:
    return find_jumps(counts, where or around(counts.shape[1]), threshold_of(counts.shape[1]))


@pytest.mark.parametrize(
    ("factor", "usual", "n", "rate"),
    [
        ("complaints", 0.0003, 5000, 0.005),
        ("invalid_addresses", 0.006, 400, 0.09),
        ("refusals", 0.0005, 400, 0.15),
        ("listings", 0.0, 300, 0.3),
        ("authentication", 0.002, 300, 0.22),
        ("delays", 0.01, 300, 0.3),
    ],
)
def test_a_jump_is_reported_on_its_day_by_its_own_name(factor: str, usual: float, n: int, rate: float) -> None:
    counts = mail(n)
    counts[COUNTS.index(factor), 0] = np.random.default_rng(3).binomial(n, usual, DAYS)
    counts[COUNTS.index(factor), 0, 80:] = n * rate
    (jump,) = found(counts)
    assert (jump.factor, jump.reported, jump.over) == (factor, 80, False)
    assert jump.began in (79, 80), "a single event of the day before may be taken for its beginning"
    assert jump.events / jump.mail == pytest.approx(rate, rel=0.1)
    assert jump.usual == pytest.approx(usual, abs=0.004)


def test_a_jump_is_over_a_few_days_after_the_rate_is_as_before() -> None:
    counts = mail(1000)
    counts[COUNTS.index("authentication"), 0, 60:62] = 220
    (jump,) = found(counts)
    assert jump.over
    assert (jump.began, jump.reported) == (60, 60)
    assert jump.last == 61


def test_a_jump_that_does_not_matter_is_not_reported() -> None:
    counts = mail(50_000)
    counts[COUNTS.index("invalid_addresses"), 0] = 10
    counts[COUNTS.index("invalid_addresses"), 0, 80:] = 100  # ten times as many, and still a tenth of the watch line
    assert found(counts) == []


def test_what_creeps_is_no_jump_and_what_was_there_before_the_window_is_usual() -> None:
    creeps = mail(1000, 200)
    creeps[COUNTS.index("invalid_addresses"), 0] = np.linspace(4, 30, 200)
    assert found(creeps) == []
    old = mail(1000, 200)
    old[COUNTS.index("invalid_addresses"), 0, 100:] = 60
    assert found(old) == []
    assert len(find_jumps(old, around(), threshold_of(1), window=200)) == 1


def test_false_alarms_are_rarer_than_stated() -> None:
    """Series without a change, of every size, with days that differ more than chance: fewer than were asked for."""
    dice = np.random.default_rng(11)
    series, months = 400, DAYS / 30.4
    n = np.exp(dice.uniform(np.log(20), np.log(50_000), (series, 1)))
    counts = np.zeros((len(COUNTS), series, DAYS))
    counts[0] = counts[1] = dice.poisson(n * dice.gamma(8, 1 / 8, (series, DAYS)))
    for factor, usual in (
        ("complaints", 0.0004),
        ("invalid_addresses", 0.008),
        ("delays", 0.015),
        ("refusals", 0.0008),
    ):
        rate = usual * dice.gamma(5, 1 / 5, (series, DAYS))
        counts[COUNTS.index(factor)] = dice.binomial(counts[0].astype(int), np.minimum(1, rate))
    alarms = find_jumps(counts, around(series), threshold_of(1), window=DAYS)
    assert len(alarms) / (series * months) < 0.12


def test_an_outage_is_no_jump_of_a_sender() -> None:
    counts = mail(1000)
    counts[COUNTS.index("delays"), 0] = 10
    counts[COUNTS.index("delays"), 0, 80] = 3000
    common = np.zeros((1, DAYS))
    common[0, 80] = 0.9
    assert [jump.factor for jump in found(counts)] == ["delays"]
    assert found(counts, around(common_delay=common)) == []


def test_a_little_everywhere_is_seen_over_all_providers() -> None:
    counts = np.concatenate([mail(60) for _ in range(12)], axis=1)
    counts[COUNTS.index("complaints"), :, 84:] = 0.6  # one in a hundred: too few at any provider by itself
    where = around(12, sender=np.zeros(12, dtype=np.intp))
    assert find_jumps(counts, where, threshold_of(13)) == []
    (jump,) = find_jumps(counts, where, threshold_of(13), over_all=True)
    assert (jump.factor, jump.began) == ("complaints", 84)


def test_providers_that_report_nothing_do_not_thin_complaints() -> None:
    counts = np.concatenate([mail(1000), mail(9000)], axis=1)
    counts[COUNTS.index("complaints"), 0, 80:] = 12
    where = Surroundings(np.array([True, False]), sender=np.zeros(2, dtype=np.intp))
    (jump,) = [jump for jump in find_jumps(counts, where, threshold_of(3), over_all=True) if jump.series == 2]
    assert jump.events / jump.mail == pytest.approx(0.012)


def test_mail_that_waits_says_nothing_before_other_mail_has_come_to_an_end() -> None:
    """A send that has just begun: the first answers are deferrals, and nothing is delivered yet."""
    counts = mail(1000)
    counts[:2, 0, -1] = 0
    counts[COUNTS.index("delays"), 0, -1] = 90
    assert [jump.factor for jump in found(counts)] == ["delays"]
    assert found(counts, around(open_day=True)) == []
    counts[:2, 0, -1] = 70
    assert [jump.factor for jump in found(counts, around(open_day=True))] == ["delays"]


def test_what_lasts_becomes_usual_and_does_not_hide_the_next_rise() -> None:
    counts = mail(1000, 200)
    counts[COUNTS.index("delays"), 0, 30:] = 20  # more than before, and not enough to matter
    counts[COUNTS.index("delays"), 0, 150:] = 30
    assert find_jumps(counts, around(), threshold_of(1), window=200) == []
    counts[COUNTS.index("delays"), 0, 190:] = 300
    (jump,) = find_jumps(counts, around(), threshold_of(1), window=200)
    assert (jump.began, jump.reported) == (190, 190)
    assert jump.usual == pytest.approx(0.025, abs=0.01)
