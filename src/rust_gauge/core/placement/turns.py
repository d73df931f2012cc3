"""The day placement turned: the most likely change-point of a provider's runs, if chance does not explain it.

Each run is so many copies in the inbox of so many judged. The series is cut where two shares explain it best (the
likelihood ratio of binomials); how good the best cut of a series without a turn would be is seen by shuffling the runs.
"""

import math
import random
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from rust_gauge.core.mailflow.rates import Rate, rate

_SIDE_RUNS, _SIDE_COPIES = 2, 4  # at least, on either side of a turn
_SHUFFLES = 199
_MOST_POINTS = 400  # more runs are put together, neighbours with neighbours
LEAST_SURE = 0.01  # as good a cut in at most this share of shuffled series


@dataclass(frozen=True, slots=True)
class Point:
    """One run at a provider. Copies whose fate is not known are in neither number."""

    at: datetime
    inbox: int
    judged: int


@dataclass(frozen=True, slots=True)
class Turn:
    """`at` is the first run of the new state, `last_before` the run before it. `chance`: how often shuffled runs would
    show as much."""

    at: datetime
    last_before: datetime
    before: Rate
    after: Rate
    chance: float

    @property
    def is_worse(self) -> bool:
        """Return whether less goes to the inbox since."""
        return self.after.value < self.before.value


def find_turn(points: Sequence[Point]) -> Turn | None:
    """Return the turn of a series in the order of time; None where there is none, or too few runs to tell."""
    known = _together([point for point in points if point.judged])
    best = _best_cut([(point.inbox, point.judged) for point in known])
    if best is None:
        return None
    cut, gain = best
    as_good = 0
    dice = random.Random(0)  # noqa: S311 - the same answer for the same runs
    pairs = [(point.inbox, point.judged) for point in known]
    for _ in range(_SHUFFLES):
        dice.shuffle(pairs)
        found = _best_cut(pairs)
        as_good += found is not None and found[1] >= gain - 1e-9
        if as_good > LEAST_SURE * (_SHUFFLES + 1):  # cannot become sure any more
            return None
    chance = (as_good + 1) / (_SHUFFLES + 1)
    before, after = (
        rate(sum(p.inbox for p in side), sum(p.judged for p in side)) for side in (known[:cut], known[cut:])
    )
    if chance > LEAST_SURE or before is None or after is None:
        return None
    return Turn(known[cut].at, known[cut - 1].at, before, after, chance)


def _together(points: list[Point]) -> list[Point]:
    size = -(-len(points) // _MOST_POINTS)
    if size <= 1:
        return points
    groups = [points[start : start + size] for start in range(0, len(points), size)]
    return [Point(group[0].at, sum(p.inbox for p in group), sum(p.judged for p in group)) for group in groups]


def _best_cut(pairs: Sequence[tuple[int, int]]) -> tuple[int, float] | None:
    """Return where a series is cut best, and twice the log likelihood ratio; None where no cut has enough on a side."""
    inbox, judged = sum(pair[0] for pair in pairs), sum(pair[1] for pair in pairs)
    if not judged:
        return None
    whole = _log_likelihood(inbox, judged)
    best: tuple[int, float] | None = None
    left_inbox = left_judged = 0
    for number, (a, b) in enumerate(pairs[:-1], 1):
        left_inbox, left_judged = left_inbox + a, left_judged + b
        if number < _SIDE_RUNS or len(pairs) - number < _SIDE_RUNS:
            continue
        if left_judged < _SIDE_COPIES or judged - left_judged < _SIDE_COPIES:
            continue
        parts = _log_likelihood(left_inbox, left_judged) + _log_likelihood(inbox - left_inbox, judged - left_judged)
        gain = 2 * (parts - whole)
        if best is None or gain > best[1]:
            best = number, gain
    return best


def _log_likelihood(count: int, total: int) -> float:
    if count in (0, total):
        return 0.0
    share = count / total
    return count * math.log(share) + (total - count) * math.log(1 - share)
