"""What an event counts as, when others of the same message and recipient are known.

A message that is deferred five times was delayed once; a bounce that two sources tell of is one bounce; a bounce after
a delivery takes the delivery back. So within one message to one recipient the earliest delay, bounce, complaint and
unsubscription count, the others count as told *again*, and a message both delivered and bounced is *returned* once.
A complaint and an unsubscription count where the delivery of their message does (its hour, domain, stream, relay), for
a rate is about mail, not about the day on which somebody spoke of it; without a known delivery, where they happened.
None of that depends on the order of arrival: a recount of all events has the same result.
"""

import math
from collections import Counter
from collections.abc import Hashable, Iterable, Mapping
from datetime import datetime, timedelta
from enum import StrEnum
from typing import NamedTuple, TypeVar

from rust_gauge.core.mailflow.event import Kind


class Count(StrEnum):
    """What is counted: the kinds of events with the same numbers, then what only counting knows. Appending is safe."""

    ACCEPTED = "accepted"
    DELIVERED = "delivered"
    DELAYED = "delayed"  # messages, not attempts
    BOUNCED = "bounced"
    COMPLAINED = "complained"
    UNSUBSCRIBED = "unsubscribed"
    OPENED = "opened"
    CLICKED = "clicked"
    WITHHELD = "withheld"
    DELAYED_AGAIN = "delayed_again"
    BOUNCED_AGAIN = "bounced_again"
    COMPLAINED_AGAIN = "complained_again"
    UNSUBSCRIBED_AGAIN = "unsubscribed_again"
    RETURNED = "returned"  # bounced after the provider had taken it

    @property
    def number(self) -> int:
        """The number that the store writes for this count."""
        return _NUMBERS[self]

    @classmethod
    def from_number(cls, number: int) -> "Count":
        """Return the count that the store wrote as `number`."""
        return _COUNTS[number]


_COUNTS = tuple(Count)
_NUMBERS = {count: index for index, count in enumerate(_COUNTS)}
_AGAIN = {
    Kind.DELAYED.number: Count.DELAYED_AGAIN.number,
    Kind.BOUNCED.number: Count.BOUNCED_AGAIN.number,
    Kind.COMPLAINED.number: Count.COMPLAINED_AGAIN.number,
    Kind.UNSUBSCRIBED.number: Count.UNSUBSCRIBED_AGAIN.number,
}
ONCE = frozenset(_AGAIN)  # numbers of kinds that count once for a message and recipient
APART = timedelta(days=35)  # events of one message are not further apart
_OF_THE_MAIL = (Kind.COMPLAINED.number, Kind.UNSUBSCRIBED.number)
GROUPED = ONCE | {Kind.DELIVERED.number}  # and what has to be known beside them

Slot = TypeVar("Slot", bound=Hashable)


class Told(NamedTuple):
    """An event of a group: when, which, its kind's number, and the slot that it is counted in."""

    occurred_at: datetime
    identity: bytes
    kind: int
    slot: Hashable


def count_group(events: Iterable[Told]) -> Counter[tuple[Hashable, int]]:
    """(slot, number of the count) of one message to one recipient."""
    out: Counter[tuple[Hashable, int]] = Counter()
    first: dict[int, Told] = {}
    for event in sorted(events, key=lambda told: (told.occurred_at, told.identity)):
        again = _AGAIN.get(event.kind)
        if again is not None and event.kind in first:
            out[event.slot, again] += 1
        else:
            first.setdefault(event.kind, event)
            if event.kind not in _OF_THE_MAIL:
                out[event.slot, event.kind] += 1
    for kind in _OF_THE_MAIL:
        if kind in first:
            out[_mail_of(first[kind], first).slot, kind] += 1
    if Kind.BOUNCED.number in first and Kind.DELIVERED.number in first:
        out[first[Kind.BOUNCED.number].slot, Count.RETURNED.number] += 1
    return out


def _mail_of(told: Told, first: Mapping[int, Told]) -> Told:
    """Return the delivery that a complaint is about, or the complaint itself when none is near enough."""
    delivered = first.get(Kind.DELIVERED.number)
    return told if delivered is None or abs(told.occurred_at - delivered.occurred_at) > APART else delivered


# Time to delivery is counted in steps of a quarter of a doubling: bucket 0 is under a second, 5 from 2 to 2.4.
_STEPS = 4  # buckets for each doubling: a median is right to within 19 %
LAST_BUCKET = 95  # about 160 days; nothing is retried for that long


def time_bucket(seconds: float) -> int:
    """Return the bucket of a time to delivery."""
    if seconds < 1.0:
        return 0
    return min(LAST_BUCKET, int(math.log2(seconds) * _STEPS) + 1)


def bucket_times(bucket: int) -> tuple[float, float]:
    """From and below how many seconds a bucket reaches."""
    return (0.0, 1.0) if bucket == 0 else (2 ** ((bucket - 1) / _STEPS), 2 ** (bucket / _STEPS))


def time_quantile(buckets: Iterable[tuple[int, int]], share: float) -> float | None:
    """Seconds within which `share` of the counted messages were delivered; right to a tenth. None without any."""
    ordered = sorted(buckets)
    total = sum(n for _, n in ordered)
    if not total:
        return None
    left = share * total
    for bucket, n in ordered:
        if left <= n:
            low, high = bucket_times(bucket)
            return low + (high - low) * left / n
        left -= n
    return bucket_times(ordered[-1][0])[1]
