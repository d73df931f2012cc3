"""The arithmetic of a reading: decayed rates with a prior, pulls, the margin, and the sum over providers.

A reading is 100 minus its pulls, exactly: everything is settled in tenths of a point, and roundings are spread over
the pulls by largest remainder. Per provider each factor has one pull; the reading over all providers is their mean,
weighted by recent mail, so that each pull there is still one factor at one provider.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation.factors import FACTORS, Condition, Factor, condition_of

ENOUGH_MAIL = 30.0  # decayed messages below which nothing can be said
_Z = 1.2816  # the margin covers 80 %

Days = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class DayCounts:
    """One provider's counts, an array over days each: messages attempted, delivered, and what went wrong with them."""

    attempted: Days
    delivered: Days
    bad_addresses: Days
    refusals: Days
    delays: Days
    complaints: Days
    reports_complaints: bool  # whether this provider sends feedback reports at all


@dataclass(frozen=True, slots=True)
class Pull:
    """What one factor takes off, in points, and the rate behind it with its 80 % interval (fractions)."""

    factor: str
    provider: str
    points: float
    rate: float
    low: float
    high: float
    watch: float
    stop: float


@dataclass(frozen=True, slots=True)
class Reading:
    """One day's reading. `value` is None where there is too little mail to say. `mail` is decayed messages."""

    day: date
    value: float | None
    margin: float | None
    condition: Condition | None
    pulls: tuple[Pull, ...]
    mail: float


def provider_readings(provider: str, first: date, counts: DayCounts) -> list[Reading]:
    """The readings of one provider from `first` on, a day each."""
    length = len(counts.attempted)
    exposure = {"complaints": counts.delivered}
    factors = [f for f in FACTORS if f.name != "complaints" or counts.reports_complaints]
    mail = _decayed(counts.attempted, 0.5 ** (1 / 7))
    raw, spread = np.zeros((len(factors), length)), np.zeros((len(factors), length))
    rates = np.zeros((len(factors), 3, length))
    for row, factor in enumerate(factors):
        rates[row] = _rates(factor, getattr(counts, factor.name), exposure.get(factor.name, counts.attempted))
        point, low, high = (factor.weight * factor.share_of_weight(rate) for rate in rates[row])
        raw[row], spread[row] = point, (high - low) / 2
    margins = np.sqrt((spread**2).sum(axis=0))
    readings = []
    by_day = rates.transpose(2, 0, 1).tolist()  # day, factor, (mean, low, high)
    for day in range(length):
        when = first + timedelta(days=day)
        if mail[day] < ENOUGH_MAIL:
            readings.append(Reading(when, None, None, None, (), float(mail[day])))
            continue
        tenths = _in_tenths(raw[:, day].tolist())
        pulls = tuple(
            Pull(f.name, provider, tenth / 10, mean, low, high, f.watch, f.stop)
            for f, tenth, (mean, low, high) in zip(factors, tenths, by_day[day], strict=True)
        )
        value = (1000 - sum(tenths)) / 10
        margin = round(min(50.0, float(margins[day])), 1)
        readings.append(Reading(when, value, margin, condition_of(value), pulls, float(mail[day])))
    return readings


def overall_readings(per_provider: Mapping[str, Sequence[Reading]]) -> list[Reading]:
    """The mean over providers, weighted by decayed mail; a pull there is one factor at one provider."""
    out = []
    for same_day in zip(*per_provider.values(), strict=True):
        known = [reading for reading in same_day if reading.value is not None]
        mail = sum(reading.mail for reading in same_day)
        day = same_day[0].day
        if not known:
            out.append(Reading(day, None, None, None, (), mail))
            continue
        total = sum(reading.mail for reading in known)
        weighted = [(pull, pull.points * r.mail / total) for r in known for pull in r.pulls]
        tenths = _in_tenths([points for _, points in weighted])
        pulls = tuple(
            Pull(p.factor, p.provider, t / 10, p.rate, p.low, p.high, p.watch, p.stop)
            for (p, _), t in zip(weighted, tenths, strict=True)
            if t
        )
        value = (1000 - sum(tenths)) / 10
        margin = round(float(np.sqrt(sum(((r.margin or 0) * r.mail / total) ** 2 for r in known))), 1)
        out.append(Reading(day, value, margin, condition_of(value), pulls, mail))
    return out


def _decayed(counts: Days, decay: float) -> Days:
    """Sums in which each day counts `decay` times as much as the day after it."""
    out = []
    carried = 0.0
    for count in counts.tolist():
        carried = carried * decay + count
        out.append(carried)
    return np.array(out)


def _rates(factor: Factor, events: Days, mail: Days) -> NDArray[np.float64]:
    """Posterior mean and the ends of its Wilson interval, a row each."""
    seen = _decayed(mail, factor.decay) + factor.prior_mail
    share = (_decayed(events, factor.decay) + factor.prior_rate * factor.prior_mail) / seen
    share = np.minimum(1.0, share)  # late complaints about an earlier day's mail
    square = _Z * _Z / seen
    centre = (share + square / 2) / (1 + square)
    half = _Z / (1 + square) * np.sqrt(np.maximum(0.0, share * (1 - share) / seen + square / (4 * seen)))
    return np.array([share, np.maximum(0.0, centre - half), np.minimum(1.0, centre + half)])


def _in_tenths(points: Sequence[float]) -> list[int]:
    """Points in whole tenths whose sum is the rounded sum and at most 1000 (largest remainder)."""
    total = sum(points)
    scale = 10 * (100 / total if total > 100 else 1)
    exact = [each * scale for each in points]
    floors = [int(each) for each in exact]
    missing = round(sum(exact)) - sum(floors)
    order = sorted(range(len(exact)), key=lambda index: floors[index] - exact[index])  # largest remainder first
    for index in order[:missing]:
        floors[index] += 1
    return floors
