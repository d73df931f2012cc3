"""Answers HAProxy whether a server of a Galera cluster can be written to or read from: `rustgauged database-agent`, one
beside each server.

GET /writer is 200 where the server is in the cluster's majority, has all that the others did, and takes writes; GET
/reader the same without the last. Otherwise, and where the server says nothing, 503 with the reason.
"""

import contextlib
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pymysql
from sqlalchemy.engine import make_url

_PATIENCE = 1  # seconds for an answer of the server
_SYNCED = "4"
_DISCONNECTED = "Disconnected"
_GIVEN_UP = 5.0  # seconds


class Agent:
    """Asks one server each time that it is asked itself. `is_writer` is the newest answer."""

    def __init__(self, database_url: str, host: str, port: int) -> None:
        self._url = make_url(database_url)
        self.port = port
        self._lock = threading.Lock()
        self._connection: Any = None
        self.is_writer = False
        self._disconnected_since: float | None = None
        agent = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                problem = agent.problem(writing=self.path == "/writer")
                body = f"{problem or 'ready'}\n".encode()
                self.send_response(503 if problem else 200)
                self.send_header("Content-Type", "text/plain; charset=utf-8")
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            do_OPTIONS = do_HEAD = do_GET

            def log_message(self, *_: object) -> None:
                pass

        self._server = _Server((host, port), Handler)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True, name="database-agent")

    def start(self) -> None:
        """Answer from now on, in a thread."""
        self._thread.start()

    def stop(self) -> None:
        """Answer no more."""
        self._server.shutdown()
        self._server.server_close()
        self._close()

    def problem(self, *, writing: bool) -> str:
        """Return why the server cannot be used, empty where it can."""
        with self._lock:
            try:
                status = self._ask()
            except (pymysql.MySQLError, OSError) as error:
                self._close()
                status = {}
                text = f"the server does not answer ({type(error).__name__})"
            else:
                text = _problem(status, writing=writing)
            if status.get("wsrep_cluster_status") != _DISCONNECTED:
                self._disconnected_since = None
            elif self._disconnected_since is None:
                self._disconnected_since = time.monotonic()
            if writing:
                self.is_writer = not text
        return text

    @property
    def has_given_up(self) -> bool:
        """Whether the server runs without its cluster for a while: it was cut off, and does not look for the others any
        more. Only a restart brings it back."""
        since = self._disconnected_since
        return since is not None and time.monotonic() - since > _GIVEN_UP

    def _ask(self) -> dict[str, str]:
        if self._connection is None:
            self._connection = pymysql.connect(
                host=self._url.host, port=self._url.port or 3306, user=self._url.username,
                password=self._url.password or "", connect_timeout=_PATIENCE, read_timeout=_PATIENCE,
                write_timeout=_PATIENCE, autocommit=True,
            )  # fmt: skip
        with self._connection.cursor() as cursor:
            cursor.execute("SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_ready', 'wsrep_cluster_status', "
                           "'wsrep_local_state', 'wsrep_local_state_comment')")  # fmt: skip
            status = {str(name).lower(): str(value) for name, value in cursor.fetchall()}
            cursor.execute("SELECT @@global.read_only")
            status["read_only"] = str(cursor.fetchone()[0])
        return status

    def _close(self) -> None:
        if self._connection is not None:
            with contextlib.suppress(pymysql.MySQLError, OSError):
                self._connection._force_close()
            self._connection = None


class _Server(ThreadingHTTPServer):
    def handle_error(self, *_: object) -> None:
        """Say nothing: who asks does not wait for an answer that comes late."""


def _problem(status: dict[str, str], *, writing: bool) -> str:
    if status.get("wsrep_cluster_status") != "Primary":
        return f"not in the majority of the cluster ({status.get('wsrep_cluster_status', 'no cluster')})"
    if status.get("wsrep_ready") != "ON" or status.get("wsrep_local_state") != _SYNCED:
        return f"not up to date with the cluster ({status.get('wsrep_local_state_comment', '')})"
    if writing and status.get("read_only") not in ("0", "OFF"):
        return "read-only"
    return ""
