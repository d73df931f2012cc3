"""Mailbox providers, what a tenant calls them, and the cache of which provider runs which recipient domain."""

from collections import defaultdict
from collections.abc import Collection, Iterable
from datetime import datetime

from sqlalchemy import Connection, delete, insert, select
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import changes
from rust_gauge.store import tables as t


def known_domains(connection: Connection, domains: Iterable[str], now: datetime) -> dict[str, tuple[int, str]]:
    """Return (provider id, provider) of the recipient domains whose cached answer is still good."""
    query = (
        select(t.recipient_domain.c.name, t.mailbox_provider.c.id, t.mailbox_provider.c.name.label("provider"))
        .join(t.mailbox_provider, t.mailbox_provider.c.id == t.recipient_domain.c.provider_id)
        .where(t.recipient_domain.c.name.in_(list(domains)), t.recipient_domain.c.expires_at > now)
    )
    return {row.name: (row.id, row.provider) for row in connection.execute(query)}


def remember_domains(
    connection: Connection, found: dict[str, str], now: datetime, expires: dict[str, datetime]
) -> dict[str, tuple[int, str]]:
    """Store which provider (by registered domain) runs each recipient domain; return (provider id, provider)."""
    ids = provider_ids(connection, set(found.values()))
    for domain, provider in sorted(found.items()):
        statement = upsert(t.recipient_domain).values(
            name=domain, provider_id=ids[provider], resolved_at=now, expires_at=expires[domain]
        )
        connection.execute(
            statement.on_duplicate_key_update(
                provider_id=statement.inserted.provider_id,
                resolved_at=statement.inserted.resolved_at,
                expires_at=statement.inserted.expires_at,
            )
        )
    return {domain: (ids[provider], provider) for domain, provider in found.items()}


def provider_ids(connection: Connection, names: set[str]) -> dict[str, int]:
    """Ids of providers, made where they are missing."""
    query = select(t.mailbox_provider.c.name, t.mailbox_provider.c.id).where(t.mailbox_provider.c.name.in_(names))
    known = {row.name: row.id for row in connection.execute(query)}
    missing = sorted(names - known.keys())
    if missing:
        connection.execute(
            insert(t.mailbox_provider).prefix_with("IGNORE").values([{"name": name} for name in missing])
        )
        known = {row.name: row.id for row in connection.execute(query)}
    return known


def names_by_id(connection: Connection) -> dict[int, str]:
    """Return the names of all providers by id."""
    return {row.id: row.name for row in connection.execute(select(t.mailbox_provider.c.id, t.mailbox_provider.c.name))}


def labels(connection: Connection, tenant_id: int) -> dict[int, str]:
    """Return what a tenant calls providers, by provider id; only those that it named."""
    return labels_of(connection, [tenant_id]).get(tenant_id, {})


def labels_of(connection: Connection, tenant_ids: Collection[int]) -> dict[int, dict[int, str]]:
    """Return by tenant: what it calls providers, by provider id; only those that it named."""
    found: dict[int, dict[int, str]] = defaultdict(dict)
    for row in connection.execute(select(t.provider_label).where(t.provider_label.c.tenant_id.in_(tenant_ids))):
        found[row.tenant_id][row.provider_id] = row.label
    return found


def set_label(connection: Connection, tenant_id: int, provider_id: int, label: str) -> None:
    """Name a provider; an empty label takes the name back."""
    if not label:
        where = (t.provider_label.c.tenant_id == tenant_id) & (t.provider_label.c.provider_id == provider_id)
        connection.execute(delete(t.provider_label).where(where))
    else:
        statement = upsert(t.provider_label).values(tenant_id=tenant_id, provider_id=provider_id, label=label)
        connection.execute(statement.on_duplicate_key_update(label=statement.inserted.label))
    changes.note(connection, tenant_id, "settings")


def names(connection: Connection, ids: Iterable[int]) -> dict[int, str]:
    """Return registered domains by provider id."""
    query = select(t.mailbox_provider).where(t.mailbox_provider.c.id.in_(list(ids)))
    return {row.id: row.name for row in connection.execute(query)}


def known_ids(connection: Connection, names: Iterable[str]) -> dict[str, int]:
    """Return the ids of providers by registered domain; unknown ones are missing."""
    query = select(t.mailbox_provider).where(t.mailbox_provider.c.name.in_(list(names)))
    return {row.name: row.id for row in connection.execute(query)}


def find(connection: Connection, name: str) -> int | None:
    """Return the id of a provider by its registered domain; None for an unknown one."""
    return connection.scalar(select(t.mailbox_provider.c.id).where(t.mailbox_provider.c.name == name))
