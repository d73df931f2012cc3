"""Connecting to MariaDB, transactions that are tried again after a deadlock, and the errors this layer gives.

StoreError
 ├─ StoreUnavailable   the database cannot be reached; try later
 └─ StoreBusy          kept losing against other transactions; try again
"""

import copy
import re
import threading
import time
import weakref
from collections.abc import Callable
from contextvars import ContextVar
from typing import Generic, Protocol, TypeVar
from uuid import uuid4

from pymysql.constants import CLIENT
from sqlalchemy import Connection, Engine, create_engine, event, text
from sqlalchemy.exc import DBAPIError, IntegrityError, InterfaceError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.store.driver import WROTE, wait_for_results

T = TypeVar("T")
_LONGEST_STATEMENT = 300.0  # seconds
_RETRY = {1205, 1213, 1020}  # lock wait time-out, deadlock, record changed since last read
# Gone, full, read-only, or its storage fails: nothing that a caller sent is to blame.
# 1047: the node has left the majority of its cluster; 1180: it left while it committed.
_GONE = {
    1021, 1030, 1036, 1040, 1041, 1047, 1053, 1077, 1114, 1180, 1290, 1836, 1927, 2002, 2003, 2006, 2013, 2055, 4031,
}  # fmt: skip
_PAUSE = 0.2  # seconds between attempts while the database is away
_READS = re.compile(r"\s*(?:SELECT|SHOW|EXPLAIN|SET\s+(?!STATEMENT))", re.IGNORECASE)
_DONE = text("INSERT INTO unit_of_work (id, done_at) VALUES (:id, UTC_TIMESTAMP(6))")
_IS_DONE = text("SELECT id FROM unit_of_work WHERE id = :id")


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
    """One MariaDB, or a cluster behind a proxy. Everything in this package takes a connection that `transaction` hands
    out.

    `patience`: seconds for which a transaction is tried again while the database is away, as when another node takes
    over; 0 for a single server, where nobody does. With it each transaction that writes leaves its id in
    `unit_of_work`: one whose commit got no answer is neither done twice nor taken for done when it was not.
    """

    _guard: Callable[[Connection], None] | None = None
    is_silent: Callable[[], bool] | None = None  # says whether the database is known to be away (`heartbeat`)
    reader: "Reader | None" = None  # for views that may be a moment old

    def __init__(self, url: str, *, pool_size: int = 10, patience: float = 0.0) -> None:
        self.url, self.patience = url, patience
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
        if patience:
            event.listen(self.engine, "before_cursor_execute", _note_writing)

    def transaction(self, work: Callable[[Connection], T], *, attempts: int = 8) -> T:
        """Run `work` in a transaction; again from its beginning when it lost against another one, or its server.

        RuntimeError inside another transaction of this thread: two connections that wait for each other's rows, or
        for the last free connection of the pool, would wait for ever.
        """
        if in_transaction():
            raise RuntimeError("a transaction was begun inside another one; pass its connection on instead")
        unit: _Unit[T] = _Unit(uuid4().bytes if self.patience else b"")
        end = time.monotonic() + self.patience
        conflicts = 0
        while True:
            try:
                if self.is_silent is not None and self.is_silent():
                    raise StoreUnavailable("The database does not answer", remedy=unit.remedy)
                return self._attempt(work, unit)
            except DBAPIError as error:
                if _code(error) in _RETRY:
                    conflicts += 1
                    if conflicts >= attempts:
                        raise StoreBusy(
                            "The database was too busy to finish this", remedy="Nothing was stored. Try again"
                        ) from error
                    time.sleep(0.01 * 2**conflicts)  # let the winner finish
                    continue
                if not _is_gone(error):
                    raise
                lost: Exception = StoreUnavailable(
                    "The database is unavailable", why=type(error).__name__, remedy=unit.remedy
                )
                cause: Exception | None = error
            except PoolTimeout as error:
                lost, cause = StoreUnavailable("The database has no free connection", remedy="Try again later"), error
            except StoreUnavailable as error:
                lost, cause = error, error.__cause__  # type: ignore[assignment]
            if time.monotonic() >= end:
                raise lost from cause
            time.sleep(_PAUSE)

    def _attempt(self, work: Callable[[Connection], T], unit: "_Unit[T]") -> T:
        with self.engine.connect() as connection:
            _open.depth = 1
            try:
                if unit.is_open and _is_done(connection, unit.id):
                    return unit.result
                unit.is_open = False
                with connection.begin():
                    if self._guard is not None:
                        self._guard(connection)
                    connection.info[WROTE] = False
                    result = work(connection)
                    writes = bool(connection.info[WROTE]) or not unit.id
                    if unit.id and writes:
                        unit.leave_id(connection)
                    if not unit.was_open:
                        unit.result = result
                    unit.is_open = writes  # from here on the outcome may be lost
                unit.is_open = False
                return unit.result
            except _AlreadyDone:  # an earlier attempt arrived after all
                return unit.result
            except DBAPIError as error:
                unit.is_open = unit.is_open and _is_gone(error)  # else the server said no
                unit.was_open = unit.was_open or unit.is_open
                raise
            finally:
                _open.depth = 0

    def read(self, work: Callable[[Connection], T]) -> T:
        """Run `work`, which only reads, in a transaction of the replica; of the database itself where there is none, it
        is too far behind, or whoever asks has just written something."""
        reader = self.reader
        if reader is None or not reader.is_usable or reading_own_writes.get():
            return self.transaction(work)
        try:
            return reader.store.transaction(work)
        except StoreUnavailable:
            return self.transaction(work)

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
        if self.reader is not None:
            self.reader.stop()
            self.reader.store.close()
        self.engine.dispose()


class Reader(Protocol):
    """Where views may be read, and whether it is good for that now: see `replica`."""

    store: Store

    @property
    def is_usable(self) -> bool:
        """Whether it answers and is not too far behind."""

    def describe(self) -> str:
        """Return from where views are read now."""

    def start(self) -> None:
        """Measure from now on."""

    def stop(self) -> None:
        """Measure no more."""


reading_own_writes: ContextVar[bool] = ContextVar("reading_own_writes", default=False)
"""Whether whoever asks has just written, and has to see it."""


class _AlreadyDone(Exception):
    """A transaction was committed, though the answer was lost."""


class _Unit(Generic[T]):
    """A transaction over all its attempts. `is_open`: its commit was sent, and the answer is not known."""

    result: T

    def __init__(self, id: bytes) -> None:
        self.id, self.is_open, self.was_open = id, False, False

    def leave_id(self, connection: Connection) -> None:
        """Add the id to those of units that are done. _AlreadyDone where it is there."""
        try:
            connection.execute(_DONE, {"id": self.id})
        except IntegrityError:
            raise _AlreadyDone from None

    @property
    def remedy(self) -> str:
        if self.is_open or self.was_open:
            return "Whether it was stored is not known. Check, then repeat it if it was not"
        return "Nothing was stored. Try again in a moment; see the service's log"


def _is_done(connection: Connection, id: bytes) -> bool:
    with connection.begin():
        return connection.execute(_IS_DONE, {"id": id}).first() is not None


def _note_writing(
    connection: Connection, _cursor: object, statement: str, _parameters: object, _context: object, _many: bool
) -> None:
    if _READS.match(statement) is None:
        connection.info[WROTE] = True


def _code(error: DBAPIError) -> int:
    code = error.orig.args[0] if error.orig is not None and error.orig.args else 0
    return code if isinstance(code, int) else 0


def _is_gone(error: DBAPIError) -> bool:
    return _code(error) in _GONE or error.connection_invalidated or isinstance(error, InterfaceError)


def _prepare(connection: object, _record: object) -> None:
    # Here, and not for connecting: a frozen server takes connections and says nothing.
    wait_for_results(connection, _LONGEST_STATEMENT)
    cursor = connection.cursor()  # type: ignore[attr-defined]
    cursor.execute(
        "SET time_zone = '+00:00', sql_mode = 'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION', "
        "net_read_timeout = 600, "  # a load is sent while it is made, and may have to wait for DNS
        "group_concat_max_len = 16777216"  # a server of somebody's own may cut series of counters short
    )
    cursor.close()


__all__ = ["Reader", "Store", "StoreBusy", "StoreError", "StoreUnavailable", "in_transaction", "reading_own_writes"]
