"""Changes of zones that were made here."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import PublicationColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class PublicationRow:
    """A change that was made in a zone, with the name of its domain."""

    id: int
    tenant_id: int
    domain_id: int
    zone: str
    state: str
    verified: bool
    changes: list[Any]
    made_at: datetime
    made_by: str
    rolled_back_at: datetime | None
    domain: str


def add_publication(connection: Connection, **values: Unpack[PublicationColumns]) -> int:
    """Store a published change; its columns are those of the table."""
    result = connection.execute(insert(t.publication).values(state="applied", **values))
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def get_publication(connection: Connection, tenant_id: int, publication_id: int) -> PublicationRow | None:
    """Return a publication with the name of its domain."""
    query = select(t.publication, t.sending_domain.c.name.label("domain")).join(t.sending_domain)
    query = query.where(t.publication.c.id == publication_id, t.publication.c.tenant_id == tenant_id)
    return value_of(PublicationRow, connection.execute(query).first())


def list_publications(connection: Connection, domain_id: int, limit: int = 20) -> list[PublicationRow]:
    """Return publications, the newest first."""
    query = select(t.publication, t.sending_domain.c.name.label("domain")).join(t.sending_domain)
    query = query.where(t.publication.c.domain_id == domain_id).order_by(t.publication.c.id.desc())
    return values_of(PublicationRow, connection.execute(query.limit(limit)))


def change_publication(connection: Connection, publication_id: int, /, **values: Unpack[PublicationColumns]) -> None:
    """Change columns of a publication."""
    connection.execute(update(t.publication).where(t.publication.c.id == publication_id).values(**values))
