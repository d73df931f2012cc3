"""Partitions of the event table, a week each, so that retention can drop a partition.

What is older than the first partition lies in the first; what is newer than the last lies in `pmax`, which is split
before that happens.
"""

from datetime import date, datetime, timedelta

from sqlalchemy import Connection, text

from rust_gauge.store import leases
from rust_gauge.store.engine import Store

LEASE = "partitions of events"  # held by whoever changes them
LEASE_FOR = timedelta(minutes=30)  # longer than any such change takes; it commits by itself, so it cannot be fenced
_AHEAD = 5  # weeks
_BEHIND = 30  # weeks of history that a new database has partitions for


def ensure_partitions(store: Store, now: datetime) -> None:
    """Have a partition for each week from half a year ago to a month ahead.

    LeaseHeld while another process sees to it.
    """
    today = now.date()
    if not store.transaction(lambda c: _missing(c, today)):
        return

    def read(connection: Connection) -> None:
        missing = _missing(connection, today)
        if missing:
            parts = ", ".join(
                f"PARTITION p{week:%Y%m%d} VALUES LESS THAN ('{week + timedelta(days=7)}')" for week in missing
            )
            connection.execute(
                text(
                    f"ALTER TABLE event REORGANIZE PARTITION pmax INTO ({parts}, "
                    "PARTITION pmax VALUES LESS THAN (MAXVALUE))"
                )
            )

    with leases.held(store, LEASE, now, LEASE_FOR):
        store.transaction(read)


def partition_ends(connection: Connection) -> list[tuple[str, date]]:
    """(name, the day before which all of its events lie), the oldest first; without the one for what is newer."""
    return sorted((f"p{week:%Y%m%d}", week + timedelta(days=7)) for week in _weeks(connection))


def _missing(connection: Connection, today: date) -> list[date]:
    there = _weeks(connection)
    monday = today - timedelta(days=today.weekday())
    first = max(there) + timedelta(days=7) if there else monday - timedelta(weeks=_BEHIND)
    last = monday + timedelta(weeks=_AHEAD)
    return [first + timedelta(weeks=week) for week in range((last - first).days // 7 + 1)] if first <= last else []


def _weeks(connection: Connection) -> list[date]:
    """Return the Mondays with which partitions begin."""
    rows = connection.execute(
        text(
            "SELECT partition_name FROM information_schema.partitions "
            "WHERE table_schema = DATABASE() AND table_name = 'event' AND partition_name <> 'pmax'"
        )
    )
    return [date(int(n[1:5]), int(n[5:7]), int(n[7:9])) for (n,) in rows]
