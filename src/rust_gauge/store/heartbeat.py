"""Whether the database answers, known at any moment without waiting for it.

A frozen server accepts connections and says nothing, so whoever asks it waits for the time-out of a long query. A
thread asks it all the time on a connection of its own, and the age of the question that is still open says how it is:
a server that is only slow answers late, and is asked again. Once a question is open for two seconds, transactions are
refused at once; after five, those that wait for it are cut off, so that their callers can try again elsewhere or later.
"""

import threading
import time
from collections.abc import Callable

import pymysql
from sqlalchemy.engine import make_url

from rust_gauge.store.driver import cut
from rust_gauge.store.engine import Store

_EVERY = 0.2  # seconds between two questions
NOT_READY_AFTER, REFUSE_AFTER, CUT_AFTER = 0.7, 2.0, 5.0  # seconds that a question is open


class Heartbeat:
    """Asks a database whether it is there until `stop`."""

    def __init__(self, store: Store, now: Callable[[], float] = time.monotonic) -> None:
        self._store, self._now = store, now
        self._revision = ""
        self._open_since: float | None = None  # of the question that has no answer yet, over all its repeats
        self._answered = False
        self._over = threading.Event()
        self._connection: pymysql.Connection | None = None
        self._thread = threading.Thread(target=self._run, daemon=True, name="heartbeat")

    def start(self) -> None:
        """Begin to ask, and let the store refuse transactions while there is no answer."""
        self._store.is_silent = self.is_silent
        self._thread.start()

    def stop(self) -> None:
        """Ask no more."""
        self._over.set()
        self._thread.join(CUT_AFTER + 1)
        self._store.is_silent = None

    def is_silent(self) -> bool:
        """Return whether transactions are to be refused. Never before the first answer: it may just be starting."""
        return self._answered and self._silence() > REFUSE_AFTER

    @property
    def revision(self) -> str:
        """The schema of the database; empty while it does not answer."""
        return "" if self._silence() > NOT_READY_AFTER else self._revision

    def _silence(self) -> float:
        since = self._open_since
        return 0.0 if since is None else self._now() - since

    def _run(self) -> None:
        while not self._over.is_set():
            self.beat()
            self._over.wait(_EVERY)
        self._close()

    def beat(self) -> None:
        """Ask once, and wait for the answer."""
        if self._open_since is None:
            self._open_since = self._now()
        try:
            revision = self._ask()
        except (pymysql.MySQLError, OSError):
            self._close()
            self._revision = ""
            if self._answered and self._silence() >= CUT_AFTER:
                cut(self._store.connections)
        else:
            self._revision, self._open_since, self._answered = revision, None, True

    def _ask(self) -> str:
        if self._connection is None:
            url = make_url(self._store.url)
            self._connection = pymysql.connect(
                host=url.host or "127.0.0.1", port=url.port or 3306, user=url.username, password=url.password or "",
                database=url.database, connect_timeout=CUT_AFTER, read_timeout=CUT_AFTER, write_timeout=CUT_AFTER,
                autocommit=True,
            )  # fmt: skip
        with self._connection.cursor() as cursor:
            cursor.execute("SELECT version_num FROM alembic_version")
            row = cursor.fetchone()
        return str(row[0]) if row else ""

    def _close(self) -> None:
        if self._connection is not None:
            cut([self._connection])
            self._connection = None
