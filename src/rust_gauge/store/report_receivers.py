"""Receivers of mail that report, and when they did."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import Connection, func, select

from rust_gauge.core.reports.outcomes import Outcome
from rust_gauge.core.reports.sources import Verdict
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal
from rust_gauge.store.counter_rows import CounterRows
from rust_gauge.store.driver import raw_rows

REPORTED, UNALIGNED = 95, 96
"""Stand for kinds of counter: mail of our own sources that a receiver reported on, and what of it did not align."""
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


def counters(connection: Connection, tenant_id: int, since: date, domain_ids: Sequence[int] = ()) -> CounterRows:
    """Return what receivers reported of domains' own mail, in the form of the counters of readings.

    Mail of sources that are not known as ours says nothing of a sender. A receiver is the mailbox provider of the same
    name; the reports of others belong to no reading.
    """
    where = f"d.tenant_id = {tenant_id} AND s.day >= {literal(since)} AND s.verdict = {literal(str(Verdict.OURS))}"
    if domain_ids:
        where += f" AND s.domain_id IN ({', '.join(map(str, domain_ids))})"
    aligned = int(Outcome.SPF | Outcome.DKIM)
    parts = [
        f"SELECT s.domain_id, m.id, DATEDIFF(s.day, {literal(since)}), {code}, 0, 0, CAST(SUM({n}) AS UNSIGNED) AS n "
        "FROM sending_domain AS d JOIN report_receiver_day AS s ON s.domain_id = d.id "
        "JOIN report_receiver AS r ON r.id = s.receiver_id JOIN mailbox_provider AS m ON m.name = r.name "
        f"WHERE {where} GROUP BY s.domain_id, m.id, s.day HAVING n > 0"
        for code, n in ((REPORTED, "s.n"), (UNALIGNED, f"IF(s.outcome & {aligned}, 0, s.n)"))
    ]
    return CounterRows.of(raw_rows(connection, " UNION ALL ".join(parts)))
