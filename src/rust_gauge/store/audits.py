"""What audits leave behind in addition to their snapshots: history, keys by first sight, settings."""

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sqlalchemy import Connection, func, insert, or_, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.mailflow import Kind
from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document
from rust_gauge.store.intake import TAG
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class HistoryRow:
    """A change at a domain."""

    id: int
    tenant_id: int
    domain_id: int
    audit_id: int
    happened_at: datetime
    kind: str
    title: str
    document: Document


@dataclass(frozen=True, slots=True)
class DueDomain:
    """A domain whose next audit is due."""

    id: int
    tenant_id: int
    audit_every_hours: int


@dataclass(frozen=True, slots=True)
class DomainOfTenant:
    """A domain with the name and slug of its tenant."""

    id: int
    name: str
    origin: str
    tenant_id: int
    slug: str
    tenant: str


def mark_checked(connection: Connection, audit_id: int, at: datetime) -> None:
    """Record that the newest audit still holds at this time."""
    connection.execute(update(t.audit).where(t.audit.c.id == audit_id).values(checked_at=at))


def add_history(connection: Connection, rows: list[Document]) -> None:
    """Entries of a domain's history; the columns are those of the table."""
    if rows:
        connection.execute(insert(t.domain_history), rows)


def list_history(connection: Connection, domain_id: int, *, before: int | None, limit: int) -> list[HistoryRow]:
    """Newest first."""
    c = t.domain_history.c
    query = select(t.domain_history).where(c.domain_id == domain_id).order_by(c.id.desc()).limit(limit)
    if before is not None:
        query = query.where(c.id < before)
    return values_of(HistoryRow, connection.execute(query))


def see_keys(
    connection: Connection, tenant_id: int, domain_id: int, keys: Iterable[tuple[str, str]], now: datetime
) -> None:
    """Keys (selector, fingerprint) that are published now."""
    for selector, fingerprint in keys:
        statement = upsert(t.dkim_key_seen).values(
            tenant_id=tenant_id,
            domain_id=domain_id,
            selector=selector,
            fingerprint=fingerprint,
            first_seen_at=now,
            last_seen_at=now,
        )
        connection.execute(statement.on_duplicate_key_update(last_seen_at=now))


def known_keys(
    connection: Connection, tenant_id: int, domain_id: int
) -> tuple[dict[str, datetime], dict[str, tuple[str, ...]]]:
    """First sight of each key at this domain, and the tenant's other domains that had each key lately."""
    c = t.dkim_key_seen.c
    first = dict(
        connection.execute(
            select(c.fingerprint, func.min(c.first_seen_at)).where(c.domain_id == domain_id).group_by(c.fingerprint)
        ).all()
    )
    elsewhere: dict[str, tuple[str, ...]] = {}
    if first:
        other = t.dkim_key_seen.alias()
        newest = select(func.max(other.c.last_seen_at)).where(other.c.domain_id == c.domain_id).scalar_subquery()
        rows = connection.execute(
            select(c.fingerprint, t.sending_domain.c.name)
            .join(t.sending_domain, t.sending_domain.c.id == c.domain_id)
            .where(
                c.tenant_id == tenant_id, c.domain_id != domain_id, c.fingerprint.in_(first), c.last_seen_at == newest
            )
            .order_by(t.sending_domain.c.name)
        )
        for fingerprint, name in rows:
            elsewhere[fingerprint] = (*elsewhere.get(fingerprint, ()), name)
    return first, elsewhere


def recent_counts(
    connection: Connection, tenant_id: int, domain_id: int, since: datetime
) -> dict[tuple[str, str], int]:
    """Events since a day by (stream, kind), of those kinds that an audit weighs."""
    c = t.flow_day.c
    kinds = {kind.number: str(kind) for kind in (Kind.ACCEPTED, Kind.DELIVERED, Kind.COMPLAINED)}
    rows = connection.execute(
        select(t.stream.c.name, c.kind, func.sum(c.n))
        .select_from(t.flow_day.outerjoin(t.stream, t.stream.c.id == c.stream_id))
        .where(c.tenant_id == tenant_id, c.domain_id == domain_id, c.day >= since.date(), c.kind.in_(kinds))
        .group_by(t.stream.c.name, c.kind)
    )
    return {(name or "", kinds[kind]): int(n) for name, kind, n in rows}


def complaint_counts(
    connection: Connection, tenant_id: int, domain_id: int, since: date, providers: Collection[int]
) -> tuple[int, int]:
    """Return (complaints, delivered) since a day at these providers: those that report complaints."""
    c = t.flow_day.c
    rows = connection.execute(
        select(c.kind, func.sum(c.n))
        .where(c.tenant_id == tenant_id, c.domain_id == domain_id, c.day >= since, c.provider_id.in_(list(providers)))
        .where(c.kind.in_((Kind.COMPLAINED.number, Kind.DELIVERED.number)))
        .group_by(c.kind)
    )
    counts = {kind: int(n) for kind, n in rows}
    return counts.get(Kind.COMPLAINED.number, 0), counts.get(Kind.DELIVERED.number, 0)


def tls_counts(connection: Connection, tenant_id: int, domain_id: int, since: date) -> tuple[int, int]:
    """Return (encrypted, all) deliveries since a day of those that say whether they were encrypted, by their tag."""
    c = t.flow_label_day.c
    rows = connection.execute(
        select(t.label.c.name, func.sum(c.n))
        .select_from(t.flow_label_day.join(t.label, t.label.c.id == c.label_id))
        .where(c.tenant_id == tenant_id, c.domain_id == domain_id, c.day >= since, c.kind == Kind.DELIVERED.number)
        .where(t.label.c.tenant_id == tenant_id, t.label.c.what == TAG, t.label.c.name.in_(("tls", "no-tls")))
        .group_by(t.label.c.name)
    )
    counts = {name: int(n) for name, n in rows}
    return counts.get("tls", 0), sum(counts.values())


def due_domains(connection: Connection, now: datetime, limit: int = 500) -> list[DueDomain]:
    """Watched domains whose next audit is due; each is set to its next time, so that nobody else takes it."""
    c = t.sending_domain.c
    rows = connection.execute(
        select(c.id, c.tenant_id, c.audit_every_hours)
        .where(c.origin == "added", c.audit_every_hours > 0, or_(c.next_audit_at.is_(None), c.next_audit_at <= now))
        .order_by(c.next_audit_at)
        .limit(limit)
        .with_for_update(skip_locked=True)
    ).all()
    for row in rows:
        spread = timedelta(minutes=row.id % 60)  # so that all domains of a day are not audited in one minute
        again = now + timedelta(hours=row.audit_every_hours) + spread
        connection.execute(update(t.sending_domain).where(c.id == row.id).values(next_audit_at=again))
    return values_of(DueDomain, rows)


def get_domain(connection: Connection, domain_id: int) -> DomainOfTenant | None:
    """Return a domain with its tenant's name and slug."""
    c = t.sending_domain.c
    return value_of(
        DomainOfTenant,
        connection.execute(
            select(
                c.id,
                c.name,
                c.origin,
                t.tenant.c.id.label("tenant_id"),
                t.tenant.c.slug,
                t.tenant.c.name.label("tenant"),
            )
            .join(t.tenant, t.tenant.c.id == c.tenant_id)
            .where(c.id == domain_id)
        ).first(),
    )


def get_setting(connection: Connection, tenant_id: int, name: str) -> Document | None:
    """Return a setting's document, or None."""
    c = t.tenant_setting.c
    document: Document | None = connection.scalar(select(c.document).where(c.tenant_id == tenant_id, c.name == name))
    return document


def all_settings(connection: Connection, name: str) -> dict[int, Document]:
    """Return the documents of every tenant that chose something, by tenant id."""
    c = t.tenant_setting.c
    return {
        row.tenant_id: row.document for row in connection.execute(select(c.tenant_id, c.document).where(c.name == name))
    }


def put_setting(connection: Connection, tenant_id: int, name: str, document: Document, now: datetime) -> None:
    """Store a setting's document in place of the one before."""
    statement = upsert(t.tenant_setting).values(tenant_id=tenant_id, name=name, document=document, changed_at=now)
    connection.execute(statement.on_duplicate_key_update(document=document, changed_at=now))
    changes.note(connection, tenant_id, "settings")


def drop_setting(connection: Connection, tenant_id: int, name: str) -> None:
    """Delete a setting: the defaults hold again."""
    c = t.tenant_setting.c
    connection.execute(t.tenant_setting.delete().where(c.tenant_id == tenant_id, c.name == name))
    changes.note(connection, tenant_id, "settings")
