"""When a schedule runs: from hourly to monthly, at chosen hours of a time zone.

A time that a change of the clock skips runs as soon as that hour is over; one that comes twice runs the first time.
"""

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from enum import StrEnum
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from rust_gauge.core.errors import InputError

_LONGEST_MONTH = 31
_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_DAYS_AHEAD = 70  # the 31st of a month is at most two months away


class Every(StrEnum):
    """How often a schedule runs."""

    HOURLY = "hourly"
    DAILY = "daily"
    WEEKLY = "weekly"
    MONTHLY = "monthly"


@dataclass(frozen=True, slots=True)
class Rhythm:
    """When to run. InputError where nothing would ever run, or something is out of range.

    `hours`: 0 to 23; hourly without any means every hour. `weekdays`: 1 is Monday, for weekly. `month_days`: for
    monthly; a day that a month does not have is its last one.
    """

    every: Every
    hours: tuple[int, ...] = ()
    minute: int = 0
    weekdays: tuple[int, ...] = ()
    month_days: tuple[int, ...] = ()
    time_zone: str = "UTC"

    def __post_init__(self) -> None:
        _check_range("hours", self.hours, 0, 23)
        _check_range("minute", (self.minute,), 0, 59)
        _check_range("weekdays", self.weekdays, 1, 7)
        _check_range("month_days", self.month_days, 1, _LONGEST_MONTH)
        if self.every is not Every.HOURLY and not self.hours:
            raise InputError("No hour is chosen", remedy="Choose at least one hour of the day", field="hours")
        if self.every is Every.WEEKLY and not self.weekdays:
            raise InputError("No weekday is chosen", remedy="Choose at least one, 1 is Monday", field="weekdays")
        if self.every is Every.MONTHLY and not self.month_days:
            raise InputError("No day of the month is chosen", remedy="Choose at least one", field="month_days")
        try:
            ZoneInfo(self.time_zone)
        except (ZoneInfoNotFoundError, ValueError, OSError):
            raise InputError(
                f"{self.time_zone!r} is not a time zone", remedy="Write it as in Atlantic/Faroe, or UTC",
                field="time_zone",
            ) from None  # fmt: skip


def _check_range(field: str, values: tuple[int, ...], low: int, high: int) -> None:
    for value in values:
        if not low <= value <= high:
            raise InputError(f"{field}: {value} is not between {low} and {high}", field=field)


def next_time(rhythm: Rhythm, after: datetime) -> datetime:
    """Return the first time to run after a time, in UTC. Both are aware."""
    zone = ZoneInfo(rhythm.time_zone)
    start = after.astimezone(zone).date()
    hours = sorted(set(rhythm.hours)) or range(24)
    for ahead in range(-1, _DAYS_AHEAD):
        day = start + timedelta(days=ahead)
        if not _runs_on(rhythm, day):
            continue
        for hour in hours:
            at = datetime.combine(day, time(hour, rhythm.minute), zone).astimezone(UTC)
            if at > after:
                return at
    raise AssertionError("a rhythm runs within two months")


def _runs_on(rhythm: Rhythm, day: date) -> bool:
    if rhythm.every is Every.WEEKLY:
        return day.isoweekday() in rhythm.weekdays
    if rhythm.every is Every.MONTHLY:
        last = ((day.replace(day=28) + timedelta(days=4)).replace(day=1) - timedelta(days=1)).day
        return day.day in {min(each, last) for each in rhythm.month_days}
    return True


def describe(rhythm: Rhythm) -> str:
    """Return a rhythm in words, such as "Mondays and Thursdays at 09:30 (Atlantic/Faroe)"."""
    hours = sorted(set(rhythm.hours))
    if not hours:
        return f"every hour at minute {rhythm.minute}"
    times = _listed([f"{hour:02}:{rhythm.minute:02}" for hour in hours])
    zone = f" ({rhythm.time_zone})"
    if rhythm.every in (Every.HOURLY, Every.DAILY):
        return f"daily at {times}{zone}"
    if rhythm.every is Every.WEEKLY:
        days = _listed([f"{_WEEKDAYS[each - 1]}s" for each in sorted(set(rhythm.weekdays))])
        return f"{days} at {times}{zone}"
    days = _listed([_ordinal(each) for each in sorted(set(rhythm.month_days))])
    return f"the {days} of each month at {times}{zone}"


def _listed(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _ordinal(number: int) -> str:
    ending = "th" if 11 <= number <= 13 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"
