"""Mailbox providers as a tenant calls them, and which of them are shown on their own."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.flow import Provider
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import flow, providers
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import NO_MAIL_PROVIDER, OTHER_PROVIDERS, UNRESOLVED_PROVIDER

OTHERS, OTHERS_LABEL = "(others)", "Others"
ALL, ALL_LABEL = "(all)", "All"
_MOST, _LEAST_SHARE, _DAYS = 8, 0.02, 90


@dataclass(frozen=True, slots=True)
class Columns:
    """A tenant's providers that are shown on their own, by id; every other one counts among the others."""

    names: dict[int, str]
    labels: dict[int, str]
    named: frozenset[int]

    def place(self, provider_id: int) -> int:
        """The provider's own id, or that of the others."""
        return provider_id if provider_id in self.names else OTHER_PROVIDERS

    def name(self, provider_id: int) -> str:
        return self.names.get(provider_id, OTHERS)

    def label(self, provider_id: int) -> str:
        return self.labels.get(provider_id) or self.names.get(provider_id, OTHERS_LABEL)


def columns_of(connection: Connection, tenant_id: int, today: date) -> Columns:
    """Return the providers that the tenant has named, and the largest others by recent mail."""
    return columns_of_all(connection, [tenant_id], today)[tenant_id]


def columns_of_all(connection: Connection, tenant_ids: Collection[int], today: date) -> dict[int, Columns]:
    """Return by tenant: the providers that it has named, and the largest others by recent mail."""
    labels = providers.labels_of(connection, tenant_ids)
    volumes = flow.volumes_by_provider(connection, tenant_ids, today - timedelta(days=_DAYS))
    chosen = {id: _chosen(labels.get(id, {}), volumes.get(id, {})) for id in tenant_ids}
    names = providers.names(connection, {id for ids in chosen.values() for id in ids})
    return {
        tenant_id: Columns(
            {id: names[id] for id in ids}, labels.get(tenant_id, {}), frozenset(labels.get(tenant_id, {}))
        )
        for tenant_id, ids in chosen.items()
    }


def _chosen(labels: Mapping[int, str], volume: Mapping[int, int]) -> list[int]:
    total = sum(volume.values())
    special = (OTHER_PROVIDERS, UNRESOLVED_PROVIDER, NO_MAIL_PROVIDER)
    large = sorted(
        (id for id, n in volume.items() if id not in labels and id not in special and n >= _LEAST_SHARE * total),
        key=lambda id: (-volume[id], id),
    )
    return sorted(labels, key=lambda id: (-volume.get(id, 0), id)) + large[: max(0, _MOST - len(labels))]


def list_providers(context: Context, tenant: TenantAccess) -> list[Provider]:
    """Every provider that the tenant's mail went to, those with most mail first."""
    since = context.clock().date() - timedelta(days=_DAYS)

    def read(connection: Connection) -> list[Provider]:
        labels = providers.labels(connection, tenant.id)
        volume = flow.volume_by_provider(connection, tenant.id, since)
        ids = sorted({*volume, *labels}, key=lambda id: (-volume.get(id, 0), id))
        names = providers.names(connection, ids)
        return [
            Provider(provider=names[id], label=labels.get(id, names[id]), named=id in labels)
            for id in ids
            if not names[id].startswith("(")
        ]

    return context.store.transaction(read)


def provider_id(connection: Connection, tenant: TenantAccess, name: str) -> int:
    """Return the id of a mailbox provider by its registered domain or the tenant's own name for it.

    ServiceProblem `not-found` with the nearest known name.
    """
    labels = providers.labels(connection, tenant.id)
    found = providers.find(connection, name) or next((id for id, label in labels.items() if label == name), None)
    if found is None:
        known = providers.names(connection, sorted(flow.volume_by_provider(connection, tenant.id)))
        raise unknown_name(tenant.name, "mailbox provider", name, [*labels.values(), *known.values()])
    return found


def rename_provider(context: Context, tenant: TenantAccess, provider: str, label: str) -> Provider:
    """Call a provider by a name of its own; an empty one takes it back."""
    label = label.strip()

    def write(connection: Connection) -> None:
        id = provider_id(connection, tenant, provider)
        if provider.startswith("("):
            raise ServiceProblem("invalid-request", f"{provider} stands for several providers and cannot be renamed")
        providers.set_label(connection, tenant.id, id, label)

    context.store.transaction(write)
    return Provider(provider=provider, label=label or provider, named=bool(label))
