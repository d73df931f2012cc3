"""When mail of a plan goes out: chosen hours of a time zone, and how much fits into each from now on.

A day of a plan is a day in UTC, as everywhere; its hours are those whose beginning has one of the chosen hours on the
clock of the time zone.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from rust_gauge.core.errors import InputError
from rust_gauge.core.warmup.steps import Step

_HOUR = timedelta(hours=1)
_MOST_DAYS = 366  # ahead, beyond which nothing is planned


@dataclass(frozen=True, slots=True)
class Window:
    """The hours of the day, 0 to 23, in which mail goes out. InputError for what is none."""

    hours: tuple[int, ...]
    time_zone: str = "UTC"

    def __post_init__(self) -> None:
        if not self.hours or any(not 0 <= hour <= 23 for hour in self.hours):
            raise InputError("Choose hours from 0 to 23, at least one", field="hours")
        try:
            ZoneInfo(self.time_zone)
        except (ZoneInfoNotFoundError, ValueError, OSError):
            raise InputError(
                f"{self.time_zone!r} is not a time zone", remedy="Write it as in Atlantic/Faroe, or UTC",
                field="time_zone",
            ) from None  # fmt: skip

    def hours_of(self, day: date) -> list[datetime]:
        """Return when the hours of a day begin, in UTC and in order."""
        return _hours_of(self, day)


@lru_cache(maxsize=4096)  # asked before each send
def _hours_of(window: Window, day: date) -> list[datetime]:
    zone, midnight = ZoneInfo(window.time_zone), datetime.combine(day, time(), UTC)
    every = (midnight + number * _HOUR for number in range(24))
    return [hour for hour in every if hour.astimezone(zone).hour in window.hours]


@dataclass(frozen=True, slots=True)
class Opening:
    """So many messages may go from this time on, within its hour."""

    at: datetime
    room: int


def openings(
    window: Window, step_on: Callable[[date], Step], now: datetime, sent_today: int = 0, sent_this_hour: int = 0
) -> Iterator[Opening]:
    """Yield the hours into which mail fits, from the present one on, for a year. `step_on`: the ceilings of a day."""
    this_hour = now.replace(minute=0, second=0, microsecond=0)
    for ahead in range(_MOST_DAYS):
        day = now.date() + timedelta(days=ahead)
        step = step_on(day)
        left = step.per_day - (sent_today if ahead == 0 else 0)
        for hour in window.hours_of(day):
            if hour < this_hour:
                continue
            room = min(left, step.per_hour - (sent_this_hour if hour == this_hour else 0))
            if room > 0:
                yield Opening(max(hour, now), room)
                left -= room
