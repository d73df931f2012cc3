"""The arithmetic of readings: exact sums, margins, memory, fairness, what would follow."""

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.core.reputation import (
    COUNTS,
    FACTORS,
    NAMES,
    NO_VALUE,
    Condition,
    FactorError,
    Readings,
    Surroundings,
    common_delay,
    condition_of,
    factors_with,
    openness,
    over_providers,
    read,
    split,
)
from rust_gauge.core.reputation.forecast import Change, forecast, headroom
from rust_gauge.core.reputation.lines import BOUNCES, COMPLAINTS, crossed, crossings_ahead, stand
from rust_gauge.core.reputation.memory import chance_above, gamma_quantile, normal_share, rate_ends

DAYS = 90


def mail(
    n: float, last: int | None = None, *, days: int = DAYS, week: tuple[float, ...] = (1,) * 7, **rates: float
) -> Any:
    """Counts of one series of even mail; `rates` hold for the last `last` days, or for all."""
    rhythm = np.array([week[day % 7] for day in range(days)])
    counts = np.zeros((len(COUNTS), 1, days))
    counts[0, 0] = counts[1, 0] = n * rhythm
    on = np.arange(days) >= days - (last or days)
    for name, rate in rates.items():
        counts[COUNTS.index(name), 0] += n * rhythm * on * rate
    return counts


def around(series: int = 1, *, reports: bool = True, **more: Any) -> Surroundings:
    return Surroundings(np.full(series, reports), **more)


def values(counts: Any, where: Surroundings | None = None) -> Any:
    return read(counts, where or around(counts.shape[1])).tenths[0] / 10


def pull(readings: Readings, name: str, day: int = -1) -> float:
    return float(readings.pulls[NAMES.index(name), 0, day] / 10)


# Sums


@given(
    st.lists(st.tuples(*(st.integers(0, 500) for _ in COUNTS)), min_size=1, max_size=12),
    st.booleans(),
    st.integers(1, 60),
)
@settings(max_examples=80, deadline=None)
def test_pulls_add_up_exactly_to_what_is_missing(rows: list[tuple[int, ...]], reports: bool, times: int) -> None:
    one = np.array(rows, dtype=float).T[:, None, :]
    one[0] *= times
    counts = np.concatenate([one, one[:, :, ::-1], one * 3], axis=1)
    readings = read(counts, around(3, reports=reports, faults=np.full((3, len(rows)), 1.4)))
    some = readings.tenths != NO_VALUE
    assert ((readings.tenths + readings.pulls.sum(axis=0))[some] == 1000).all()
    assert (readings.pulls >= 0).all()
    assert ((readings.tenths[some] >= 0) & (readings.margin[some] >= 0)).all()
    whole = over_providers(readings)
    said = whole.tenths[0] != NO_VALUE
    assert ((whole.tenths + whole.pulls.sum(axis=0))[0][said] == 1000).all()
    for day in range(len(rows)):
        parts = split(readings, whole, day)
        assert (parts.sum(axis=1) == whole.pulls[:, 0, day]).all()
        assert (parts >= 0).all()


@pytest.mark.parametrize(
    ("value", "condition"),
    [
        (100, Condition.SOUND), (80, Condition.SOUND), (79.9, Condition.TARNISHED), (60, Condition.TARNISHED),
        (59.9, Condition.CORRODED), (35, Condition.CORRODED), (34.9, Condition.SEIZED), (0, Condition.SEIZED),
    ],
)  # fmt: skip
def test_conditions_begin_at_80_60_and_35(value: float, condition: Condition) -> None:
    assert condition_of(value) is condition


@pytest.mark.parametrize("factor", FACTORS, ids=lambda factor: factor.name)
def test_the_curve_rises_without_a_step_and_takes_the_weight_at_the_watch_line(factor: Any) -> None:
    at = factor.log_odds(np.array([0, factor.watch, factor.watch + 1e-9]))
    assert at == pytest.approx([0, factor.weight, factor.weight], abs=1e-6)
    rising = factor.log_odds(np.linspace(0, min(1, 40 * factor.watch) if factor.kind == "rate" else 40, 400))
    assert (np.diff(rising) >= 0).all()
    assert np.diff(rising).max() < 1.5, "no step"


@pytest.mark.parametrize(
    ("changes", "what"),
    [
        ({"zeal": {}}, "Unknown factor zeal"),
        ({"complaints": {"colour": 1}}, "unknown setting colour"),
        ({"complaints": {"watch": 0.5}}, "below the stop line"),
        ({"complaints": {"weight": 11}}, "0 to 10"),
        ({"complaints": {"half_life": 0}}, "half_life"),
        ({"complaints": {"usual": 2}}, "usual"),
    ],
)
def test_settings_that_cannot_be_meant_are_refused(changes: dict[str, dict[str, float]], what: str) -> None:
    with pytest.raises(FactorError, match=what):
        factors_with(changes)


# Little mail, much mail


def test_too_little_mail_gives_no_reading_at_all() -> None:
    assert values(mail(0))[-1] < 0
    assert values(mail(1, days=5))[-1] < 0
    assert values(mail(20))[-1] > 0


def test_a_margin_is_wide_when_there_is_little_mail() -> None:
    margins = [int(read(mail(n, complaints=0.0002), around()).margin[0, -1]) for n in (10, 100, 1000, 10_000)]
    assert margins == sorted(margins, reverse=True)
    assert margins[0] > 4 * margins[-1]


def test_a_few_complaints_of_a_hundred_mails_mean_less_than_the_same_share_of_a_million() -> None:
    few, many = (read(mail(n, 1, complaints=0.01), around()).tenths[0, -1] for n in (100, 100_000))
    assert few > 980
    assert many < few - 60


def test_a_clean_small_sender_does_not_flicker() -> None:
    dice = np.random.default_rng(5)
    counts = mail(0)
    counts[0] = counts[1] = dice.poisson(40, (1, DAYS))
    counts[COUNTS.index("invalid_addresses")] = dice.binomial(40, 0.005, (1, DAYS))
    counts[COUNTS.index("complaints")] = dice.random((1, DAYS)) < 0.01
    said = values(counts)[20:]
    assert (said >= 80).all()
    assert np.abs(np.diff(said)).mean() < 1.0


# Early and fair


@pytest.mark.parametrize(
    ("rates", "factor", "after"),
    [
        ({"complaints": 0.03}, "complaints", 870),
        ({"authentication": 0.2}, "authentication", 850),
        ({"listings": 0.3}, "listings", 500),
        ({"invalid_addresses": 0.25}, "invalid_addresses", 900),
        ({"refusals": 0.2}, "refusals", 750),
        ({"delays": 0.3}, "delays", 700),
    ],
)
def test_what_breaks_shows_the_same_day_by_its_own_name(rates: dict[str, float], factor: str, after: int) -> None:
    readings = read(mail(1000, 1, **rates), around())
    assert readings.tenths[0, -2] > 950
    assert readings.tenths[0, -1] < after
    assert pull(readings, factor) == max(pull(readings, name) for name in NAMES)


def test_several_signs_together_count_more_than_each_alone() -> None:
    """Evidence is added in log-odds: what a clean sender can bear is too much for one that has other faults."""
    one, other = {"delays": 0.05}, {"invalid_addresses": 0.06}
    lost = [100 - values(mail(1000, 10, **rates))[-1] for rates in (one, other, one | other)]
    assert lost[2] > 1.15 * (lost[0] + lost[1])


def test_it_recovers_when_the_sender_has_mended_at_the_stated_pace() -> None:
    counts = mail(1000)
    counts[COUNTS.index("complaints"), 0, 40:45] = 40
    said = values(counts)
    assert said[44] < 50
    assert said[44] < said[50] < said[58] < said[70]
    assert said[44 + 15] > 80, "three half-lives after the last day"


def test_complaints_count_only_where_the_provider_reports_them() -> None:
    counts = mail(1000, complaints=0.01)
    assert values(counts)[-1] < 85
    silent = read(counts, around(reports=False))
    assert pull(silent, "complaints") == 0
    assert silent.measures is not None
    assert np.isnan(silent.measures.value[NAMES.index("complaints"), 0, -1])


def test_a_provider_that_reports_no_complaints_is_judged_by_the_senders_others() -> None:
    counts = np.concatenate([mail(1000, complaints=0.01), mail(1000)], axis=1)
    where = Surroundings(np.array([True, False]), sender=np.zeros(2, dtype=np.intp))
    both = read(counts, where)
    measures = read(counts, where).measures
    assert measures is not None
    at = NAMES.index("complaints")
    assert measures.value[at, 1, -1] == pytest.approx(measures.value[at, 0, -1], rel=0.15)
    assert both.pulls[at, 1, -1] > 100
    assert both.margin[1, -1] > both.margin[0, -1], "it was not seen there"
    apart = read(counts, Surroundings(np.array([True, False]), sender=np.arange(2, dtype=np.intp)))
    assert apart.pulls[at, 1, -1] == 0, "another sender's complaints say nothing"


def test_rates_elsewhere_are_the_prior_of_a_provider_with_little_mail() -> None:
    counts = np.concatenate([mail(2000, invalid_addresses=0.15), mail(8)], axis=1)
    at = NAMES.index("invalid_addresses")
    one, apart = (
        read(counts, Surroundings(np.ones(2, dtype=bool), sender=np.array(of, dtype=np.intp)))
        for of in ([0, 0], [0, 1])
    )
    assert one.pulls[at, 1, -1] > 3 * apart.pulls[at, 1, -1]
    assert one.pulls[at, 0, -1] == pytest.approx(apart.pulls[at, 0, -1], abs=10)


def test_a_jump_in_volume_pulls_and_a_weekly_rhythm_does_not() -> None:
    rhythm = read(mail(5000, week=(0, 0, 7, 0, 0, 0, 0)), around())
    assert all(pull(rhythm, "volume", day) < 0.5 for day in range(30, DAYS))
    jump = mail(5000)
    jump[:2, 0, -1] *= 25
    assert pull(read(jump, around()), "volume") > 0.5
    tiny = mail(5)
    tiny[:2, 0, -1] *= 25
    assert pull(read(tiny, around()), "volume") < pull(read(jump, around()), "volume") / 2, (
        "a hundred messages do not matter"
    )


def test_openings_that_fall_pull_and_a_stream_without_them_is_not_blamed() -> None:
    counts = mail(1000, opened=0.3)
    before = pull(read(counts, around()), "engagement")
    counts[COUNTS.index("opened"), 0, -12:] *= 0.1
    assert pull(read(counts, around()), "engagement") > 2 * before
    assert pull(read(mail(1000), around()), "engagement") == 0
    slow = mail(1000, opened=0.3)
    slow[COUNTS.index("opened"), 0] *= np.linspace(1, 0.2, DAYS)
    assert pull(read(slow, around()), "engagement") > 1.5 * before, "what falls slowly has fallen, too"


def test_a_senders_level_of_openings_counts_beside_the_median_senders() -> None:
    """The level, corrected for how openly a provider's mail is read; half of what the median sender has is 2 times."""
    shares = [0.4, 0.3, 0.3, 0.3, 0.15]
    counts = np.concatenate(
        [mail(2000, opened=share * open_here) for share in shares for open_here in (1.0, 0.5)], axis=1
    )
    sender = np.repeat(np.arange(5), 2).astype(np.intp)
    peers = {"engagement": np.tile([1.0, 0.5], 5)}
    found = read(counts, around(10, sender=sender, peers=peers)).measures
    assert found is not None
    times = found.value[NAMES.index("engagement"), :, -1]
    assert times == pytest.approx(np.repeat([0.75, 1, 1, 1, 2], 2), rel=0.03)
    given = read(
        counts[:, :2], around(2, sender=sender[:2], peers={"engagement": np.array([1.0, 0.5])}, median_opens=0.3)
    )
    assert given.measures is not None
    assert given.measures.value[NAMES.index("engagement"), :, -1] == pytest.approx([0.75, 0.75], rel=0.03)
    alone = read(counts[:, :2], around(2, sender=sender[:2], peers={"engagement": np.array([1.0, 0.5])}))
    assert alone.measures is not None, "one sender has no median: its own best is what it is compared with"
    assert alone.measures.value[NAMES.index("engagement"), :, -1] == pytest.approx([1.0, 1.0], rel=0.05)


def test_openness_needs_five_senders() -> None:
    five = np.full((6, 2), 1000.0)
    assert openness(five * [0.4, 0.2], five) == pytest.approx([4 / 3, 2 / 3])
    assert np.isnan(openness(five[:3] * [0.4, 0.2], five[:3])).all(), "three senders are too few to say"


def test_findings_of_the_audit_pull_while_they_stand() -> None:
    faults = np.zeros((1, DAYS))
    faults[0, -5:] = 2
    readings = read(mail(1000), around(faults=faults))
    assert pull(readings, "record_faults", -6) == 0
    assert 1.5 < pull(readings, "record_faults") < 6


def test_an_outage_of_a_provider_is_nobodys_fault_and_one_senders_own_delays_are() -> None:
    dice = np.random.default_rng(8)
    sent = np.tile(dice.poisson(400, (6, 1)), (1, DAYS)).astype(float)
    delays = np.full((6, DAYS), 4.0)
    delays[:, -1] = sent[:, -1] * 0.8  # all of them
    delays[0, -10] = sent[0, -10] * 0.8  # one of them
    common = common_delay(delays, sent)
    assert common[-1] == pytest.approx(0.79, abs=0.02)
    assert common[:-1].tolist() == [0.0] * (DAYS - 1)
    counts = np.zeros((len(COUNTS), 6, DAYS))
    counts[0] = counts[1] = sent
    counts[COUNTS.index("delays")] = delays
    fair = read(counts, around(6, common_delay=np.tile(common, (6, 1))))
    blamed = read(counts, around(6))
    assert (blamed.tenths[:, -2] - blamed.tenths[:, -1] > 200).all()
    assert (np.abs(fair.tenths[1:, -2] - fair.tenths[1:, -1]) < 10).all(), "less than a point"
    assert pull(fair, "delays", -10) > 20
    assert common_delay(delays[:2], sent[:2])[-1] == 0, "two senders may be slow for reasons of their own"


@given(st.lists(st.tuples(st.floats(0.3, 0.95), st.integers(0, 4)), min_size=4, max_size=9), st.integers(100, 50_000))
@settings(max_examples=40, deadline=None)
def test_no_outage_moves_a_reading_by_a_point(hit: list[tuple[float, int]], n: int) -> None:
    """On the day of an outage more is deferred than attempted; a message that waits is deferred several times."""
    sent, delays = np.full((len(hit), DAYS), float(n)), np.full((len(hit), DAYS), n / 100)
    for row, (share, tries) in enumerate(hit):
        sent[row, -1] = n * (1 - share)
        delays[row, -1] = n * share * (1 + tries)
    counts = np.zeros((len(COUNTS), len(hit), DAYS))
    counts[0] = counts[1] = sent
    counts[COUNTS.index("delays")] = delays
    common = np.tile(common_delay(delays, sent), (len(hit), 1))
    readings = read(counts, around(len(hit), common_delay=common))
    assert (np.abs(np.diff(readings.tenths[:, -2:].astype(int))) < 10).all()


def test_greylisting_is_spared_at_first_contact_only() -> None:
    def greylisted(first: int) -> Any:
        counts = mail(1000)
        counts[:, 0, :first] = 0
        for name in ("delays", "greylisted"):
            counts[COUNTS.index(name), 0, first:] = 300
        return counts

    new, old = (read(greylisted(first), around()) for first in (DAYS - 10, 0))
    assert pull(new, "delays") < 5 < 20 < pull(old, "delays")
    again = mail(1000)
    again[:, 0, 10:80] = 0
    for name in ("delays", "greylisted"):
        again[COUNTS.index(name), 0, 80:] = 300
    assert pull(read(again, around()), "delays") < 5, "a provider forgets whom it has not seen for weeks"


def test_a_senders_own_past_is_its_prior_and_never_worse_than_the_watch_line() -> None:
    """A clean past makes the first complaint weigh less; a bad one does not pull by itself for ever."""
    clean, bad = mail(300), mail(300)
    bad[COUNTS.index("complaints"), 0, :45] = 30
    new = mail(300, days=14)
    for counts in (clean, new):
        counts[COUNTS.index("complaints"), 0, -1] = 2
    assert pull(read(clean, around()), "complaints") < pull(read(new, around()), "complaints")
    assert pull(read(bad, around()), "complaints") < 5


def test_overall_is_weighted_by_mail_and_names_what_weighs() -> None:
    good, bad = mail(900), mail(100, invalid_addresses=0.2)
    whole = over_providers(read(np.concatenate([good, bad], axis=1), around(2)))
    alone = values(bad)[-1]
    assert whole.tenths[0, -1] / 10 == pytest.approx(0.9 * values(good)[-1] + 0.1 * alone, abs=0.2)
    none = over_providers(read(np.concatenate([good, mail(0)], axis=1), around(2)))
    assert none.tenths[0, -1] / 10 == pytest.approx(values(good)[-1], abs=0.1), "who gets no mail has no say"


# What would follow


def test_what_goes_on_as_it_does_stays_and_what_is_mended_recovers() -> None:
    counts = mail(1000, 10, authentication=0.2, invalid_addresses=0.08)
    now = values(counts)[-1]
    same = forecast(counts, around(), 20).tenths[0] / 10
    assert abs(same[-1] - now) < 12
    key = forecast(counts, around(), 20, Change(times={"authentication": 0})).tenths[0] / 10
    both = forecast(counts, around(), 20, Change(times={"authentication": 0, "invalid_addresses": 0.1})).tenths[0] / 10
    assert same[-1] + 10 < key[-1] < both[-1]
    assert (np.diff(both) >= -1).all()


def test_less_volume_brings_a_jump_down() -> None:
    counts = mail(2000)
    counts[:2, 0, -14:] *= 6
    more, less = (forecast(counts, around(), 3, Change(volume=share)).pulls for share in (1.0, 0.2))
    at = NAMES.index("volume")
    assert less[at, 0, -1] < more[at, 0, -1]


@given(st.integers(50, 20_000), st.sampled_from(["complaints", "invalid_addresses"]))
@settings(max_examples=25, deadline=None)
def test_the_room_is_the_least_number_that_reaches_the_line(n: int, name: str) -> None:
    counts = mail(n)
    factor = FACTORS[NAMES.index(name)]
    ((watch, stop),) = headroom(counts, around(), name, [factor.watch, factor.stop])
    assert watch is not None
    assert stop is None or stop >= watch
    for number, line, reaches in ((watch, factor.watch, True), (watch - 1, factor.watch, False),
                                  *(((stop, factor.stop, True), (stop - 1, factor.stop, False)) if stop else ())):  # fmt: skip
        tried = counts.copy()
        tried[COUNTS.index(name), 0, -1] += number
        measures = read(tried, around()).measures
        assert measures is not None
        assert (measures.value[NAMES.index(name), 0, -1] >= line) is np.bool_(reaches)


def test_there_is_no_room_where_nothing_is_measured_or_the_line_is_behind() -> None:
    assert headroom(mail(1000, complaints=0.01), around(), "complaints", [0.003]) == [[0]]
    assert headroom(mail(1000), around(reports=False), "complaints", [0.003]) == [[None]]
    assert headroom(mail(1000), around(), "volume", [1.0]) == [[None]]


def test_the_room_of_several_series_is_that_of_each_alone() -> None:
    each = [mail(n, complaints=share) for n, share in ((900, 0.0), (40, 0.0), (5000, 0.01), (20_000, 0.0005))]
    lines = [0.001, 0.003]
    several = replace(around(), reports=np.ones(len(each), dtype=bool), sender=None)
    together = headroom(np.concatenate(each, axis=1), several, "complaints", lines)
    assert together == [headroom(counts, around(), "complaints", lines)[0] for counts in each]
    assert together[2] == [0, 0]


# Posteriors and lines


def test_quantiles_and_chances_are_those_of_the_distributions() -> None:
    """Against sampling, where the shapes are those that counts give."""
    dice = np.random.default_rng(1)
    for shape in (0.8, 2.0, 10.0, 300.0):
        drawn = dice.gamma(shape, size=200_000)
        for z, share in ((-1.2816, 0.1), (0.0, 0.5), (1.2816, 0.9)):
            assert gamma_quantile(np.array(shape), z) == pytest.approx(np.quantile(drawn, share), rel=0.05, abs=0.03)
        assert chance_above(0.002, np.array(shape), np.array(1000.0)) == pytest.approx(
            (drawn / 1000 > 0.002).mean(), abs=0.02
        )
    low, high = rate_ends(np.array(40.0), np.array(100.0))
    beta = np.quantile(dice.beta(40, 60, size=200_000), [0.1, 0.9])
    assert (float(low), float(high)) == pytest.approx(tuple(beta), abs=0.01)
    assert normal_share(np.array([-1.96, 0.0, 1.96])) == pytest.approx([0.025, 0.5, 0.975], abs=1e-4)


@pytest.mark.parametrize(
    ("n", "events", "line", "expected"),
    [
        (1000, [0] * 20 + [1], COMPLAINTS, ""),
        (1000, [0] * 20 + [30], COMPLAINTS, "stop"),
        (20_000, [30] * 21, COMPLAINTS, "watch"),
        (20_000, [14] * 21, COMPLAINTS, ""),
        (40, [0] * 20 + [2], BOUNCES, ""),
        (1000, [40] * 21, BOUNCES, "watch"),
        (1000, [5] * 17 + [150] * 4, BOUNCES, "stop"),
    ],
)
def test_a_line_is_crossed_when_the_posterior_says_so(n: int, events: list[int], line: Any, expected: str) -> None:
    (found,) = stand(np.array([events], dtype=float), np.full((1, len(events)), float(n)), line)
    assert crossed(found, line) == expected


@pytest.mark.parametrize(
    ("events", "line", "expected"),
    [
        ([5] * 20 + [30, 35, 40, 10], BOUNCES, ("watch", 2)),  # rises, and is nearly there
        ([0] * 20 + [70, 70, 70, 70], BOUNCES, ("stop", 3)),  # past the watch line, on its way to the next
        ([5] * 24, BOUNCES, ("", 0)),
        ([45] * 24, BOUNCES, ("", 0)),  # past the watch line, and stays below the other
        ([80] * 24, BOUNCES, ("", 0)),  # past both
        ([0] * 23 + [900], BOUNCES, ("", 0)),  # today alone is no pace
        ([0] * 20 + [1, 0, 1, 0], COMPLAINTS, ("", 0)),  # two of three thousand
    ],
)
def test_a_line_is_foreseen_when_the_last_days_go_on(events: list[int], line: Any, expected: tuple[str, int]) -> None:
    found = crossings_ahead(np.array([events], dtype=float), np.full((1, 24), 1000.0), line)
    assert found == [expected]


# Test copies


def with_copies(counts: Any, sent: float, aside: float, *, every: int = 1) -> Any:
    """The same mail with test copies on every so manyth day, some of them in spam or lost."""
    counts = counts.copy()
    counts[COUNTS.index("copies"), 0, ::every] = sent
    counts[COUNTS.index("placement"), 0, ::every] = aside
    return counts


def test_copies_in_spam_pull_and_copies_in_the_inbox_do_not() -> None:
    good, bad = (read(with_copies(mail(1000), 4, aside), around()) for aside in (0, 4))
    assert pull(good, "placement") < 1
    assert pull(bad, "placement") > 60
    assert pull(read(mail(1000), around()), "placement") == 0.0


def test_few_copies_weigh_less_than_many_and_widen_the_margin() -> None:
    few, many = (read(with_copies(mail(1000), n, n, every=n), around()) for n in (1, 20))
    one = read(with_copies(mail(1000, days=90), 1, 1, every=89), around())
    assert pull(one, "placement") < 5 < pull(many, "placement")
    assert pull(few, "placement") > 10
    half = read(with_copies(mail(1000), 2, 1, every=3), around())
    assert half.margin[0, -1] > read(mail(1000), around()).margin[0, -1]


def test_what_copies_showed_is_forgotten_when_none_are_sent_any_more() -> None:
    counts = with_copies(mail(1000), 4, 4)
    counts[COUNTS.index("copies"), 0, 50:] = counts[COUNTS.index("placement"), 0, 50:] = 0
    readings = read(counts, around())
    assert pull(readings, "placement", 49) > 25
    assert pull(readings, "placement", -1) == 0.0


@given(
    n=st.floats(0, 5000), complaints=st.floats(0, 0.05), invalid=st.floats(0, 0.2), days=st.integers(1, 59),
    open_day=st.booleans(),
)  # fmt: skip
@settings(max_examples=25, deadline=None)
def test_a_shorter_forecast_is_the_beginning_of_a_longer_one(
    n: float, complaints: float, invalid: float, days: int, open_day: bool
) -> None:
    counts = mail(n, 9, complaints=complaints, invalid_addresses=invalid, days=60)
    where = around(open_day=open_day, faults=np.full((1, 60), 2.0), foreseen=np.full((1, 60), n / 2))
    longer, shorter = (forecast(counts, where, length) for length in (60, days))
    for name in ("tenths", "margin", "mail", "pulls"):
        np.testing.assert_array_equal(getattr(longer, name)[..., :days], getattr(shorter, name))


def test_a_forecast_sends_copies_as_before_whatever_the_volume() -> None:
    counts = with_copies(mail(1000), 4, 4)
    usual, halved = (forecast(counts, around(), 10, Change(volume=volume)) for volume in (1.0, 0.5))
    assert abs(pull(usual, "placement") - pull(halved, "placement")) < 0.2
    assert headroom(counts, around(), "placement", [0.5]) == [[None]]


# What receivers report


def reported(counts: Any, of: float, unaligned: float) -> Any:
    """The same mail with aggregate reports about so much of it on each day."""
    counts = counts.copy()
    counts[COUNTS.index("reported"), 0] = of
    counts[COUNTS.index("alignment"), 0] = unaligned
    return counts


@pytest.mark.parametrize(
    ("of", "unaligned", "least", "most"),
    [(1000, 3, 0, 0.1), (1000, 100, 0.5, 3), (1000, 900, 10, 20), (2, 2, 0, 0), (0, 0, 0, 0)],
)
def test_mail_that_is_reported_as_not_aligned_pulls_by_its_share(
    of: float, unaligned: float, least: float, most: float
) -> None:
    assert least <= pull(read(reported(mail(1000), of, unaligned), around()), "alignment") <= most


def test_a_report_that_is_a_day_late_changes_little() -> None:
    whole = reported(mail(1000), 900, 300)
    late = whole.copy()
    late[[COUNTS.index(name) for name in ("reported", "alignment")], 0, -1] = 0
    assert abs(pull(read(whole, around()), "alignment") - pull(read(late, around()), "alignment")) < 0.5
