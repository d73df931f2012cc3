"""Changes of large tables while they are in use."""

import time

from sqlalchemy import Connection, text
from sqlalchemy.exc import OperationalError

_WAITS = 2  # seconds for the lock of a table: whoever uses it waits behind a change that waits
_PAUSE = 5.0  # seconds between tries
_TRIES = 120
_LOCKED = 1205


def change_online(connection: Connection, sql: str) -> None:
    """Run an ALTER TABLE with LOCK=NONE. Its lock is taken between long transactions: a change that waits for one would
    hold up everybody else for as long.
    """
    waits = connection.scalar(text("SELECT @@SESSION.lock_wait_timeout"))
    connection.execute(text(f"SET SESSION lock_wait_timeout = {_WAITS}"))
    try:
        for number in range(_TRIES):
            try:
                connection.exec_driver_sql(sql)
                return
            except OperationalError as error:
                code = error.orig.args[0] if error.orig is not None and error.orig.args else 0
                if code != _LOCKED or number == _TRIES - 1:
                    raise
                time.sleep(_PAUSE)
    finally:
        connection.execute(text(f"SET SESSION lock_wait_timeout = {int(waits or 86_400)}"))
