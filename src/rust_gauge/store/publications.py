"""Changes of zones that were made here."""

from typing import Any

from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow


def add_publication(connection: Connection, **values: Any) -> int:
    """Keep a change that was made; its columns are those of the table."""
    result = connection.execute(insert(t.publication).values(state="applied", **values))
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def get_publication(connection: Connection, tenant_id: int, publication_id: int) -> AnyRow | None:
    query = select(t.publication, t.sending_domain.c.name.label("domain")).join(t.sending_domain)
    query = query.where(t.publication.c.id == publication_id, t.publication.c.tenant_id == tenant_id)
    return connection.execute(query).first()


def list_publications(connection: Connection, domain_id: int, limit: int = 20) -> list[AnyRow]:
    """The newest first."""
    query = select(t.publication, t.sending_domain.c.name.label("domain")).join(t.sending_domain)
    query = query.where(t.publication.c.domain_id == domain_id).order_by(t.publication.c.id.desc())
    return list(connection.execute(query.limit(limit)))


def change_publication(connection: Connection, publication_id: int, **values: Any) -> None:
    connection.execute(update(t.publication).where(t.publication.c.id == publication_id).values(**values))
