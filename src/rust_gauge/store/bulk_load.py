"""LOAD DATA LOCAL from memory: the fastest way in that MariaDB has, fed while the rows are still being made.

The driver's own way sends whichever file the server names. This one sends only what it is given, and the connection
refuses everything else: `engine` sets the client flag, not the driver's `local_infile`.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from pymysql.constants import COMMAND
from pymysql.err import MySQLError, OperationalError
from pymysql.protocol import LoadLocalPacketWrapper, OKPacketWrapper
from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

FIELD, LINE = b"\x1f", b"\x1e"
SPECIAL = re.compile(rb"[\\\x1e\x1f]")
_INFO = re.compile(r"Records: (\d+)\s+Deleted: \d+\s+Skipped: (\d+)\s+Warnings: (\d+)")


@dataclass(frozen=True, slots=True)
class Loaded:
    """How many rows were sent, left out as they were there, and doubted by the server."""

    records: int
    skipped: int
    warnings: int


def escape(octets: bytes) -> bytes:
    """A field's octets as LOAD DATA reads them."""
    if SPECIAL.search(octets) is None:
        return octets
    return octets.replace(b"\\", b"\\\\").replace(b"\x1f", b"\\\x1f").replace(b"\x1e", b"\\\x1e")


def load_rows(connection: Connection, table: str, columns: str, values: str, packets: Iterable[bytes]) -> Loaded:
    """Load rows that are not there yet. `columns` are those of a row, `values` what all rows share (`name = literal`).

    Each packet holds whole rows (fields parted by FIELD, rows ended by LINE) and is sent as it comes.
    """
    driver: Any = connection.connection.driver_connection
    statement = (
        f"LOAD DATA LOCAL INFILE 'rows' IGNORE INTO TABLE {table} CHARACTER SET binary "
        r"FIELDS TERMINATED BY X'1f' ESCAPED BY '\\' LINES TERMINATED BY X'1e' "
        f"({columns}) SET {values}"
    )
    try:
        done = _send(driver, statement, packets)
    except MySQLError as error:  # as SQLAlchemy would give it, so that a transaction can be tried again
        lost = not isinstance(error.args[0] if error.args else None, int) or not driver.open
        raise DBAPIError(statement, None, error, connection_invalidated=lost) from error
    found = _INFO.search(done.message.decode("ascii", "replace") if done.message else "")
    if found is None:
        raise OperationalError(1105, "LOAD DATA did not say how many rows it took")
    return Loaded(*map(int, found.groups()))


def _send(driver: Any, statement: str, packets: Iterable[bytes]) -> Any:
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
    return OKPacketWrapper(last)
