"""Time to delivery where a source gives none: from the accepted event of the same message and recipient.

The time is written to the delivered event, so the counters follow from the events alone, as for sources that give it.
"""

from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.core.mailflow import Kind
from rust_gauge.store.bulk import run

_CHUNK = 1000  # recipients, or rows, in one statement
_APART = timedelta(days=7)  # mail that was not delivered within days never is (RFC 5321 §4.5.4.1)
_ACCEPTED, _DELIVERED = Kind.ACCEPTED.number, Kind.DELIVERED.number


_UNTIMED, _BEGUN = 1, 2  # what a tenant's sources gave so far: deliveries without their time, accepted events


def expects_pairs(connection: Connection, tenant_id: int, untimed: bool, begun: bool) -> bool:
    """Return whether the tenant's sources give both: deliveries without their time, and accepted events.

    `untimed` and `begun` say what this load has. A load of sources that give only one of them costs no look-up.
    """
    here = (_UNTIMED if untimed else 0) | (_BEGUN if begun else 0)
    known = int(run(connection, f"SELECT pairing FROM intake_lock WHERE tenant_id = {tenant_id}").scalar() or 0)
    if here & ~known:
        run(connection, f"UPDATE intake_lock SET pairing = {known | here} WHERE tenant_id = {tenant_id}")
    return known | here == _UNTIMED | _BEGUN


def pair_deliveries(
    connection: Connection, tenant_id: int, recipients: list[bytes], first: datetime, last: datetime
) -> list[tuple[Any, float]]:
    """Time the deliveries to these recipients that have none. Returns their rows, and the seconds that they took."""
    timed: list[tuple[Any, float]] = []
    for rows in _by_message(connection, tenant_id, recipients, first - _APART, last + _APART):
        begun = min((row.occurred_at for row in rows if row.kind == _ACCEPTED), default=None)
        for row in rows:
            if row.kind == _DELIVERED and row.seconds_taken is None and begun is not None and begun <= row.occurred_at:
                timed.append((row, (row.occurred_at - begun).total_seconds()))
    for start in range(0, len(timed), _CHUNK):
        values = " UNION ALL ".join(
            f"SELECT '{row.occurred_at}' AS o, x'{bytes(row.identity).hex()}' AS i, {seconds!r} AS s"
            for row, seconds in timed[start : start + _CHUNK]
        )
        run(
            connection,
            f"UPDATE ({values}) AS v STRAIGHT_JOIN event ON tenant_id = {tenant_id} AND occurred_at = v.o "
            "AND identity = v.i SET seconds_taken = v.s",
        )
    return timed


def _by_message(
    connection: Connection, tenant_id: int, recipients: list[bytes], first: datetime, last: datetime
) -> Iterator[list[Any]]:
    """Yield the accepted and delivered events of each message to each of these recipients."""
    for start in range(0, len(recipients), _CHUNK):
        listed = ",".join([f"(x'{key.hex()}')" for key in recipients[start : start + _CHUNK]])
        sql = (
            f"WITH asked (k) AS (VALUES {listed}) "
            "SELECT occurred_at, identity, kind, domain_id, provider_id, stream_id, relay_id, recipient_key, "
            "message_key, seconds_taken FROM asked STRAIGHT_JOIN event FORCE INDEX (event_recipient) "
            f"ON tenant_id = {tenant_id} AND recipient_key = k "
            f"WHERE kind IN ({_ACCEPTED}, {_DELIVERED}) AND message_id <> '' "
            f"AND occurred_at BETWEEN '{first}' AND '{last}'"
        )
        groups: dict[tuple[bytes, bytes], list[Any]] = {}
        for row in run(connection, sql):
            groups.setdefault((bytes(row.recipient_key), bytes(row.message_key)), []).append(row)
        yield from groups.values()
