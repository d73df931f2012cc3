"""What the driver (PyMySQL) does not offer by its public interface: the only module that uses its private parts.

LOAD DATA LOCAL from memory; a question that is sent before the rows of the one before are used; rows without the
overhead of SQLAlchemy. The version of the driver is pinned, and tests/service/test_driver.py states what is relied on:
a new version that changes it fails there, and not in the middle of a load.

The driver's own way of LOAD DATA LOCAL sends whichever file the server names. This one sends only what it is given, and
the connection refuses everything else: `engine` sets the client flag, not the driver's `local_infile`.
"""

import contextlib
import socket
from collections.abc import Callable, Iterable, Sequence
from typing import Any, TypeAlias, TypeVar

from pymysql.constants import COMMAND
from pymysql.err import MySQLError, OperationalError
from pymysql.protocol import LoadLocalPacketWrapper, OKPacketWrapper
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

PINNED = "1.2.4"
WROTE = "wrote"  # key of `connection.info`: whether the transaction changed anything
T = TypeVar("T")
RawRow: TypeAlias = tuple[Any, ...]
"""A row as the driver gives it: values by their place in the SELECT."""


def load_local(connection: Connection, statement: str, packets: Iterable[bytes]) -> str:
    """Run LOAD DATA LOCAL with what the packets hold; return what the server says of it ("Records: 3 ...").

    DBAPIError as SQLAlchemy would give it, so that a transaction can be tried again.
    """
    driver = _driver(connection)
    connection.info[WROTE] = True
    return _as_sqlalchemy(driver, statement, lambda: _load_local(driver, statement, packets))


def _load_local(driver: Any, statement: str, packets: Iterable[bytes]) -> str:
    driver._execute_command(COMMAND.COM_QUERY, statement.encode())
    first = driver._read_packet()
    if not first.is_load_local_packet():
        raise OperationalError(1148, "the server does not take LOAD DATA LOCAL")
    LoadLocalPacketWrapper(first)
    try:
        for packet in packets:
            if packet:
                driver.write_packet(packet)
    finally:
        driver.write_packet(b"")  # the end; without it the connection could not be used again
        last = driver._read_packet()
    message: bytes = OKPacketWrapper(last).message or b""
    return message.decode("ascii", "replace")


class Question:
    """A SELECT that is on its way: sent now, read later. It has to be read before anything else is sent."""

    def __init__(self, connection: Connection, sql: str) -> None:
        self._driver = _driver(connection)
        command = COMMAND.COM_QUERY
        _as_sqlalchemy(self._driver, sql, lambda: self._driver._execute_command(command, sql.encode()))

    def rows(self) -> Sequence[RawRow]:
        """Wait for the rows and return them."""
        _as_sqlalchemy(self._driver, "", lambda: self._driver._read_query_result())
        rows: Sequence[RawRow] = self._driver._result.rows
        return rows


def raw_rows(connection: Connection, sql: str) -> Sequence[RawRow]:
    """Return the rows of a SELECT, for those that are read by the ten thousand or as often as that."""
    return Question(connection, sql).rows()


def wait_for_results(connection: Any, seconds: float) -> None:
    """Let statements take this long from now on; until then the time-out of connecting holds."""
    connection._read_timeout = seconds


def cut(connections: Iterable[Any]) -> None:
    """End connections of the driver at once, also those for which a thread waits: it gets an error.

    The server is not told, since it may not be listening.
    """
    for connection in list(connections):
        sock = connection._sock
        if sock is not None:
            with contextlib.suppress(OSError):
                sock.shutdown(socket.SHUT_RDWR)


def _driver(connection: Connection) -> Any:
    return connection.connection.driver_connection


def _as_sqlalchemy(driver: Any, sql: str, act: Callable[[], T]) -> T:
    """Translate the driver's errors to SQLAlchemy's, so that a transaction can be tried again."""
    try:
        return act()
    except MySQLError as error:
        lost = not isinstance(error.args[0] if error.args else None, int) or not driver.open
        raise DBAPIError(sql[:200], None, error, connection_invalidated=lost) from error
