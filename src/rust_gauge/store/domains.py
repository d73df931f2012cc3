"""Sending domains and their audits."""

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import Connection, exists, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow


@dataclass(frozen=True, slots=True)
class DomainRow:
    """A sending domain with the summary of its newest audit (None where there was none)."""

    id: int
    name: str
    origin: str
    selectors: list[str]
    added_at: datetime
    audit: AnyRow | None
    streams: list[dict[str, Any]]
    sends: bool
    audit_every_hours: int
    plan: dict[str, Any]
    proven: bool  # by a proof of its own, or of a domain above it


def add_domain(connection: Connection, tenant_id: int, name: str, selectors: list[str], now: datetime) -> bool:
    """Watch a domain. False when it was watched already (nothing is changed then)."""
    statement = upsert(t.sending_domain).values(
        tenant_id=tenant_id, name=name, origin="seen", selectors=[], created_at=now
    )
    connection.execute(statement.on_duplicate_key_update(id=t.sending_domain.c.id))
    where = (t.sending_domain.c.tenant_id == tenant_id) & (t.sending_domain.c.name == name)
    changed = connection.execute(
        update(t.sending_domain)
        .where(where, t.sending_domain.c.origin == "seen")
        .values(origin="added", selectors=selectors, created_at=now)
    )
    return changed.rowcount > 0


def change_domain(connection: Connection, domain_id: int, **values: object) -> None:
    """Set columns such as `selectors`, `streams` or `origin`."""
    connection.execute(update(t.sending_domain).where(t.sending_domain.c.id == domain_id).values(**values))


_SUMMARY = ("id", "finished_at", "faults", "risks", "notes", "spf_lookups", "cause", "checked_at")


def list_domains(
    connection: Connection, tenant_id: int, *, name: str | None = None, after: str = "", limit: int = 1000
) -> list[DomainRow]:
    """Domains by name; `name` for one, `after` and `limit` for a page."""
    newest = (
        select(t.audit.c.domain_id, func.max(t.audit.c.id).label("id"))
        .where(t.audit.c.tenant_id == tenant_id)
        .group_by(t.audit.c.domain_id)
        .subquery()
    )
    p, name_of = t.proof.c, t.sending_domain.c.name
    end = func.right(name_of, func.char_length(p.subject) + 1)
    covers = (p.subject == name_of) | (end == func.concat(".", p.subject))
    proven = exists().where(p.tenant_id == tenant_id, p.kind == "domain", p.state == "proven", covers)
    query = (
        select(
            t.sending_domain,
            proven.label("proven"),
            *(t.audit.c[column].label(f"audit_{column}") for column in _SUMMARY),
        )
        .outerjoin(newest, newest.c.domain_id == t.sending_domain.c.id)
        .outerjoin(t.audit, t.audit.c.id == newest.c.id)
        .where(t.sending_domain.c.tenant_id == tenant_id, t.sending_domain.c.name > after)
        .order_by(t.sending_domain.c.name)
        .limit(limit)
    )
    if name is not None:
        query = query.where(t.sending_domain.c.name == name)
    return [
        DomainRow(
            row.id,
            row.name,
            row.origin,
            row.selectors,
            row.created_at,
            row if row.audit_id else None,
            row.streams,
            row.sends,
            row.audit_every_hours,
            row.plan,
            bool(row.proven),
        )
        for row in connection.execute(query)
    ]


def add_audit(connection: Connection, **values: object) -> int:
    """Keep an audit; its columns are those of the table."""
    result = connection.execute(insert(t.audit).values(**values))
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def list_audits(connection: Connection, domain_id: int, *, before: int | None, limit: int) -> list[AnyRow]:
    """Audits of a domain, newest first, without their documents."""
    query = (
        select(*(t.audit.c[column] for column in _SUMMARY))
        .where(t.audit.c.domain_id == domain_id)
        .order_by(t.audit.c.id.desc())
        .limit(limit)
    )
    if before is not None:
        query = query.where(t.audit.c.id < before)
    return list(connection.execute(query))


def get_audit(connection: Connection, domain_id: int, audit_id: int | None = None) -> AnyRow | None:
    """One audit whole; the newest without `audit_id`."""
    query = select(t.audit).where(t.audit.c.domain_id == domain_id).order_by(t.audit.c.id.desc()).limit(1)
    if audit_id is not None:
        query = query.where(t.audit.c.id == audit_id)
    return connection.execute(query).first()


def newest_audits(connection: Connection, tenant_ids: list[int]) -> dict[int, AnyRow]:
    """The newest audit of every domain of these tenants, by domain id."""
    newest = (
        select(func.max(t.audit.c.id).label("id"))
        .where(t.audit.c.tenant_id.in_(tenant_ids))
        .group_by(t.audit.c.domain_id)
        .subquery()
    )
    rows = connection.execute(select(t.audit).join(newest, newest.c.id == t.audit.c.id))
    return {row.domain_id: row for row in rows}


def history_between(
    connection: Connection, tenant_id: int, first: date, last: date, domain: str | None
) -> list[AnyRow]:
    """name, happened_at, kind, title of what happened to a tenant's domains, or to one, between two days."""
    c, d = t.domain_history.c, t.sending_domain.c
    query = (
        select(d.name, c.happened_at, c.kind, c.title)
        .join(t.sending_domain, d.id == c.domain_id)
        .where(c.tenant_id == tenant_id, c.happened_at >= first, c.happened_at < last + timedelta(days=1))
    )
    if domain is not None:
        query = query.where(d.name == domain)
    return list(connection.execute(query.order_by(c.happened_at, c.id).limit(500)))
