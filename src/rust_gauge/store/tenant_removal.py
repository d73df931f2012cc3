"""Removing a tenant with all that is stored of it, in pieces that hold up nobody.

It is closed at once: nobody sees it, nothing is taken in for it. Then its rows are deleted, table by table, and the
tenant itself last. The audit log stays, as everything else that was done.
"""

from collections.abc import Iterator

from sqlalchemy import Connection, delete, select, text, update

from rust_gauge.store import tables as t

_PIECE = 5000  # rows of one transaction
_OF_DOMAINS = ("report_row", "report_source_day", "report_receiver_day", "report_name", "tls_row")
"""Tables whose rows belong to a domain, and say nothing of the tenant."""
CLOSED = "-"  # what the slug of a closed tenant begins with; no other can


def close(connection: Connection, tenant_id: int) -> None:
    """Take a tenant away from everybody, and free its short name."""
    for table in (t.membership, t.invitation, t.assignment, t.gate, t.feed, t.webhook):
        connection.execute(delete(table).where(table.c.tenant_id == tenant_id))
    connection.execute(delete(t.job).where(t.job.c.tenant_id == tenant_id))
    connection.execute(update(t.tenant).where(t.tenant.c.id == tenant_id).values(slug=f"{CLOSED}{tenant_id}"))


def remaining(connection: Connection, tenant_id: int) -> bool:
    """Return whether a closed tenant is still there."""
    query = select(t.tenant.c.id).where(t.tenant.c.id == tenant_id, t.tenant.c.slug.startswith(CLOSED))
    return connection.scalar(query) is not None


def tables_of_tenants() -> Iterator[str]:
    """Yield the tables with rows of tenants, those that refer to others first."""
    yield from _OF_DOMAINS
    for table in reversed(t.metadata.sorted_tables):
        if "tenant_id" in table.c and table.name != t.audit_entry.name:
            yield table.name


def delete_piece(connection: Connection, table: str, tenant_id: int) -> int:
    """Delete some rows of a table. Return how many there were, fewer than a piece at the end."""
    of_domains = "domain_id IN (SELECT id FROM sending_domain WHERE tenant_id = :id)"
    where = of_domains if table in _OF_DOMAINS else "tenant_id = :id"
    statement = text(f"DELETE FROM `{table}` WHERE {where} LIMIT {_PIECE}")
    return int(connection.execute(statement, {"id": tenant_id}).rowcount)


def is_whole_piece(rows: int) -> bool:
    """Return whether there may be more."""
    return rows >= _PIECE


def delete_tenant(connection: Connection, tenant_id: int) -> None:
    """Delete the tenant itself, once all else is gone."""
    connection.execute(delete(t.tenant).where(t.tenant.c.id == tenant_id))
