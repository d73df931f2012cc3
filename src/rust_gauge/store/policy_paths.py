"""Domains on their way to a stricter DMARC policy."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t
from rust_gauge.store.columns import PolicyPathColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class PathRow:
    """A path. `stage` is that of the record as it was published when it was last looked at."""

    domain_id: int
    tenant_id: int
    name: str
    stage: str
    stage_since: date
    published: str
    settings: Mapping[str, Any]
    checked_at: datetime | None


_QUERY = select(t.policy_path, t.sending_domain.c.name.label("name")).join(
    t.sending_domain, t.sending_domain.c.id == t.policy_path.c.domain_id
)


def get_path(connection: Connection, domain_id: int) -> PathRow | None:
    """Return a domain's path; None where it has none."""
    return value_of(PathRow, connection.execute(_QUERY.where(t.policy_path.c.domain_id == domain_id)).first())


def list_paths(connection: Connection, tenant_id: int) -> list[PathRow]:
    """Return the paths of a tenant's domains, by name."""
    query = _QUERY.where(t.policy_path.c.tenant_id == tenant_id).order_by(t.sending_domain.c.name)
    return values_of(PathRow, connection.execute(query))


def due_paths(connection: Connection, before: datetime, limit: int) -> list[PathRow]:
    """Return paths whose record was last asked for before a time."""
    c = t.policy_path.c
    query = _QUERY.where(c.asked_at.is_(None) | (c.asked_at < before)).order_by(c.asked_at).limit(limit)
    return values_of(PathRow, connection.execute(query))


def put_path(connection: Connection, **values: Unpack[PolicyPathColumns]) -> None:
    """Begin a path, or change the settings of the one there is."""
    statement = upsert(t.policy_path).values(**values)
    connection.execute(statement.on_duplicate_key_update(settings=statement.inserted.settings))


def update_path(connection: Connection, path: int, /, **values: Unpack[PolicyPathColumns]) -> None:
    """Change columns of a domain's path."""
    connection.execute(update(t.policy_path).where(t.policy_path.c.domain_id == path).values(**values))


def delete_path(connection: Connection, domain_id: int) -> bool:
    """End a path; False where there is none."""
    return bool(connection.execute(delete(t.policy_path).where(t.policy_path.c.domain_id == domain_id)).rowcount)


def largest_unknown(connection: Connection, domain_id: int, since: date, until: date) -> dict[date, tuple[str, int]]:
    """Return by day the unknown source with most messages: its name and how many."""
    d, s = t.report_source_day.c, t.report_source.c
    n = func.sum(d.n)
    query = (
        select(d.day, s.group_name, n)
        .join(t.report_source, s.id == d.source_id)
        .where(d.domain_id == domain_id, d.day >= since, d.day <= until, s.verdict == "unknown", d.n > 0)
        .group_by(d.day, s.group_name)
        .order_by(n)
    )
    return {day: (name or "not judged yet", int(total)) for day, name, total in connection.execute(query)}
