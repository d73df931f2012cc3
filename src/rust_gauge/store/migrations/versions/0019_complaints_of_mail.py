"""Complaints and unsubscriptions are counted where the delivery of their message is: counters are moved there."""

from collections import Counter
from typing import Any

from alembic import op
from sqlalchemy import Connection, text

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None

_DELIVERED, _COMPLAINED, _UNSUBSCRIBED = 1, 4, 5
_SUMS = ((1, "domain_id"), (2, "stream_id"), (3, "relay_id"), (5, "provider_id"))
_SLOT = ("occurred_at", "domain_id", "provider_id", "stream_id", "relay_id", "cause", "permanence", "label_ids")
_PAIRS = f"""
    WITH told AS (
        SELECT *, ROW_NUMBER() OVER (
            PARTITION BY tenant_id, recipient_key, message_key, kind ORDER BY occurred_at, identity
        ) AS place FROM event WHERE kind IN ({_COMPLAINED}, {_UNSUBSCRIBED}) AND message_id <> ''
    )
    SELECT told.tenant_id, told.kind, HEX(told.identity) AS identity, {", ".join(f"told.{c} AS t_{c}" for c in _SLOT)},
        {", ".join(f"d.{c} AS d_{c}" for c in _SLOT)}
    FROM told STRAIGHT_JOIN event AS d FORCE INDEX (event_recipient)
        ON d.tenant_id = told.tenant_id AND d.recipient_key = told.recipient_key
        AND d.occurred_at BETWEEN told.occurred_at - INTERVAL 35 DAY AND told.occurred_at + INTERVAL 35 DAY
    WHERE told.place = 1 AND d.message_key = told.message_key AND d.message_id <> '' AND d.kind = {_DELIVERED}
    ORDER BY told.tenant_id, told.occurred_at, told.identity, d.occurred_at, d.identity
"""

_Key = tuple[str, tuple[tuple[str, Any], ...]]


def upgrade() -> None:
    connection = op.get_bind()
    counts: Counter[_Key] = Counter()
    done: set[tuple[int, str]] = set()
    for row in connection.execute(text(_PAIRS)).mappings():
        if (row["tenant_id"], row["identity"]) in done:
            continue  # a second delivery of the same message: the first one counts
        done.add((row["tenant_id"], row["identity"]))
        for key in _keys(row, "t_"):
            counts[key] -= 1
        for key in _keys(row, "d_"):
            counts[key] += 1
    for (table, columns), n in counts.items():
        _add(connection, table, dict(columns), n)


def _keys(row: Any, side: str) -> list[_Key]:
    """Return the rows of counters that an event is part of."""
    slot = {name: row[side + name] for name in _SLOT}
    at, labels = slot.pop("occurred_at"), slot.pop("label_ids")
    tenant = {"tenant_id": row["tenant_id"], "kind": row["kind"]}
    day = str(at.date())
    hour = str(at.replace(minute=0, second=0, microsecond=0))
    made = [("flow_hour", {**tenant, **slot, "hour": hour}), ("flow_day", {**tenant, **slot, "day": day})]
    made += [("flow_sum_day", {**tenant, "what": what, "day": day, "part_id": slot[part]}) for what, part in _SUMS]
    of_label = {name: value for name, value in slot.items() if name not in ("stream_id", "relay_id")}
    made += [
        ("flow_label_day", {**tenant, **of_label, "day": day, "label_id": int(label)})
        for label in labels.split(",")
        if label
    ]
    return [(table, tuple(sorted(columns.items()))) for table, columns in made]


def _add(connection: Connection, table: str, key: dict[str, Any], n: int) -> None:
    if n > 0:
        names = ", ".join(f"`{name}`" for name in key)
        values = ", ".join(f":{name}" for name in key)
        sql = f"INSERT INTO {table} ({names}, n) VALUES ({values}, :n) ON DUPLICATE KEY UPDATE n = n + VALUES(n)"
        connection.execute(text(sql), {**key, "n": n})
    elif n < 0:
        where = " AND ".join(f"`{name}` = :{name}" for name in key)
        connection.execute(text(f"UPDATE {table} SET n = n - :less WHERE {where} AND n >= :less"), {**key, "less": -n})
        connection.execute(text(f"DELETE FROM {table} WHERE {where} AND n = 0"), key)
