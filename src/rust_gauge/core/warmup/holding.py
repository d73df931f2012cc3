"""Whether a step at a mailbox provider was good enough for the next one to begin.

What happened at the present step is added up. It says something only if the step was really used; a rate counts
against the sender as far as it is certain: the lower end of the 80 % interval of its posterior, with the priors of the
readings' factors, so that one complaint of fifty messages holds nothing back, and ten of a thousand do.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from enum import StrEnum

import numpy as np

from rust_gauge.core.reputation.memory import rate_ends

USED_FROM = 0.7  # of a ceiling, from which a step was really used
STEPS_BACK = 2
_CERTAIN_FROM = 20  # messages: fewer say less than what is taken for granted
LOOKED_BACK = 7  # days of a step that are added up at most


class Turn(StrEnum):
    """What a provider's plan does next. `START` and `SET`: it began, or somebody overruled it."""

    NEXT = "next"
    WAIT = "wait"
    BACK = "back"
    START = "start"
    SET = "set"


class Rate(StrEnum):
    """What holds a step back."""

    DEFERRALS = "deferrals"
    REFUSALS = "refusals"
    INVALID_ADDRESSES = "invalid_addresses"
    COMPLAINTS = "complaints"
    PLACEMENT = "placement"


@dataclass(frozen=True, slots=True)
class StepDay:
    """One day of the present step at one provider. `complaints` is None where it reports none."""

    ceiling: int
    sent: int
    deferred: int = 0
    refused: int = 0
    invalid: int = 0
    delivered: int = 0
    complaints: int | None = None
    copies: int = 0
    aside: int = 0


@dataclass(frozen=True, slots=True)
class Line:
    """From which rate on a step waits, and from which it goes back; `usual` is taken for granted of a sender of whom
    nothing is known, and `worth` is how many messages that is worth."""

    watch: float
    stop: float
    usual: float
    worth: float


LINES = {
    Rate.DEFERRALS: Line(0.05, 0.20, 0.02, 50),
    Rate.REFUSALS: Line(0.01, 0.05, 0.0005, 80),
    Rate.INVALID_ADDRESSES: Line(0.02, 0.05, 0.005, 100),
    Rate.COMPLAINTS: Line(0.001, 0.003, 0.0002, 1000),
    Rate.PLACEMENT: Line(0.25, 0.60, 0.03, 4),
}
_NAMES = {
    Rate.DEFERRALS: "deferrals", Rate.REFUSALS: "refusals", Rate.INVALID_ADDRESSES: "invalid addresses",
    Rate.COMPLAINTS: "complaints", Rate.PLACEMENT: "test copies in spam or missing",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Above:
    """A rate that is above a line for certain: `count` of `total`, the lower end of its interval, and the line."""

    rate: Rate
    count: int
    total: int
    low: float
    line: float

    def __str__(self) -> str:
        share = 100 * self.count / self.total
        return f"{_NAMES[self.rate]}: {self.count:,} of {self.total:,} ({share:.2f} %), above {100 * self.line:g} %"


@dataclass(frozen=True, slots=True)
class Unused:
    """A step of which too little was used to say anything."""

    sent: int
    ceiling: int

    def __str__(self) -> str:
        if not self.ceiling:
            return "nothing was sent at this step yet"
        return f"only {self.sent:,} of {self.ceiling:,} messages were sent on the last day"


@dataclass(frozen=True, slots=True)
class Decision:
    """What to do next, and what speaks against going on; nothing does where the next step begins.

    `certain`: each rate is below its line with the upper end of its interval too, so that a step may be skipped.
    """

    turn: Turn
    above: tuple[Above, ...] = ()
    unused: Unused | None = None
    certain: bool = False

    @property
    def why(self) -> tuple[str, ...]:
        """A sentence for each reason."""
        unused = () if self.unused is None else (str(self.unused),)
        return (*map(str, self.above), *unused) or ("used, and every rate below its line",)


def decide(days: Sequence[StepDay]) -> Decision:
    """Return what follows from the days of the present step, oldest first; the last `LOOKED_BACK` of them count."""
    days = days[-LOOKED_BACK:]
    if not days:
        return Decision(Turn.WAIT, unused=Unused(0, 0))
    found: list[Above] = []
    turn, certain = Turn.NEXT, True
    for rate, count, total in _rates(days):
        if total == 0:
            continue
        line = LINES[rate]
        seen, of = (np.array(value) for value in (count + line.usual * line.worth, total + line.worth))
        low, high = map(float, rate_ends(seen, of))
        certain = certain and high <= line.watch
        if low > line.stop:
            found.insert(0, Above(rate, count, total, low, line.stop))
            turn = Turn.BACK
        elif low > line.watch:
            found.append(Above(rate, count, total, low, line.watch))
            turn = Turn.WAIT if turn is Turn.NEXT else turn
    last = days[-1]
    unused = Unused(last.sent, last.ceiling) if last.sent < USED_FROM * last.ceiling else None
    if unused is not None and turn is Turn.NEXT:
        turn = Turn.WAIT
    certain = certain and turn is Turn.NEXT and sum(day.sent for day in days) >= _CERTAIN_FROM
    return Decision(turn, tuple(found), unused if turn is not Turn.BACK else None, certain)


@dataclass(frozen=True, slots=True)
class Track:
    """Where a provider's plan is: the step, from 0 on, and the day on which it began."""

    step: int
    since: date

    def after(self, decision: Decision, day: date, steps: int, *, skip: bool = False) -> "Track":
        """Return where the plan is on the day that follows a decision. The last of so many steps goes on for good.

        `skip`: leave one out where every rate is certainly below its line.
        """
        if decision.turn is Turn.NEXT and self.step < steps - 1:
            return Track(min(steps - 1, self.step + (2 if skip and decision.certain else 1)), day)
        if decision.turn is Turn.BACK:
            return Track(max(0, self.step - STEPS_BACK), day)
        return self


def _rates(days: Sequence[StepDay]) -> list[tuple[Rate, int, int]]:
    """Return (rate, events, of how many) of a step."""
    sent, delivered = sum(day.sent for day in days), sum(day.delivered for day in days)
    # More is deferred than was sent where mail still waits: all of it, then.
    tried = max(sent, sum(day.deferred for day in days))
    found = [
        (Rate.DEFERRALS, sum(day.deferred for day in days), tried),
        (Rate.REFUSALS, sum(day.refused for day in days), sent),
        (Rate.INVALID_ADDRESSES, sum(day.invalid for day in days), sent),
        (Rate.PLACEMENT, sum(day.aside for day in days), sum(day.copies for day in days)),
    ]
    reported = [day.complaints for day in days if day.complaints is not None]
    if reported:
        found.append((Rate.COMPLAINTS, min(sum(reported), delivered), delivered))
    return found
