"""What callers and sources have left of their requests, as all service processes together know it.

A level fills up again by itself: a row holds what remained at a moment, and what is left now is computed from both.
Times are the database's, as clocks of machines differ.
"""

from collections.abc import Collection, Mapping

from sqlalchemy import Connection, bindparam, text

_KEPT = "5 MINUTE"  # a level is full again after one
_LEFT = "LEAST(:most, remaining + TIMESTAMPDIFF(MICROSECOND, at, NOW(6)) / 1e6 * :per_second)"
_SPEND = text(
    "INSERT INTO request_level (whose, key_digest, remaining, at) VALUES (:whose, :key, :most - :spent, NOW(6)) "
    # Assigned from left to right: the level is computed from the time before.
    f"ON DUPLICATE KEY UPDATE remaining = GREATEST(-:most, {_LEFT} - :spent), at = NOW(6)"
)
_READ = text(f"SELECT key_digest, {_LEFT} FROM request_level WHERE whose = :whose AND key_digest IN :keys").bindparams(
    bindparam("keys", expanding=True)
)
_FORGET = text(f"DELETE FROM request_level WHERE at < NOW(6) - INTERVAL {_KEPT} LIMIT 10000")


def spend(connection: Connection, whose: str, most: int, per_second: float, spent: Mapping[bytes, int]) -> None:
    """Take requests from levels of at most `most`, down to as many below nothing."""
    shared = {"whose": whose, "most": most, "per_second": per_second}
    for key in sorted(spent):  # in one order, so that two processes never wait for each other
        connection.execute(_SPEND, shared | {"key": key, "spent": spent[key]})


def levels(
    connection: Connection, whose: str, most: int, per_second: float, keys: Collection[bytes]
) -> dict[bytes, float]:
    """Return what is left now, by key; keys that nobody spent much of are missing."""
    if not keys:
        return {}
    rows = connection.execute(_READ, {"whose": whose, "most": most, "per_second": per_second, "keys": sorted(keys)})
    return {bytes(key): float(left) for key, left in rows}


def forget_old(connection: Connection) -> None:
    """Delete levels that are full again."""
    connection.execute(_FORGET)
