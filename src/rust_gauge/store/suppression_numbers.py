"""Numbers of the suppression list by day: what was added, removed and withheld."""

from collections import Counter
from dataclasses import dataclass
from datetime import date

from sqlalchemy import Connection, func, select

from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.columns import CounterKey
from rust_gauge.store.values import values_of

_CHUNK = 2000  # rows of one statement
CAME, LEFT, WITHHELD = 1, 2, 3  # of suppression_day.what


@dataclass(frozen=True, slots=True)
class DayNumbers:
    """Return the entries added and removed per day."""

    day: date
    what: int
    reason: int
    provider_id: int
    stream: str | None
    n: int


@dataclass(frozen=True, slots=True)
class NumbersBefore:
    """Return the entries added and removed before a day."""

    what: int
    reason: int
    provider_id: int
    stream: str | None
    n: int


_COUNT = "INSERT INTO suppression_day (tenant_id, day, what, reason, provider_id, stream_id, n) VALUES"
_COUNT_MORE = "ON DUPLICATE KEY UPDATE n = n + VALUES(n)"


def add_counts(connection: Connection, counts: Counter[CounterKey]) -> None:
    """Add to suppression_day: (tenant id, day, what, reason, provider id, stream id)."""
    rows = [(*key, n) for key, n in sorted(counts.items())]
    for start in range(0, len(rows), _CHUNK):
        insert_rows(connection, _COUNT, rows[start : start + _CHUNK], _COUNT_MORE)


def days(connection: Connection, tenant_id: int, first: date, last: date) -> list[DayNumbers]:
    """day, what, reason, provider_id, provider, stream, n of a period."""
    d = t.suppression_day.c
    query = (
        select(d.day, d.what, d.reason, d.provider_id, t.stream.c.name.label("stream"), func.sum(d.n).label("n"))
        .outerjoin(t.stream, t.stream.c.id == d.stream_id)
        .where(d.tenant_id == tenant_id, d.day.between(first, last))
        .group_by(d.day, d.what, d.reason, d.provider_id, d.stream_id)
    )
    return values_of(DayNumbers, connection.execute(query))


def standing_before(connection: Connection, tenant_id: int, day: date) -> list[NumbersBefore]:
    """reason, provider_id, stream, n: how many stood on the morning of a day."""
    d = t.suppression_day.c
    query = (
        select(d.what, d.reason, d.provider_id, t.stream.c.name.label("stream"), func.sum(d.n).label("n"))
        .outerjoin(t.stream, t.stream.c.id == d.stream_id)
        .where(d.tenant_id == tenant_id, d.day < day, d.what.in_((CAME, LEFT)))
        .group_by(d.what, d.reason, d.provider_id, d.stream_id)
    )
    return values_of(NumbersBefore, connection.execute(query))
