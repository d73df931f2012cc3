"""A replica for views, reports and exports, and how far it is behind.

Every second the time of the database is written into it (`database_beat`); the difference between what stands there
and what the replica has is its lag, whatever kind of replication it is, and whatever the clocks of machines say.
"""

import threading
import time
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, event, text
from sqlalchemy.exc import DBAPIError

from rust_gauge.store.engine import Store, StoreError
from rust_gauge.store.heartbeat import Heartbeat

_EVERY = 1.0  # seconds
_BEAT = text(
    "INSERT INTO database_beat (id, beat_at) VALUES (1, NOW(6)) "
    "ON DUPLICATE KEY UPDATE beat_at = GREATEST(beat_at, VALUES(beat_at))"
)
_READ = text("SELECT beat_at FROM database_beat WHERE id = 1")
_OLD = 3 * _EVERY  # seconds after which a lag that was measured says nothing any more


class Replica:
    """A second address of the database, for reading. `most_lag` in seconds."""

    def __init__(self, url: str, main: Store, most_lag: float) -> None:
        self.store, self._main, self.most_lag = Store(url), main, most_lag
        event.listen(self.store.engine, "connect", _see_own_writes)
        self._heartbeat = Heartbeat(self.store)  # cuts off who waits for a replica that says nothing
        self._lag: float | None = None  # seconds; None while it does not answer
        self._measured_at = 0.0
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True, name="replica")

    @property
    def lag(self) -> float | None:
        """Seconds that it is behind; None where it did not answer of late."""
        return self._lag if time.monotonic() - self._measured_at < _OLD else None

    @property
    def is_usable(self) -> bool:
        """Whether it answers and is not too far behind."""
        lag = self.lag
        return lag is not None and lag <= self.most_lag

    def describe(self) -> str:
        """Return from where views are read now: "replica; lag=0.4", "primary; lag=42.0" or "primary; replica=away"."""
        lag = self.lag
        if lag is None:
            return "primary; replica=away"
        return f"{'replica' if lag <= self.most_lag else 'primary'}; lag={lag:.1f}"

    def start(self) -> None:
        """Measure from now on, in a thread."""
        self._heartbeat.start()
        self._thread.start()

    def stop(self) -> None:
        """Measure no more."""
        self._over.set()
        if self._thread.is_alive():
            self._heartbeat.stop()
            self._thread.join(10)

    def _run(self) -> None:
        while not self._over.is_set():
            self.measure()
            self._over.wait(_EVERY)

    def measure(self) -> None:
        """Write the time into the database, and read what the replica has of it."""
        try:
            before = self._main.transaction(_beat)
            there: datetime | None = self.store.transaction(lambda c: c.scalar(_READ))
        except (StoreError, DBAPIError):  # away, or not yet a copy
            return
        if there is not None:
            self._lag, self._measured_at = max(0.0, (before - there).total_seconds()), time.monotonic()


def _see_own_writes(connection: Any, _record: object) -> None:
    """Have a node of a Galera cluster wait for what the others committed before; it means nothing to other servers."""
    with connection.cursor() as cursor:
        cursor.execute("SET SESSION wsrep_sync_wait = 1")


def _beat(connection: Connection) -> datetime:
    """Write the time, and return the time before that: the replica had a second for it. The first time itself."""
    before: datetime | None = connection.scalar(_READ)
    connection.execute(_BEAT)
    first: datetime = connection.execute(_READ).scalar_one()
    return before or first
