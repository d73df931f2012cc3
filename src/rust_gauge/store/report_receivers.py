"""Receivers of mail that report, and when they did."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, func, select

from rust_gauge.store import tables as t

_ENDS = 15  # newest periods by which a receiver's usual pause is known


@dataclass(frozen=True, slots=True)
class ReceiverActivity:
    """A receiver and what it reported in a period."""

    id: int
    name: str
    label: str
    kinds: Sequence[str]
    reports: int
    messages: int


def activity(connection: Connection, tenant_id: int, since: datetime) -> list[ReceiverActivity]:
    """Return receivers of reports about the tenant's domains, those with most messages since a time first."""
    r, p = t.report_receiver.c, t.receiver_report.c
    recent = func.coalesce(func.sum(func.if_(p.ends_at >= since, 1, 0)), 0)
    messages = func.coalesce(func.sum(func.if_((p.ends_at >= since) & (p.kind == "aggregate"), p.messages, 0)), 0)
    query = (
        select(r.id, r.name, r.label, func.group_concat(p.kind.distinct()), recent, messages)
        .join(t.receiver_report, p.receiver_id == r.id)
        .where(r.tenant_id == tenant_id, p.domain_id.is_not(None))
        .group_by(r.id, r.name, r.label)
        .order_by(messages.desc(), r.name)
    )
    return [
        ReceiverActivity(id, name, label, kinds.split(","), int(reports), int(n))
        for id, name, label, kinds, reports, n in connection.execute(query)
    ]


def newest_ends(connection: Connection, receiver_id: int) -> list[datetime]:
    """Return the distinct ends of its newest periods, the newest first; not of failure reports, which come any time."""
    c = t.receiver_report.c
    query = (
        select(c.ends_at)
        .where(c.receiver_id == receiver_id, c.kind != "failure")
        .distinct()
        .order_by(c.ends_at.desc())
        .limit(_ENDS)
    )
    return list(connection.scalars(query))
