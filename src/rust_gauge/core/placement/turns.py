"""The day placement turned: the most likely change-point of a provider's runs, if chance does not explain it.

Each run is so many copies in the inbox of so many judged. The series is cut where two shares explain it best (the
likelihood ratio of binomials); how good the best cut of a series without a turn would be is seen by shuffling the runs.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.mailflow.rates import Rate, rate

_SIDE_RUNS, _SIDE_COPIES = 2, 4  # at least, on either side of a turn
_SHUFFLES = 999
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


_Numbers: TypeAlias = NDArray[np.float64]


def find_turn(points: Sequence[Point]) -> Turn | None:
    """Return the turn of a series in the order of time; None where there is none, or too few runs to tell."""
    known = _together([point for point in points if point.judged])
    inbox, judged = (np.array([float(getattr(p, name)) for p in known]) for name in ("inbox", "judged"))
    cut, gain = _best_cut(inbox, judged)
    if cut == 0:
        return None
    as_good = 0
    dice = np.random.default_rng(0)  # the same answer for the same runs
    for _ in range(_SHUFFLES):
        order = dice.permutation(len(known))
        as_good += _best_cut(inbox[order], judged[order])[1] >= gain - 1e-9
        if as_good + 1 > LEAST_SURE * (_SHUFFLES + 1):  # cannot become sure any more
            return None
    before, after = (
        rate(sum(p.inbox for p in side), sum(p.judged for p in side)) for side in (known[:cut], known[cut:])
    )
    assert before is not None and after is not None, "each side has copies"
    return Turn(known[cut].at, known[cut - 1].at, before, after, (as_good + 1) / (_SHUFFLES + 1))


def _together(points: list[Point]) -> list[Point]:
    size = -(-len(points) // _MOST_POINTS)
    if size <= 1:
        return points
    groups = [points[start : start + size] for start in range(0, len(points), size)]
    return [Point(group[0].at, sum(p.inbox for p in group), sum(p.judged for p in group)) for group in groups]


def _best_cut(inbox: _Numbers, judged: _Numbers) -> tuple[int, float]:
    """Return where a series is cut best, and twice the log likelihood ratio; (0, 0) where no cut has enough on a
    side."""
    if len(inbox) < 2 * _SIDE_RUNS:
        return 0, 0.0
    left, left_all = np.cumsum(inbox)[:-1], np.cumsum(judged)[:-1]
    right, right_all = inbox.sum() - left, judged.sum() - left_all
    gain = _log_likelihood(left, left_all) + _log_likelihood(right, right_all)
    gain = 2 * (gain - _log_likelihood(inbox.sum(keepdims=True), judged.sum(keepdims=True)))
    runs = np.arange(1, len(inbox))
    enough = (np.minimum(runs, len(inbox) - runs) >= _SIDE_RUNS) & (np.minimum(left_all, right_all) >= _SIDE_COPIES)
    gain[~enough] = 0.0
    best = int(np.argmax(gain))
    return (best + 1, float(gain[best])) if gain[best] > 1e-9 else (0, 0.0)


def _log_likelihood(count: _Numbers, total: _Numbers) -> _Numbers:
    share = count / np.maximum(total, 1.0)
    inside = np.where((share > 0) & (share < 1), share, 0.5)  # both ends have the likelihood 1
    made: _Numbers = np.where(
        (share > 0) & (share < 1), count * np.log(inside) + (total - count) * np.log(1 - inside), 0.0
    )
    return made
