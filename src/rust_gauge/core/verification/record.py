"""A verifier's record: its verdicts beside what later became of mail to the same addresses."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum
from math import sqrt

from rust_gauge.core.suppression.checks import Verdict

_Z = 1.96  # for intervals of 95 %


class Outcome(StrEnum):
    """What the first mail after a verdict showed: the mailbox took it, or there is none."""

    DELIVERED = "delivered"
    INVALID = "invalid"


@dataclass(frozen=True, slots=True)
class Line:
    """Of one verdict: how many were given, to how many of those mail went later, and how many of them were invalid.

    `low` and `high` are the ends of the 95 % interval of the share that was invalid (Wilson); None without mail.
    """

    verdict: Verdict
    given: int
    mailed: int
    invalid: int

    @property
    def share(self) -> float | None:
        """Return which share of those that got mail was invalid."""
        return self.invalid / self.mailed if self.mailed else None

    @property
    def interval(self) -> tuple[float, float] | None:
        """Return the 95 % interval of that share."""
        if not self.mailed:
            return None
        n, p = self.mailed, self.invalid / self.mailed
        middle, root = p + _Z**2 / (2 * n), _Z * sqrt(p * (1 - p) / n + _Z**2 / (4 * n * n))
        whole = 1 + _Z**2 / n
        return max(0.0, (middle - root) / whole), min(1.0, (middle + root) / whole)


def record_of(counts: Iterable[tuple[Verdict, Outcome | None, int]]) -> list[Line]:
    """Return a line for each verdict, from (verdict, outcome, how many)."""
    given = dict.fromkeys(Verdict, 0)
    mailed, invalid = dict(given), dict(given)
    for verdict, outcome, n in counts:
        given[verdict] += n
        mailed[verdict] += n if outcome is not None else 0
        invalid[verdict] += n if outcome is Outcome.INVALID else 0
    return [Line(verdict, given[verdict], mailed[verdict], invalid[verdict]) for verdict in Verdict]
