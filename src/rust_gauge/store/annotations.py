"""Notes on the time axis, made by people or by a change of policy."""

from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any, Unpack

from sqlalchemy import Connection, select

from rust_gauge.store import tables as t
from rust_gauge.store.columns import AnnotationColumns
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class AnnotationRow:
    """A note on the time axis."""

    id: int
    tenant_id: int
    domain: str
    day: date
    text: str
    made_at: datetime
    made_by: str
    kind: str


def add_annotation(connection: Connection, **values: Unpack[AnnotationColumns]) -> int:
    """Add a note; return its id."""
    key: Any = connection.execute(t.annotation.insert().values(**values)).inserted_primary_key
    return int(key[0])


def list_annotations(
    connection: Connection, tenant_id: int, first: date, last: date, domain: str | None
) -> list[AnnotationRow]:
    """Return notes of some days, both included; of a domain those that name it or none."""
    c = t.annotation.c
    query = select(t.annotation).where(c.tenant_id == tenant_id, c.day.between(first, last))
    if domain is not None:
        query = query.where(c.domain.in_(("", domain)))
    return values_of(AnnotationRow, connection.execute(query.order_by(c.day, c.id)))


def delete_annotation(connection: Connection, tenant_id: int, id: int) -> bool:
    """Delete a note that a person wrote; return whether there was one."""
    c = t.annotation.c
    where = (c.tenant_id == tenant_id, c.id == id, c.kind == "annotation")
    return bool(connection.execute(t.annotation.delete().where(*where)).rowcount)


def annotate_policy(connection: Connection, tenant_id: int, now: datetime, by: str, text: str) -> None:
    """Put a changed policy on the time axis."""
    at = now.astimezone(UTC).replace(tzinfo=None)
    add_annotation(
        connection, tenant_id=tenant_id, domain="", day=at.date(), text=text, made_at=at, made_by=by, kind="policy"
    )
