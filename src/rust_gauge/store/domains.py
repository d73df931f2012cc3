"""Sending domains and their audits."""

from collections.abc import Collection
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import JSON, ColumnElement, Connection, Row, Subquery, exists, func, insert, select, type_coerce, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class AuditSummaryRow:
    """An audit without its document."""

    id: int
    finished_at: datetime
    faults: int
    risks: int
    notes: int
    spf_lookups: int | None
    cause: str
    checked_at: datetime | None


@dataclass(frozen=True, slots=True)
class SenderRow:
    """A domain that mail is sent as, and what its newest audit says of its streams; None without one."""

    name: str
    streams: list[Document] | None
    verified: bool
    audited: list[str] | None
    results: list[str] | None


@dataclass(frozen=True, slots=True)
class AuditRow:
    """A whole audit."""

    id: int
    tenant_id: int
    domain_id: int
    finished_at: datetime
    faults: int
    risks: int
    notes: int
    spf_lookups: int | None
    document: Document
    cause: str
    digest: bytes | None
    checked_at: datetime | None


@dataclass(frozen=True, slots=True)
class HappenedRow:
    """A change at one of a tenant's domains."""

    name: str
    happened_at: datetime
    kind: str
    title: str


@dataclass(frozen=True, slots=True)
class NewestFindings:
    """What a domain's latest audit found."""

    tenant_id: int
    domain_id: int
    finished_at: datetime
    faults: int
    findings: list[Document]


@dataclass(frozen=True, slots=True)
class DomainRow:
    """A sending domain with the summary of its newest audit (None where there was none)."""

    id: int
    name: str
    origin: str
    selectors: list[str]
    added_at: datetime
    audit: AuditSummaryRow | None
    streams: list[Document]
    sends: bool
    audit_every_hours: int
    plan: Document
    verified: bool  # by a proof of its own, or of a domain above it


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


def sts_policy_of(connection: Connection, name: str) -> str:
    """Return the MTA-STS policy that is served for a domain; that of a tenant who proved it before others'."""
    d = t.sending_domain.c
    rows = connection.execute(
        select(d.tenant_id, d.plan).where(d.name == name, func.json_value(d.plan, "$.sts_policy").is_not(None))
    ).all()
    found = [(row.tenant_id, str(row.plan.get("sts_policy", ""))) for row in rows]
    if len(found) > 1:
        found.sort(key=lambda each: not any(row.verified for row in list_domains(connection, each[0], name=name)))
    return found[0][1] if found else ""


def update_domain(connection: Connection, domain_id: int, **values: object) -> None:
    """Set columns such as `selectors`, `streams` or `origin`."""
    connection.execute(update(t.sending_domain).where(t.sending_domain.c.id == domain_id).values(**values))


_SUMMARY = ("id", "finished_at", "faults", "risks", "notes", "spf_lookups", "cause", "checked_at")


def _summary(row: Row[*tuple[Any, ...]]) -> AuditSummaryRow:
    return AuditSummaryRow(*(getattr(row, f"audit_{name}") for name in _SUMMARY))


def list_domains(
    connection: Connection, tenant_id: int, *, name: str | None = None, after: str = "", limit: int = 1000,
    search: str = "",
) -> list[DomainRow]:  # fmt: skip
    """Domains by name; `name` for one, `after` and `limit` for a page, `search` for a part of the name."""
    d = t.sending_domain.c
    page = select(d.id).where(d.tenant_id == tenant_id, d.name > after)
    if search:
        page = page.where(d.name.contains(search, autoescape=True))
    if name is not None:
        page = page.where(d.name == name)
    # Audits of the page alone: a tenant may have fifty thousand domains.
    ids = list(connection.scalars(page.order_by(d.name).limit(limit)))
    newest = _newest([tenant_id], ids)
    query = (
        select(
            t.sending_domain,
            _proven(tenant_id).label("verified"),
            *(t.audit.c[column].label(f"audit_{column}") for column in _SUMMARY),
        )
        .outerjoin(newest, newest.c.domain_id == t.sending_domain.c.id)
        .outerjoin(t.audit, t.audit.c.id == newest.c.id)
        .where(d.id.in_(ids))
        .order_by(d.name)
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
            _summary(row) if row.audit_id else None,
            row.streams,
            row.sends,
            row.audit_every_hours,
            row.plan,
            bool(row.verified),
        )
        for row in connection.execute(query)
    ]


def _newest(tenant_ids: list[int], domain_ids: Collection[int] | None = None) -> Subquery:
    """domain_id, id of the newest audit of every domain, or of these."""
    c = t.audit.c
    newest = select(c.domain_id, func.max(c.id).label("id")).where(c.tenant_id.in_(tenant_ids))
    if domain_ids is not None:
        newest = newest.where(c.domain_id.in_(domain_ids))
    return newest.group_by(c.domain_id).subquery()


def _proven(tenant_id: int) -> ColumnElement[bool]:
    """Return whether the domain of a row is verified, by a proof of its own or of a domain above it."""
    p, name = t.proof.c, t.sending_domain.c.name
    covers = (p.subject == name) | (func.right(name, func.char_length(p.subject) + 1) == func.concat(".", p.subject))
    return exists().where(p.tenant_id == tenant_id, p.kind == "domain", p.state == "verified", covers)


def senders(connection: Connection, tenant_id: int, domain_ids: Collection[int] | None = None) -> list[SenderRow]:
    """name, verified, streams of every domain, or of these; of its newest audit's streams the names (`audited`) and
    DMARC results (`results`), both None without an audit.
    """
    d, a, newest = t.sending_domain.c, t.audit.c, _newest([tenant_id], domain_ids)

    def part(path: str) -> ColumnElement[Any]:
        return type_coerce(func.json_extract(a.document, f"$.streams[*].{path}"), JSON)

    query = (
        select(
            d.name, d.streams, _proven(tenant_id).label("verified"), part("name").label("audited"),
            part("by_list.result").label("results"),
        )
        .outerjoin(newest, newest.c.domain_id == d.id)
        .outerjoin(t.audit, a.id == newest.c.id)
        .where(d.tenant_id == tenant_id)
        .order_by(d.name)
    )  # fmt: skip
    if domain_ids is not None:
        query = query.where(d.id.in_(domain_ids))
    return values_of(SenderRow, connection.execute(query))


def newest_findings(
    connection: Connection, tenant_ids: list[int], domain_ids: Collection[int] | None = None
) -> dict[int, NewestFindings]:
    """Return what the newest audit of every domain, or of these, found, by domain id.

    The whole documents of some hundred domains are megabytes; this is a tenth of them.
    """
    a, newest = t.audit.c, _newest(tenant_ids, domain_ids)
    findings = type_coerce(func.json_extract(a.document, "$.findings"), JSON).label("findings")
    query = select(a.tenant_id, a.domain_id, a.finished_at, a.faults, findings)
    found = values_of(NewestFindings, connection.execute(query.join(newest, newest.c.id == a.id)))
    return {row.domain_id: row for row in found}


def add_audit(connection: Connection, **values: object) -> int:
    """Store an audit; its columns are those of the table."""
    result = connection.execute(insert(t.audit).values(**values))
    changes.note(connection, int(values["tenant_id"]), "domains")  # type: ignore[call-overload]
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def list_audits(connection: Connection, domain_id: int, *, before: int | None, limit: int) -> list[AuditSummaryRow]:
    """Audits of a domain, newest first, without their documents."""
    query = (
        select(*(t.audit.c[column] for column in _SUMMARY))
        .where(t.audit.c.domain_id == domain_id)
        .order_by(t.audit.c.id.desc())
        .limit(limit)
    )
    if before is not None:
        query = query.where(t.audit.c.id < before)
    return values_of(AuditSummaryRow, connection.execute(query))


def get_audit(connection: Connection, domain_id: int, audit_id: int | None = None) -> AuditRow | None:
    """One audit whole; the newest without `audit_id`."""
    query = select(t.audit).where(t.audit.c.domain_id == domain_id).order_by(t.audit.c.id.desc()).limit(1)
    if audit_id is not None:
        query = query.where(t.audit.c.id == audit_id)
    return value_of(AuditRow, connection.execute(query).first())


def changed_records_since(
    connection: Connection, tenant_id: int, names: Collection[str], since: datetime
) -> list[HappenedRow]:
    """Return which records of these domains changed after a time, oldest first, at most 20."""
    c, d = t.domain_history.c, t.sending_domain.c
    query = (
        select(d.name, c.happened_at, c.kind, c.title)
        .join(t.sending_domain, d.id == c.domain_id)
        .where(c.tenant_id == tenant_id, d.name.in_(list(names)), c.happened_at > since, c.kind.startswith("record"))
    )
    return values_of(HappenedRow, connection.execute(query.order_by(c.happened_at, c.id).limit(20)))


def history_between(
    connection: Connection, tenant_id: int, first: date, last: date, domain: str | None
) -> list[HappenedRow]:
    """name, happened_at, kind, title of what happened to a tenant's domains, or to one, between two days."""
    c, d = t.domain_history.c, t.sending_domain.c
    query = (
        select(d.name, c.happened_at, c.kind, c.title)
        .join(t.sending_domain, d.id == c.domain_id)
        .where(c.tenant_id == tenant_id, c.happened_at >= first, c.happened_at < last + timedelta(days=1))
    )
    if domain is not None:
        query = query.where(d.name == domain)
    return values_of(HappenedRow, connection.execute(query.order_by(c.happened_at, c.id).limit(500)))
