"""What goes wrong in a made-up world: ten kinds of incidents, some of a day, some that creep."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
FAST = (
    "complaint surge",
    "bought list",
    "broken key",
    "missing SPF include",
    "listed address",
    "blast",
    "stolen account",
)
SLOW = ("complaint creep", "list decay", "fading readers")
KINDS = FAST + SLOW
EFFECTS = ("annoys", "dead", "broken", "listed", "content", "mail", "reads")


@dataclass(frozen=True)
class Incident:
    """What happened to a sender, with its first and last day."""

    sender: int
    kind: str
    first: int
    last: int


def draw(dice: np.random.Generator, senders: int, days: int, warm: int, pool: NDArray[np.intp]) -> tuple[
    list[Incident], dict[str, Array]
]:  # fmt: skip
    """Return what happens, and its effects by sender and day; `pool`: the shared address of each sender, -1 for none.

    A third of the senders never has an incident, and nobody has two that touch.
    """
    level = {name: np.zeros((senders, days)) for name in EFFECTS}
    out: list[Incident] = []
    for sender in range(senders):
        if sender % 3 == 0:
            continue
        day = warm + int(dice.integers(5, 60))
        while day < days - 30:
            kind = KINDS[int(dice.integers(len(KINDS)))]
            slow = kind in SLOW
            length = int(dice.integers(25, 50)) if slow else int(dice.integers(1, 4)) if kind == "blast" else int(
                dice.integers(2, 15))  # fmt: skip
            last = min(days - 1, day + length - 1)
            _affect(level, kind, sender, day, last, dice.uniform(0.5, 1.5), pool)
            out.append(Incident(sender, kind, day, last))
            day = last + int(dice.integers(50, 110))
    return out, level


def _affect(
    level: dict[str, Array], kind: str, sender: int, first: int, last: int, size: float, pool: NDArray[np.intp]
) -> None:
    span = slice(first, last + 1)
    ramp = np.linspace(0.08, 1, last + 1 - first)
    if kind == "complaint surge":
        level["annoys"][sender, span] += 0.010 * size
    elif kind == "bought list":
        level["dead"][sender, span] += 0.12 * size
        level["annoys"][sender, span] += 0.006 * size
        level["reads"][sender, span] -= 0.4 * min(1.0, size)
        level["mail"][sender, span] += 0.6 * size
    elif kind == "broken key":
        level["broken"][sender, span] += min(1.0, 0.8 * size)
    elif kind == "missing SPF include":
        level["broken"][sender, span] += min(1.0, 0.35 * size)
    elif kind == "listed address":
        mates = [sender] if pool[sender] < 0 else np.flatnonzero(pool == pool[sender])
        level["listed"][mates, span] = 1.0
    elif kind == "blast":
        level["mail"][sender, span] += 7 * size
        level["annoys"][sender, span] += 0.004 * size
        level["dead"][sender, span] += 0.02 * size
    elif kind == "stolen account":
        level["content"][sender, span] += min(1.0, 0.8 * size)
        level["annoys"][sender, span] += 0.02 * size
        level["dead"][sender, span] += 0.08 * size
        level["mail"][sender, span] += 0.8 * size
    elif kind == "complaint creep":
        level["annoys"][sender, span] += 0.007 * size * ramp
    elif kind == "list decay":
        level["dead"][sender, span] += 0.10 * size * ramp
        level["reads"][sender, span] -= 0.25 * min(1.0, size) * ramp
    else:
        level["reads"][sender, span] -= np.minimum(0.85, 0.8 * size * ramp)
        level["annoys"][sender, span] += 0.001 * size * ramp
