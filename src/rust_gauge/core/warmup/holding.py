"""Whether a step at a mailbox provider was good enough for the next one to begin.

What happened at the present step is added up. It says something only if the step was really used; a rate counts
against the sender as far as it is certain: the lower end of the 80 % interval of its posterior, with the priors of the
readings' factors, so that one complaint of fifty messages holds nothing back, and ten of a thousand do.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from rust_gauge.core.reputation.memory import rate_ends

USED_FROM = 0.7  # of a ceiling, from which a step was really used


class Turn(StrEnum):
    """What a provider's plan does next."""

    NEXT = "next"
    WAIT = "wait"
    BACK = "back"


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

    name: str
    watch: float
    stop: float
    usual: float
    worth: float


LINES = {
    line.name: line
    for line in (
        Line("deferrals", 0.05, 0.20, 0.02, 50), Line("refusals", 0.01, 0.05, 0.0005, 80),
        Line("invalid addresses", 0.02, 0.05, 0.005, 100), Line("complaints", 0.001, 0.003, 0.0002, 1000),
        Line("test copies in spam or missing", 0.25, 0.60, 0.03, 4),
    )
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Decision:
    """What to do next, and why: a sentence for each reason."""

    turn: Turn
    why: tuple[str, ...]


def decide(days: Sequence[StepDay], lines: dict[str, Line] = LINES) -> Decision:
    """Return what follows from the days of the present step, oldest first."""
    if not days:
        return Decision(Turn.WAIT, ("nothing was sent at this step yet",))
    back, wait = [], []
    for name, count, total in _rates(days):
        if total == 0:
            continue
        line = lines[name]
        seen, of = (np.array(value) for value in (count + line.usual * line.worth, total + line.worth))
        low = float(rate_ends(seen, of)[0])
        said = f"{name}: {count:,} of {total:,} ({100 * count / total:.2f} %)"
        if low > line.stop:
            back.append(f"{said}, above {100 * line.stop:g} %")
        elif low > line.watch:
            wait.append(f"{said}, above {100 * line.watch:g} %")
    if back:
        return Decision(Turn.BACK, (*back, *wait))
    last = days[-1]
    if last.sent < USED_FROM * last.ceiling:
        wait.append(f"only {last.sent:,} of {last.ceiling:,} messages were sent on the last day")
    return Decision(Turn.WAIT, tuple(wait)) if wait else Decision(Turn.NEXT, ("used, and every rate below its line",))


def _rates(days: Sequence[StepDay]) -> list[tuple[str, int, int]]:
    """Return (name, events, of how many) of a step."""
    sent, delivered = sum(day.sent for day in days), sum(day.delivered for day in days)
    found = [
        ("deferrals", min(sent, sum(day.deferred for day in days)), sent),
        ("refusals", sum(day.refused for day in days), sent),
        ("invalid addresses", sum(day.invalid for day in days), sent),
        ("test copies in spam or missing", sum(day.aside for day in days), sum(day.copies for day in days)),
    ]
    reported = [day.complaints for day in days if day.complaints is not None]
    if reported:
        found.append(("complaints", min(sum(reported), delivered), delivered))
    return found
