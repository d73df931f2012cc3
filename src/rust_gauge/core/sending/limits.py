"""Sending limits: how much of one is used, when it will be reached at the present pace, and when there is room again.

A relay counts what it took in the last hour or day, whenever that began. Counters are kept by hour, so the oldest hour
of a period counts by the share of it that still lies inside, as if its mail had come evenly.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

_HOUR = timedelta(hours=1)
_AHEAD = timedelta(days=2)  # further ahead no pace holds
_STEP = timedelta(minutes=5)
_HEARD_OF = 2  # hours within which events of mail that was let go are there


class Period(StrEnum):
    """What a limit is per."""

    SECOND = "second"
    HOUR = "hour"
    DAY = "day"

    @property
    def length(self) -> timedelta:
        """Return how long it is."""
        return {Period.SECOND: timedelta(seconds=1), Period.HOUR: _HOUR, Period.DAY: timedelta(days=1)}[self]

    @property
    def with_article(self) -> str:
        """Return how a number is followed by it: "an hour"."""
        return "an hour" if self is Period.HOUR else f"a {self.value}"


Hours = Mapping[datetime, int]
"""Messages by the hour in which they went out; the keys are full hours."""


@dataclass(frozen=True, slots=True)
class Use:
    """How far a limit is used. `reached_at`: when it will be reached at the present pace, None if not within two days;
    `free_at`: when the next message may go, `now` where there is room."""

    limit: int
    used: int
    reached_at: datetime | None
    free_at: datetime

    @property
    def remaining(self) -> int:
        """Return how many messages may still go now."""
        return max(0, self.limit - self.used)


def use_of(hours: Hours, now: datetime, period: Period, limit: int, pace: float) -> Use:
    """Return the use of a limit per hour or day. `pace`: messages an hour that go out now."""
    used = used_in(hours, now, period.length)
    return Use(limit, round(used), _reached_at(hours, now, period, limit, pace), free_at(hours, now, period, limit))


def used_in(hours: Hours, now: datetime, length: timedelta, until: datetime | None = None) -> float:
    """Return how many messages went out in the period that ends at `until` (now); nothing goes out after now."""
    since, until = (until or now) - length, until or now
    return sum(n * _inside(hour, since, until, now) for hour, n in hours.items())


def _inside(hour: datetime, since: datetime, until: datetime, now: datetime) -> float:
    """Return which share of an hour's mail lies in a period. That of the present hour came before now."""
    end = min(hour + _HOUR, max(now, hour))
    if since <= hour and end <= until:
        return 1.0
    if end == hour:
        return 0.0
    covered = min(end, until) - max(hour, since)
    return max(0.0, min(1.0, covered / (end - hour)))


def free_at(hours: Hours, now: datetime, period: Period, limit: int) -> datetime:
    """Return from when on a message may go if none goes until then. With a limit of 0 that is never: `now` plus two
    days."""
    at = now
    while at < now + _AHEAD:
        if used_in(hours, now, period.length, at) <= limit - 1:
            return at
        at += _STEP
    return now + _AHEAD


def _reached_at(hours: Hours, now: datetime, period: Period, limit: int, pace: float) -> datetime | None:
    at = now
    while at <= now + _AHEAD:
        ahead = min(at - now, period.length)  # what goes out from now on, of it what lies in the period
        if used_in(hours, now, period.length, at) + pace * (ahead / _HOUR) >= limit:
            return at
        at += _STEP
    return None


def with_cleared(sent: Hours, cleared: Hours, now: datetime) -> dict[datetime, int]:
    """Return what counts by hour: what was sent, and in the present hour what clearance let go of late and nobody has
    heard of yet. What is cleared and never sent counts for two hours."""
    hour = now.replace(minute=0, second=0, microsecond=0)
    lately = [hour - back * _HOUR for back in range(_HEARD_OF)]
    pending = sum(cleared.get(each, 0) for each in lately) - sum(sent.get(each, 0) for each in lately)
    return {**sent, hour: sent.get(hour, 0) + max(0, pending)}
