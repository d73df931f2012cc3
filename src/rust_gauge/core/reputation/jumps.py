"""Jumps of single rates, day by day: what warns early while the reading itself stays steady.

The test is that of Shiryaev and Roberts, as for the shifts of hours (`core.mailflow.shifts`), over many series at once.
What is usual is learned from the weeks before, with how much days differ; against it stand rises of the odds to 3, 6
and 15 times. While nothing changes, the mean time until the statistic first reaches a threshold is at least so many
days, whenever one looks. A jump is reported once it is certain that the rate also matters: that it lies above a part of
its watch line.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation.factors import FACTORS, Factor, Kind
from rust_gauge.core.reputation.memory import Array, before, decay_of, faded, rate_end
from rust_gauge.core.reputation.reading import COUNTS, Surroundings, seen_of

FALSE_ALARMS = 0.12  # a month, over all factors and providers of a domain, at most
DAYS_A_MONTH = 30.4
WINDOW = 60  # days in which jumps are looked for; what rose earlier is usual by now
TESTED = ("complaints", "invalid_addresses", "refusals", "listings", "authentication", "delays", "placement")
_RISES = np.log([3.0, 6.0, 15.0])  # of the odds
_HALF_LIFE = 35.0  # of what is usual
_LAG = 3  # days that are not yet part of what is usual
_HIGHER = 1.645  # standard errors by which the usual rate is taken for higher than it was seen
_MATTERS = 0.3  # of the watch line: a rise far below it is nobody's problem
_DELAYS_MATTER = 0.05  # deferrals are ordinary at any provider
_QUICK = 0.7  # half-life, in days, of the memory that says whether a rate matters
_LEAST_EVENTS = 4
_ENDED = np.log(100)  # log of how much better the usual rate explains the days since a jump seems over
_BECOMES_USUAL = 45  # days after which a jump is what is usual
_UNIMPORTANT = 14  # and after which one is that never mattered
_LEAST_RISE = 1.5  # times the usual rate that a jump is at least
_SPREAD_DAYS, _SPREAD_KEEPS = 5.0, 0.97  # days that the prior of the spread is worth, and its memory
_MOST_ODD = 400.0  # squared standard errors that one day adds to the spread at most


@dataclass(frozen=True, slots=True)
class Jump:
    """A rise of one factor's rate in one series. Days are places in the counts.

    It `began` by the best guess, was certain on day `reported`, and went on until `last`; `over` says that it ended.
    `events` of `mail` since it began; `usual` is the rate before.
    """

    series: int
    factor: str
    began: int
    reported: int
    last: int
    over: bool
    events: float
    mail: float
    usual: float


def threshold_of(series: int, false_alarms: float = FALSE_ALARMS) -> float:
    """Return what the statistic has to reach, so that as many series of a domain, each tested for every factor, give
    at most so many false alarms a month.
    """
    return max(1, series) * len(TESTED) * DAYS_A_MONTH / false_alarms


def find_jumps(
    counts: Array, around: Surroundings, threshold: float | Array, factors: tuple[Factor, ...] = FACTORS,
    window: int = WINDOW, *, over_all: bool = False,
) -> list[Jump]:  # fmt: skip
    """Find the jumps of the last `window` days of each series. `threshold`: of all, or of each.

    `over_all`: also those of the sum of each sender's series, numbered on after the series in the order of the senders;
    what says nothing at one of them (delays of an outage, mail where no complaints are reported) is left out of it.
    """
    tested = [factor for factor in factors if factor.name in TESTED and factor.kind is Kind.RATE]
    by_name = dict(zip(COUNTS, counts, strict=True))
    seen, sent = (np.stack(part) for part in zip(*(seen_of(f, by_name, around) for f in tested), strict=True))
    seen = np.minimum(seen, sent)
    if over_all:
        seen, sent = (np.concatenate([values, _together(values, around)], axis=1) for values in (seen, sent))
    series = seen.shape[1]
    events, mail = (values.reshape(len(tested) * series, -1) for values in (seen, sent))
    usual, worth = (np.repeat([getattr(f, name) for f in tested], series) for name in ("usual", "worth"))
    matters = np.repeat(
        [max(_MATTERS * f.watch, _DELAYS_MATTER if f.name == "delays" else 0.0) for f in tested], series
    )
    level = np.log(np.tile(np.broadcast_to(threshold, (series,)), len(tested)))
    start = max(0, events.shape[1] - window)
    matter_on = _matter(events[:, start:], mail[:, start:], usual * worth, worth, matters)
    use = np.flatnonzero(matter_on.any(axis=1))  # the others cannot be reported, whatever the test says
    if not len(use):
        return []
    rows = _search(events[use], mail[use], usual[use], worth[use], matter_on[use], level[use], start)
    out = []
    for at, began, reported, last, over, rate in rows:
        row, days = int(use[at]), slice(began, last + 1)
        counted = float(events[row, days].sum()), float(mail[row, days].sum())
        out.append(Jump(row % series, tested[row // series].name, began, reported, last, over, *counted, rate))
    return out


def _together(values: Array, around: Surroundings) -> Array:
    """Sum each sender's series; (factors, senders, days)."""
    assert around.sender is not None
    _, place = np.unique(around.sender, return_inverse=True)
    sums = np.zeros((len(values), int(place.max(initial=-1)) + 1, values.shape[2]))
    for row, sender in enumerate(place.tolist()):
        sums[:, sender] += values[:, row]
    return sums


def _matter(events: Array, mail: Array, prior: Array, worth: Array, matters: Array) -> NDArray[np.bool_]:
    """Return the days on which a rate is surely high enough to be reported if it jumped."""
    lately, of = faded(np.stack([events, mail]), decay_of(_QUICK))
    low = rate_end(lately + prior[:, None] / 2, of + worth[:, None] / 2, -_HIGHER)
    out: NDArray[np.bool_] = (low >= matters[:, None]) & (lately >= _LEAST_EVENTS)
    return out


def _search(
    events: Array, mail: Array, usual: Array, worth: Array, matter: NDArray[np.bool_], level: Array, start: int
) -> list[tuple[int, int, int, int, bool, float]]:
    """(row, began, reported, last, over, usual rate) of the jumps from day `start` on."""
    length, decay = events.shape[1], decay_of(_HALF_LIFE)
    seen, sent = _before(events, mail, start, decay)
    seen, sent = seen + usual * worth, sent + worth
    odd, days = _spread(events, mail, usual, worth, start)
    levels = np.full((len(_RISES), len(events)), -np.inf)  # logs of the statistic
    sums, since = np.zeros(levels.shape), np.full(levels.shape, -1)
    total_events, total_mail = np.cumsum(events, axis=1), np.cumsum(mail, axis=1)
    back, back_since = np.zeros(len(events)), np.full(len(events), -1)
    inside, reported = np.zeros(len(events), dtype=bool), np.full(len(events), -1)
    began, rate_then = np.zeros(len(events), dtype=int), np.zeros(len(events))
    waiting = [(events[:, day], mail[:, day]) for day in range(max(0, start - _LAG), start)]
    out: list[tuple[int, int, int, int, bool, float]] = []
    for day in range(start, length):
        k, n = events[:, day], mail[:, day]
        seen_rate = np.minimum(0.9, seen / sent)
        spread = np.maximum(1.0, odd / days)
        rate = np.minimum(0.9, seen_rate + _HIGHER * np.sqrt(seen_rate * (1 - seen_rate) * spread / sent))
        odds = np.exp(_RISES)[:, None] * (rate / (1 - rate))
        raised = odds / (1 + odds)
        ratio = (k * np.log(raised / rate) + (n - k) * np.log((1 - raised) / (1 - rate))) / spread
        levels = np.where(inside, -np.inf, np.logaddexp(levels, 0.0) + ratio)
        sums = sums + ratio
        since = np.where(sums <= 0, -1, np.where((since < 0) & (n > 0), day, since))
        sums = np.maximum(0.0, sums)
        total = np.where(inside, level, np.logaddexp.reduce(levels, axis=0) - np.log(len(_RISES)))
        starts = ~inside & (total >= level)
        best = since[levels.argmax(axis=0), np.arange(len(events))]
        began = np.where(starts, np.where(best < 0, day, best), began)
        rate_then = np.where(starts, seen_rate, rate_then)
        # Inside a jump: whether the usual rate explains the last days far better than the rate since it began.
        rows = np.arange(len(events))
        since_events = total_events[:, day] - np.where(began > 0, total_events[rows, began - 1], 0.0)
        since_mail = total_mail[:, day] - np.where(began > 0, total_mail[rows, began - 1], 0.0)
        high = np.minimum(0.99, np.maximum(_LEAST_RISE * rate, since_events / np.maximum(since_mail, 1.0)))
        back = back + (k * np.log(rate / high) + (n - k) * np.log((1 - rate) / (1 - high))) / spread
        back_since = np.where(back <= 0, -1, np.where(back_since < 0, day, back_since))
        back = np.where(inside, np.maximum(0.0, back), 0.0)
        ends = inside & (back >= _ENDED)
        for row in np.flatnonzero(ends & (reported >= 0)):
            last = max(int(began[row]), int(back_since[row]) - 1)
            out.append((int(row), int(began[row]), int(reported[row]), last, True, float(rate_then[row])))
        # What lasts is usual from now on.
        long = inside & ~ends & (day - began >= np.where(reported >= 0, _BECOMES_USUAL, _UNIMPORTANT))
        for row in np.flatnonzero(long & (reported >= 0)):
            out.append((int(row), int(began[row]), int(reported[row]), day, True, float(rate_then[row])))
        seen = np.where(long, usual * worth + since_events, seen)
        sent = np.where(long, worth + since_mail, sent)
        ends = ends | long
        levels[:, ends], sums[:, ends], since[:, ends] = -np.inf, 0.0, -1
        total = np.where(ends, 0.0, total)
        inside = (inside | starts) & ~ends
        reported = np.where(inside, reported, -1)
        reported = np.where(inside & (reported < 0) & matter[:, day - start], day, reported)
        ordinary = ~inside & (total < level / 2)
        waiting.append((k * ordinary, n * ordinary))
        if len(waiting) > _LAG:
            more, more_mail = waiting.pop(0)
            seen = usual * worth + (seen - usual * worth) * decay + more
            sent = worth + (sent - worth) * decay + more_mail
        off = np.minimum((k - n * rate) ** 2 / np.maximum(n * rate * (1 - rate), 0.3), _MOST_ODD)
        counts = ordinary & (n > 0)
        odd = np.where(counts, odd * _SPREAD_KEEPS + off, odd)
        days = np.where(counts, days * _SPREAD_KEEPS + 1, days)
    for row in np.flatnonzero(inside & (reported >= 0)):
        out.append((int(row), int(began[row]), int(reported[row]), length - 1, False, float(rate_then[row])))
    return out


def _before(events: Array, mail: Array, start: int, decay: float) -> tuple[Array, Array]:
    """Events and mail that are remembered when the search begins."""
    end = start - _LAG
    if end <= 0:
        return np.zeros(len(events)), np.zeros(len(events))
    keeps = decay ** np.arange(end - 1, -1, -1)
    return events[:, :end] @ keeps, mail[:, :end] @ keeps


def _spread(events: Array, mail: Array, usual: Array, worth: Array, start: int) -> tuple[Array, Array]:
    """How much days differed before the search begins, beyond what chance alone does: (sum of squares, days)."""
    odd, days = np.full(len(events), _SPREAD_DAYS), np.full(len(events), _SPREAD_DAYS)
    if start <= _LAG:
        return odd, days
    decay = decay_of(_HALF_LIFE)
    k, n = events[:, :start], mail[:, :start]
    rate = (before(faded(k, decay), _LAG) + (usual * worth)[:, None]) / (before(faded(n, decay), _LAG) + worth[:, None])
    rate = np.minimum(0.9, rate)
    off = np.minimum((k - n * rate) ** 2 / np.maximum(n * rate * (1 - rate), 0.3), _MOST_ODD / 20)
    keeps = _SPREAD_KEEPS ** np.arange(start - 1, -1, -1)
    there = n > 0
    return odd + (off * there) @ keeps, days + there @ keeps
