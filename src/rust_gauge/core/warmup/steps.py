"""The steps of a plan: ceilings per day and hour, from a start to a target.

`even` multiplies by the same factor each day, ceiling(d) = start · (target / start)^(d / (n - 1)), as trust is lost by
jumps, and a jump is a ratio. `careful` grows as much in all but slowly at first, (d / (n - 1))^1.5 in the exponent;
`straight` adds the same number each day. Ceilings are rounded down to two digits, and never fall.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from math import ceil, floor, log10

from rust_gauge.core.errors import InputError

MOST_STEPS = 120
_CAREFUL = 1.5


class Shape(StrEnum):
    """How ceilings grow."""

    EVEN = "even"
    CAREFUL = "careful"
    STRAIGHT = "straight"


@dataclass(frozen=True, slots=True)
class Step:
    """A ceiling: messages a day, and in one hour of it."""

    per_day: int
    per_hour: int


def make_steps(start: int, target: int, days: int, shape: Shape, hours: int = 8) -> tuple[Step, ...]:
    """Return a step for each of so many days. `hours`: in how many hours of a day mail goes out, which bounds what goes
    in one. InputError for a plan that does not grow, or has no or too many days."""
    if not 1 <= start <= target:
        raise InputError(f"A plan from {start:,} to {target:,} messages a day does not grow", field="start")
    if not 2 <= days <= MOST_STEPS:
        raise InputError(f"A plan has 2 to {MOST_STEPS} days, not {days}", field="days")
    if not 1 <= hours <= 24:
        raise InputError(f"Mail goes out in 1 to 24 hours of a day, not {hours}", field="hours")
    ceilings = [_rounded(_ceiling(start, target, day / (days - 1), shape)) for day in range(days - 1)]
    return steps_of([*_rising(ceilings, start, target), target], hours)


def steps_of(ceilings: Sequence[int], hours: int) -> tuple[Step, ...]:
    """Return steps with these ceilings a day; a quarter more than an even share may go in one hour."""
    return tuple(Step(per_day, max(1, ceil(1.25 * per_day / hours))) for per_day in ceilings)


def part_of(step: Step, share: float, hours: int) -> Step:
    """Return the ceilings that one provider with this share of the mail gets of a step: at least one message."""
    return steps_of([max(1, round(step.per_day * share))], hours)[0]


def _ceiling(start: int, target: int, share: float, shape: Shape) -> float:
    if shape is Shape.STRAIGHT:
        return start + (target - start) * share
    return float(start * (target / start) ** (share**_CAREFUL if shape is Shape.CAREFUL else share))


def _rounded(value: float) -> int:
    digits = max(0, floor(log10(value)) - 1) if value >= 1 else 0
    return int(value // 10**digits * 10**digits)


def _rising(ceilings: Sequence[int], start: int, target: int) -> list[int]:
    out: list[int] = []
    for ceiling in ceilings:
        out.append(min(target, max(ceiling, out[-1] if out else start)))
    return out
