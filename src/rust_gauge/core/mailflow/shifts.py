"""Shifts: sudden rises of a rate, found from hourly counters by a sequential test with a stated false-alarm rate.

What is usual: the counts of an hour are beta-binomial (the rate of each hour is drawn again, as different mail goes out
at different hours), fitted to the four weeks before, without the hours of earlier shifts. Against it stand rises of the
odds to 2, 4, 8 and 16 times. While an hour fills, the likelihood ratio of either is a martingale as long as nothing
has changed, so it may be looked at as often as one likes, every minute as well.

The test is that of Shiryaev and Roberts: M = (M + 1) x ratio from hour to hour, averaged over the rises. As long as
nothing has changed M - hours is a martingale, so the mean time until M first reaches a threshold is at least that many
hours, whenever one looks. The threshold is set so that all series of a tenant together give at most as many false
alarms a year as were asked for. See docs/mailflow.md for what was measured.
"""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

HOURS_A_YEAR = 8766  # 365.25 days: false alarms are stated per year
RISES = (2.0, 4.0, 8.0, 16.0)  # of the odds
BASE = timedelta(days=28)  # what is usual is learnt from so long
WINDOW = timedelta(days=8)  # in which shifts are looked for
LONGEST = timedelta(days=7)  # after that what was a shift is usual
_LEAST_BASE = 300  # messages without which nobody knows what is usual
_LEAST_COUNT = 5  # a shift has at least so many
_ENDED = math.log(100)
_SURE = 1.645  # standard errors by which the usual rate is taken for higher than it was seen
_DAY = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Hour:
    """`count` of `total` in the hour that begins at `at`. The last one may still be filling."""

    at: datetime
    count: int
    total: int


@dataclass(frozen=True, slots=True)
class Usual:
    """What is usual: the rate, a little higher than it was seen, and how much it differs from hour to hour.

    `likeness` is the intra-class correlation: 0 when every message is on its own, 1 when all of an hour share a fate.
    """

    rate: float
    seen: float
    likeness: float

    def log_ratios(self, hour: Hour, rates: Iterable[float]) -> list[float]:
        """For each rate the log of how much likelier it makes these counts than the usual one does."""
        usual = _log_likelihood(hour, self.rate, self.likeness)
        return [_log_likelihood(hour, rate, self.likeness) - usual for rate in rates]


@dataclass(frozen=True, slots=True)
class Shift:
    """A rise: when it began by the best guess, in which hour it was found, when it was over if it is.

    `count` of `total` since it began; `strength` is the common logarithm of M, the evidence for it.
    """

    began_at: datetime
    found_at: datetime
    ended_at: datetime | None
    usual: float
    count: int
    total: int
    strength: float

    @property
    def rate(self) -> float:
        """Events for each message that could have had one."""
        return self.count / self.total


def threshold_of(false_alarms_a_year: float, series: int) -> float:
    """Return what M has to scope, so that `series` series together give at most so many false alarms a year."""
    return HOURS_A_YEAR * max(1, series) / false_alarms_a_year


def _log_beta(a: float, b: float) -> float:
    return math.lgamma(a) + math.lgamma(b) - math.lgamma(a + b)


def _log_likelihood(hour: Hour, rate: float, likeness: float) -> float:
    """Of the counts as a beta-binomial, without the binomial coefficient, which every rate shares."""
    k, rest = hour.count, hour.total - hour.count
    if likeness <= 1e-6:
        return k * math.log(rate) + rest * math.log1p(-rate)
    size = (1 - likeness) / likeness
    a, b = rate * size, (1 - rate) * size
    return _log_beta(a + k, b + rest) - _log_beta(a, b)


def usual_of(hours: Iterable[Hour]) -> Usual | None:
    """Return what these hours had in common. None when there was too little mail to know."""
    filled = [hour for hour in hours if hour.total]
    total = sum(hour.total for hour in filled)
    if total < _LEAST_BASE or len(filled) < 6:
        return None
    rate = (sum(hour.count for hour in filled) + 0.5) / (total + 1)
    # The moments of a beta-binomial: how far hours lie apart, beyond what chance alone does.
    apart = sum(hour.total * (hour.count / hour.total - rate) ** 2 for hour in filled)
    chance = rate * (1 - rate)
    spread = total - sum(hour.total**2 for hour in filled) / total - (len(filled) - 1)
    likeness = (apart - chance * (len(filled) - 1)) / (chance * spread) if spread > 0 else 0.0
    likeness = min(0.3, max(0.0, likeness))
    # Hours are few, so the rate itself is known only so well; it is taken for higher.
    squares = sum(hour.total**2 for hour in filled)
    variance = chance * (1 / total + likeness * (squares / total**2))
    higher = min(0.95, rate + _SURE * math.sqrt(variance))
    return Usual(higher, rate, likeness)


def _raised(rate: float, by: float) -> float:
    odds = by * rate / (1 - rate)
    return odds / (1 + odds)


class _Search:
    """The test from hour to hour, and where the rise seems to have begun."""

    def __init__(self) -> None:
        self.level = [-math.inf] * len(RISES)  # log of M for each rise
        self.sums = [0.0] * len(RISES)  # log ratios since the most likely beginning
        self.since: list[int | None] = [None] * len(RISES)

    def step(self, hour: Hour, number: int, usual: Usual) -> float:
        """Take in an hour; return the log of M after it."""
        for i, ratio in enumerate(usual.log_ratios(hour, [_raised(usual.rate, by) for by in RISES])):
            self.level[i] = _log_plus_one(self.level[i]) + ratio
            if self.sums[i] + ratio <= 0:
                self.sums[i], self.since[i] = 0.0, None
            else:
                self.sums[i] += ratio
                if self.since[i] is None:
                    self.since[i] = number
        top = max(self.level)
        return top + math.log(sum(math.exp(number - top) for number in self.level) / len(RISES))

    def beginning(self, number: int) -> int:
        best = max(range(len(RISES)), key=lambda i: self.level[i])
        found = self.since[best]
        return number if found is None else found


def _log_plus_one(level: float) -> float:
    if level == -math.inf:
        return 0.0
    return level + math.log1p(math.exp(-level)) if level > 0 else math.log1p(math.exp(level))


def find_shifts(hours: Sequence[Hour], now: datetime, threshold: float) -> list[Shift]:
    """Shifts of one series within `WINDOW` before `now`, in their order; the last may be going on.

    `hours` in order, each once; those without mail may be left out. What is usual is learnt again each day.
    """
    start = now - WINDOW
    out: list[Shift] = []
    if sum(hour.count for hour in hours if hour.at >= start) < _LEAST_COUNT:
        return out
    search, usual, known_on = _Search(), None, None
    inside = _Inside()
    for number, hour in enumerate(hours):
        if hour.at < start or not hour.total:
            continue
        day = hour.at.date()
        if day != known_on and not inside.began:
            before = hour.at.replace(hour=0, minute=0, second=0, microsecond=0)
            usual, known_on = usual_of(_ordinary(hours, before, out)), day
        if usual is None:
            continue
        if inside.began:
            inside.add(hour, usual)
            if inside.over or hour.at - inside.began > LONGEST:
                out[-1] = inside.shift(hour.at)
                search, inside, known_on = _Search(), _Inside(), None
            else:
                out[-1] = inside.shift(None)
            continue
        level = search.step(hour, number, usual)
        if level < math.log(threshold):
            continue
        since = [hour for hour in hours[search.beginning(number) : number + 1] if hour.at >= start]
        if sum(hour.count for hour in since) >= _LEAST_COUNT:
            inside = _Inside(since, hour.at, usual, level / math.log(10))
            out.append(inside.shift(None))
    return out


class _Inside:
    """A shift that goes on, until the usual rate explains the last hours far better than the raised one."""

    def __init__(
        self,
        hours: Sequence[Hour] = (),
        found_at: datetime | None = None,
        usual: Usual | None = None,
        strength: float = 0,
    ) -> None:
        self.began = hours[0].at if hours else None
        self.over = False
        self._found_at, self._usual, self._strength = found_at, usual, strength
        self._count, self._total = sum(hour.count for hour in hours), sum(hour.total for hour in hours)
        self._back = 0.0  # log ratio of usual against raised since it seems over
        self._waiting: list[Hour] = []  # hours that belong to it only if it is not over

    def add(self, hour: Hour, usual: Usual) -> None:
        raised = max(usual.rate * 1.5, min(0.99, self._count / max(1, self._total)))
        ratio = -usual.log_ratios(hour, [raised])[0]
        self._waiting.append(hour)
        if self._back + ratio <= 0:
            self._back = 0.0
            self._count += sum(hour.count for hour in self._waiting)
            self._total += sum(hour.total for hour in self._waiting)
            self._waiting = []
            return
        self._back += ratio
        self.over = self._back >= _ENDED

    def shift(self, at: datetime | None) -> Shift:
        """As it stands; with `at` it is over, and its end is where the usual began again."""
        assert self.began is not None and self._found_at is not None and self._usual is not None
        ended = None
        if at is not None:
            ended = self._waiting[0].at if self._waiting else at
        return Shift(
            self.began, self._found_at, ended, self._usual.seen, self._count, max(1, self._total), self._strength
        )


def _ordinary(hours: Sequence[Hour], before: datetime, shifts: Sequence[Shift]) -> Iterable[Hour]:
    """Yield the hours that say what is usual at a time."""
    for hour in hours:
        if hour.at >= before:
            return
        if hour.at >= before - BASE and not any(
            shift.began_at <= hour.at and (shift.ended_at is None or hour.at < shift.ended_at) for shift in shifts
        ):
            yield hour
