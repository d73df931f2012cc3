"""Which recipients had trouble before: a delivery to one of them has to be looked at beside its bounces and delays.

Nearly all deliveries go to others, so a process keeps a map of bits by which most are known to be clear without a
question to the database. It is brought up to date under the lock of the tenant's counters, so it misses nobody; whom
it suspects wrongly is sorted out by the table.
"""

from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.store.bulk import run

Places = NDArray[np.int64]
_BITS = 24  # 2 MB of bits: with a million troubled recipients one in 17 others is looked up for nothing
_CHUNK = 5000  # keys in one statement


class Troubled:
    """The map of one tenant: a bit for each value of the first three octets of a recipient key, 2 MB."""

    def __init__(self) -> None:
        self._bits = np.zeros(1 << (_BITS - 3), np.uint8)
        self._last = 0

    def among(self, connection: Connection, tenant_id: int, keys: list[bytes]) -> set[bytes]:
        """Return those of these recipients that had trouble."""
        self._refresh(connection, tenant_id)
        if not keys:
            return set()
        places = _places(b"".join(keys))
        suspected = np.nonzero(self._bits[places >> 3] >> (places & 7).astype(np.uint8) & 1)[0]
        found: set[bytes] = set()
        for start in range(0, len(suspected), _CHUNK):
            listed = ",".join([f"x'{keys[i].hex()}'" for i in suspected[start : start + _CHUNK]])
            where = f"tenant_id = {tenant_id} AND recipient_key IN ({listed})"
            rows = run(connection, f"SELECT recipient_key FROM message_trouble WHERE {where}")
            found.update(bytes(row[0]) for row in rows)
        return found

    def _refresh(self, connection: Connection, tenant_id: int) -> None:
        newer = f"number > {self._last} AND " if self._last else ""
        sql = f"SELECT number, recipient_key FROM message_trouble WHERE {newer}tenant_id = {tenant_id}"
        rows = run(connection, sql).all()
        if rows:
            places = _places(b"".join([row.recipient_key for row in rows]))
            np.bitwise_or.at(self._bits, places >> 3, np.left_shift(1, places & 7).astype(np.uint8))
            self._last = max(row.number for row in rows)


def _places(keys: bytes) -> Places:
    """Return the bits of recipient keys that stand one behind the other."""
    columns: Any = np.frombuffer(keys, np.uint8).reshape(-1, 16).T.astype(np.int64)
    places: Places = columns[0] << 16 | columns[1] << 8 | columns[2]
    return places
