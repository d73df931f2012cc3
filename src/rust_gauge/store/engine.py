"""Connecting to MariaDB, transactions that are tried again after a deadlock, and the errors this layer gives.

StoreError
 ├─ StoreUnavailable   the database cannot be reached; try later
 └─ StoreBusy          kept losing against other transactions; try again
"""

import copy
import threading
import time
import weakref
from collections.abc import Callable
from typing import TypeVar

from pymysql.constants import CLIENT
from sqlalchemy import Connection, Engine, create_engine, event, text
from sqlalchemy.exc import DBAPIError, InterfaceError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.store.driver import wait_for_results

T = TypeVar("T")
_LONGEST_STATEMENT = 300.0  # seconds
_RETRY = {1205, 1213, 1020}  # lock wait time-out, deadlock, record changed since last read
# Gone, full, read-only, or its storage fails: nothing that a caller sent is to blame.
_GONE = {1021, 1030, 1036, 1040, 1041, 1053, 1077, 1114, 1290, 1836, 1927, 2002, 2003, 2006, 2013, 2055, 4031}


class StoreError(RustGaugeError):
    """The database failed us."""


class StoreUnavailable(StoreError):
    """The database is unavailable."""


class StoreBusy(StoreError):
    """Other transactions kept winning."""


_open = threading.local()


def in_transaction() -> bool:
    """Return whether this thread is inside a transaction: then nothing outside may be waited for."""
    return getattr(_open, "depth", 0) > 0


class Store:
    """One MariaDB. Everything in this package takes a connection that `transaction` hands out."""

    _guard: Callable[[Connection], None] | None = None
    is_silent: Callable[[], bool] | None = None  # says whether the database is known to be away (`heartbeat`)

    def __init__(self, url: str, *, pool_size: int = 10) -> None:
        self.url = url
        self.connections: weakref.WeakSet[object] = weakref.WeakSet()  # of the driver, while they are open
        self.engine: Engine = create_engine(
            url,
            pool_size=pool_size,
            max_overflow=10,
            pool_timeout=10,
            pool_pre_ping=True,
            pool_recycle=1800,
            isolation_level="READ COMMITTED",
            connect_args={
                "connect_timeout": 3,
                "read_timeout": 5,  # while it greets and signs in
                "write_timeout": 300,
                "charset": "utf8mb4",
                "client_flag": CLIENT.LOCAL_FILES,
            },
        )
        event.listen(self.engine, "connect", _prepare)
        event.listen(self.engine, "connect", lambda connection, _: self.connections.add(connection))

    def transaction(self, work: Callable[[Connection], T], *, attempts: int = 8) -> T:
        """Run `work` in a transaction; again from its beginning when it lost against another one.

        RuntimeError inside another transaction of this thread: two connections that wait for each other's rows, or
        for the last free connection of the pool, would wait for ever.
        """
        if in_transaction():
            raise RuntimeError("a transaction was begun inside another one; pass its connection on instead")
        for attempt in range(attempts):
            if self.is_silent is not None and self.is_silent():
                raise StoreUnavailable("The database does not answer", remedy="Nothing was stored. Try again later")
            try:
                with self.engine.begin() as connection:
                    _open.depth = 1
                    try:
                        if self._guard is not None:
                            self._guard(connection)
                        return work(connection)
                    finally:
                        _open.depth = 0
            except DBAPIError as error:
                code = error.orig.args[0] if error.orig is not None and error.orig.args else 0
                if code in _RETRY:
                    time.sleep(0.01 * 2**attempt)  # let the winner finish
                    continue
                if code in _GONE or error.connection_invalidated or isinstance(error, InterfaceError):
                    raise StoreUnavailable(
                        "The database is unavailable",
                        why=type(error).__name__,
                        remedy="Nothing was stored. Try again in a moment; see the service's log",
                    ) from error
                raise
            except PoolTimeout as error:
                raise StoreUnavailable("The database has no free connection", remedy="Try again later") from error
        raise StoreBusy("The database was too busy to finish this", remedy="Nothing was stored. Try again")

    def guarded(self, guard: Callable[[Connection], None]) -> "Store":
        """Return the same database; each transaction begins with `guard`, which may refuse it by raising."""
        made = copy.copy(self)
        made._guard = guard
        return made

    def ping(self) -> None:
        """StoreUnavailable when the database does not answer."""
        self.transaction(lambda connection: connection.execute(text("SELECT 1")))

    def close(self) -> None:
        """Close all connections."""
        self.engine.dispose()


def _prepare(connection: object, _record: object) -> None:
    # Here, and not for connecting: a frozen server takes connections and says nothing.
    wait_for_results(connection, _LONGEST_STATEMENT)
    cursor = connection.cursor()  # type: ignore[attr-defined]
    cursor.execute(
        "SET time_zone = '+00:00', sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION', "
        "net_read_timeout = 600"  # a load is sent while it is made, and may have to wait for DNS
    )
    cursor.close()


__all__ = ["Store", "StoreBusy", "StoreError", "StoreUnavailable", "in_transaction"]
