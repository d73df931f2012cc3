"""Many rows in one statement. Literals are written here, because the driver's own way costs more than the insert.

Safe for the connections that `engine` makes: their sql_mode keeps backslash escapes on and their charset is utf8mb4.
"""

from collections.abc import Iterable, Sequence
from datetime import date, datetime
from typing import Any

from pymysql.converters import escape_string
from sqlalchemy import Connection, CursorResult


def literal(value: object) -> str:
    """Return a value as SQL. TypeError for a type that has no business in a table."""
    if value is None:
        return "NULL"
    if type(value) is int:
        return str(value)
    if isinstance(value, bytes):
        return f"x'{value.hex()}'"
    if isinstance(value, str):
        return f"'{escape_string(value)}'"
    if isinstance(value, float):
        return repr(value)
    if isinstance(value, datetime):
        if value.tzinfo is not None:
            raise TypeError("times are written in UTC, without a zone")
        return "'" + value.isoformat(" ") + "'"
    if isinstance(value, date):
        return "'" + value.isoformat() + "'"
    raise TypeError(f"a {type(value).__name__} is no SQL value")


def insert_rows(
    connection: Connection, head: str, rows: Iterable[Sequence[object]], tail: str = ""
) -> CursorResult[Any]:
    """Run `head` (up to VALUES), the rows, and `tail` as one statement."""
    values = ", ".join("(" + ", ".join(map(literal, row)) + ")" for row in rows)
    return connection.exec_driver_sql(f"{head} {values} {tail}", execution_options={"no_parameters": True})


def run(connection: Connection, sql: str) -> CursorResult[Any]:
    """Run a statement that is written out."""
    return connection.exec_driver_sql(sql, execution_options={"no_parameters": True})
