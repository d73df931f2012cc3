"""Periods of whole days in UTC, counted back from a last day."""

from datetime import UTC, date, datetime, time, timedelta

from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem


def midnight(day: date) -> datetime:
    """Return the start of a day, UTC."""
    return datetime.combine(day, time.min, UTC)


def period_of(context: Context, days: int, last: date | None) -> tuple[date, date]:
    """Return the first and last day; without `last`, up to today. ServiceProblem when it is in the future."""
    today = context.clock().date()
    end = last or today
    if end > today:
        raise ServiceProblem("invalid-request", f"last: {end} is in the future", remedy="Use today or an earlier day")
    return end - timedelta(days=days - 1), end
