"""Counts of a period, and rates with the interval that their size allows."""

import math
from collections.abc import Iterable
from dataclasses import dataclass, fields

from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.mailflow.event import Kind
from rust_gauge.core.replies import Permanence

_Z = 1.959964  # 95 %


@dataclass(frozen=True, slots=True)
class Rate:
    """A fraction, not a percentage, with its 95 % interval (Wilson's). `count` of `total`."""

    value: float
    low: float
    high: float
    count: int
    total: int


def rate(count: int, total: int) -> Rate | None:
    """`count` in `total`; None when total is 0, which is not the same as a rate of 0.

    Above 1.0 where reports for an earlier window arrive late; the interval is then of the nearest possible rate.
    ValueError if a number is negative.
    """
    if count < 0 or total < 0:
        raise ValueError("counts cannot be negative")
    if total == 0:
        return None
    low, high = wilson(min(count, total) / total, total, _Z)
    return Rate(count / total, low, high, count, total)


def wilson(share: float, total: float, z: float) -> tuple[float, float]:
    """Wilson's score interval for a share seen in `total` trials (which need not be whole)."""
    square = z * z / total
    centre = (share + square / 2) / (1 + square)
    half = z / (1 + square) * math.sqrt(max(0.0, share * (1 - share) / total + square / (4 * total)))
    return max(0.0, centre - half), min(1.0, centre + half)


@dataclass(frozen=True, slots=True)
class Difference:
    """How far the second of two rates lies above the first, with its 95 % interval (Newcombe's, from Wilson's)."""

    value: float
    low: float
    high: float

    @property
    def can_be_told(self) -> bool:
        """Return whether the interval leaves zero out."""
        return self.low > 0 or self.high < 0


def difference(first: Rate, second: Rate) -> Difference:
    """Return the second rate less the first."""
    value = second.value - first.value
    low = value - math.hypot(second.value - second.low, first.high - first.value)
    high = value + math.hypot(second.high - second.value, first.value - first.low)
    return Difference(value, low, high)


@dataclass(slots=True)
class FlowCounts:
    """Events of a period by kind; bounces by permanence."""

    accepted: int = 0
    delivered: int = 0
    delayed: int = 0
    bounced_permanent: int = 0
    bounced_transient: int = 0
    complained: int = 0
    unsubscribed: int = 0
    opened: int = 0
    clicked: int = 0
    withheld: int = 0
    delayed_again: int = 0
    bounced_again: int = 0
    complained_again: int = 0
    unsubscribed_again: int = 0
    returned: int = 0

    @classmethod
    def of(cls, counts: Iterable[tuple[Kind | Count, Permanence, int]]) -> "FlowCounts":
        """Add up counts of kinds by permanence."""
        out = cls()
        for kind, permanence, count in counts:
            out.add(kind, permanence, count)
        return out

    def add(self, kind: Kind | Count, permanence: Permanence, count: int) -> None:
        """Add a number of events of one kind."""
        name = str(kind)
        if kind == Kind.BOUNCED:
            name = "bounced_permanent" if permanence is Permanence.PERMANENT else "bounced_transient"
        setattr(self, name, getattr(self, name) + count)

    def __add__(self, other: "FlowCounts") -> "FlowCounts":
        return FlowCounts(*(getattr(self, f.name) + getattr(other, f.name) for f in fields(self)))

    @property
    def attempted(self) -> int:
        """Messages with a final result: delivered or bounced; one taken and then returned is one message."""
        return self.delivered + self.bounced_permanent + self.bounced_transient - self.returned

    @property
    def received(self) -> int:
        """Messages that were delivered and not returned: those that can be opened or reported."""
        return max(0, self.delivered - self.returned)

    @property
    def permanent_rate(self) -> Rate | None:
        """Permanent bounces of what was attempted; None without mail."""
        return rate(self.bounced_permanent, self.attempted)

    @property
    def transient_rate(self) -> Rate | None:
        """Transient bounces of what was attempted; None without mail."""
        return rate(self.bounced_transient, self.attempted)

    @property
    def delay_rate(self) -> Rate | None:
        """Delayed messages of what was attempted; None without mail."""
        return rate(self.delayed, self.attempted)

    @property
    def unsubscribe_rate(self) -> Rate | None:
        """Unsubscribes of what was delivered and not returned; None without mail."""
        return rate(self.unsubscribed, self.received)

    @property
    def open_rate(self) -> Rate | None:
        """Opened messages of what was delivered and not returned; None without mail."""
        return rate(min(self.opened, self.received), self.received)

    @property
    def complaint_rate(self) -> Rate | None:
        """Feedback reports (RFC 5965) about the messages that were delivered and not returned; None without mail."""
        return rate(self.complained, self.received)
