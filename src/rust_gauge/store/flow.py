"""Reading the counters."""

from dataclasses import dataclass
from datetime import date

from sqlalchemy import Connection, func, select

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.store import tables as t


@dataclass(frozen=True, slots=True)
class FlowLine:
    """A sum of one kind, cause and permanence at one provider."""

    provider_id: int
    kind: Count
    cause: Cause
    permanence: Permanence
    n: int


def flow_lines(
    connection: Connection, tenant_id: int, first: date, last: date, domain_id: int | None = None
) -> list[FlowLine]:
    """Sums over whole days, both ends included."""
    c = t.flow_day.c
    keys = (c.provider_id, c.kind, c.cause, c.permanence)
    query = (
        select(*keys, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.day.between(first, last))
        .group_by(*keys)
    )
    if domain_id is not None:
        query = query.where(c.domain_id == domain_id)
    return [
        FlowLine(
            row.provider_id,
            Count.from_number(row.kind),
            Cause.from_number(row.cause),
            Permanence.from_number(row.permanence),
            int(row.n),
        )
        for row in connection.execute(query)
    ]


@dataclass(frozen=True, slots=True)
class DayLine:
    """One domain's sum of a day."""

    day: date
    provider_id: int
    kind: Count
    cause: Cause
    permanence: Permanence
    n: int


def day_lines(connection: Connection, tenant_id: int, domain_id: int, since: date) -> list[DayLine]:
    """A domain's counters by day and provider."""
    c = t.flow_day.c
    keys = (c.day, c.provider_id, c.kind, c.cause, c.permanence)
    query = (
        select(*keys, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.domain_id == domain_id, c.day >= since)
        .group_by(*keys)
    )
    return [
        DayLine(
            row.day,
            row.provider_id,
            Count.from_number(row.kind),
            Cause.from_number(row.cause),
            Permanence.from_number(row.permanence),
            int(row.n),
        )
        for row in connection.execute(query)
    ]


def delivered_by_domain(connection: Connection, tenant_ids: list[int], first: date, last: date) -> dict[int, int]:
    """Messages delivered in whole days, by domain id."""
    c = t.flow_day.c
    query = (
        select(c.domain_id, func.sum(c.n).label("n"))
        .where(c.tenant_id.in_(tenant_ids), c.day.between(first, last), c.kind == Kind.DELIVERED.number)
        .group_by(c.domain_id)
    )
    return {row.domain_id: int(row.n) for row in connection.execute(query)}


def volume_by_provider(connection: Connection, tenant_id: int, since: date) -> dict[int, int]:
    """Messages delivered or bounced since a day, by provider id."""
    c = t.flow_day.c
    query = (
        select(c.provider_id, func.sum(c.n).label("n"))
        .where(
            c.tenant_id == tenant_id,
            c.day >= since,
            c.kind.in_((Kind.DELIVERED.number, Kind.BOUNCED.number)),
        )
        .group_by(c.provider_id)
    )
    return {row.provider_id: int(row.n) for row in connection.execute(query)}


def reporting_providers(connection: Connection, since: date) -> set[int]:
    """Providers that sent a complaint report to anybody here since a day: the others do not report."""
    c = t.flow_day.c
    query = select(c.provider_id).where(c.kind == Kind.COMPLAINED.number, c.day >= since).distinct()
    return {int(row.provider_id) for row in connection.execute(query)}
