"""Relays of a tenant: names seen in events, and descriptions."""

from sqlalchemy import Connection, null, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t
from rust_gauge.store.columns import Document


def list_relays(connection: Connection, tenant_id: int) -> list[tuple[str, Document | None]]:
    """(name, description) by name; None where nobody described it."""
    c = t.relay.c
    rows = connection.execute(select(c.name, c.description).where(c.tenant_id == tenant_id).order_by(c.name))
    return [(row.name, row.description) for row in rows if row.name]


def set_relay(connection: Connection, tenant_id: int, name: str, description: Document) -> None:
    """Set a relay's description; makes the relay when there is none of this name."""
    statement = upsert(t.relay).values(tenant_id=tenant_id, name=name, description=description)
    connection.execute(statement.on_duplicate_key_update(description=statement.inserted.description))


def delete_relay(connection: Connection, tenant_id: int, name: str) -> bool:
    """Delete a description; the name stays, since events may have it. False if there was none."""
    c = t.relay.c
    where = (c.tenant_id == tenant_id) & (c.name == name) & c.description.is_not(None)
    return connection.execute(update(t.relay).where(where).values(description=null())).rowcount > 0
