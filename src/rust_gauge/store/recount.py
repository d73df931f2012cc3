"""Counting all events of a tenant again, as the counters should have them: what proves that they are right.

Reads every event, so it is for tests and for looking into a doubt, not for showing anything.
"""

from collections import Counter
from typing import Any

from sqlalchemy import Connection, text

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import GROUPED, Told, count_group, time_bucket
from rust_gauge.store.columns import CounterKey
from rust_gauge.store.intake import TAKEN
from rust_gauge.store.tables import SUM_DOMAIN, SUM_PROVIDER, SUM_RELAY, SUM_STREAM

Table = dict[CounterKey, int]
_TABLES = (
    "flow_hour",
    "flow_day",
    "flow_label_day",
    "flow_sum_day",
    "flow_time_day",
    "flow_pattern_day",
    "flow_relay_hour",
)
_SLOT = "domain_id, provider_id, stream_id, relay_id"


def recount(connection: Connection, tenant_id: int) -> dict[str, Table]:
    """Return by counter table: key without the tenant, and count."""
    out: dict[str, Counter[CounterKey]] = {name: Counter() for name in _TABLES}
    groups: dict[tuple[bytes, bytes], list[Told]] = {}
    rows = connection.execute(
        text(
            f"SELECT occurred_at, identity, kind, cause, permanence, {_SLOT}, label_ids, recipient_key, message_key, "
            "message_id, seconds_taken, pattern_id FROM event WHERE tenant_id = :tenant"
        ),
        {"tenant": tenant_id},
    )
    for row in rows:
        slot = (row.occurred_at, row.domain_id, row.provider_id, row.stream_id, row.relay_id, row.cause,
                row.permanence, row.label_ids)  # fmt: skip
        day = row.occurred_at.date()
        if row.kind == Kind.DELIVERED.number and row.seconds_taken is not None:
            bucket = time_bucket(row.seconds_taken)
            key = (row.domain_id, day, row.provider_id, row.stream_id, row.relay_id, bucket)
            out["flow_time_day"][key] += 1
        if row.pattern_id:
            out["flow_pattern_day"][row.pattern_id, day, row.provider_id, row.cause, row.permanence] += 1
        if row.kind in GROUPED and row.message_id:
            told = Told(row.occurred_at, bytes(row.identity), row.kind, slot)
            groups.setdefault((bytes(row.recipient_key), bytes(row.message_key)), []).append(told)
        else:
            _add(out, slot, row.kind, 1)
    for group in groups.values():
        for (counted, kind), n in count_group(group).items():
            _add(out, counted, kind, n)
    return {name: dict(table) for name, table in out.items()}


def _add(out: dict[str, Counter[CounterKey]], slot: Any, kind: int, n: int) -> None:
    at, domain, provider, stream, relay, cause, permanence, label_ids = slot
    hour, day = at.replace(minute=0, second=0, microsecond=0), at.date()
    out["flow_hour"][domain, hour, provider, stream, relay, kind, cause, permanence] += n
    if kind in TAKEN:
        out["flow_relay_hour"][relay, hour, stream, kind] += n
    out["flow_day"][domain, day, provider, stream, relay, kind, cause, permanence] += n
    for what, part in ((SUM_DOMAIN, domain), (SUM_STREAM, stream), (SUM_RELAY, relay), (SUM_PROVIDER, provider)):
        out["flow_sum_day"][what, day, part, kind] += n
    for label_id in filter(None, label_ids.split(",")):
        out["flow_label_day"][int(label_id), day, domain, provider, kind, cause, permanence] += n


def counters(connection: Connection, tenant_id: int) -> dict[str, Table]:
    """Return what the counters hold, in the same form."""
    out = {}
    for name in _TABLES:
        rows = connection.execute(text(f"SELECT * FROM {name} WHERE tenant_id = :tenant"), {"tenant": tenant_id})
        out[name] = {tuple(row[1:-1]): int(row[-1]) for row in rows}
    return out
