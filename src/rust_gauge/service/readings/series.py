"""Readings of one subject, day by day."""

from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.readings import PullsShown, Reading, ReadingSeries, Subject
from rust_gauge.service.providers.providers import ALL, ALL_LABEL, columns_of
from rust_gauge.service.readings.examination import examine, provider_id_of, readings_between
from rust_gauge.service.runtime.context import Context
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import ALL_PROVIDERS


def show_series(
    context: Context, tenant: TenantAccess, subject: Subject, name: str, provider: str | None, first: date | None,
    last: date | None, pulls: PullsShown = "all",
) -> ReadingSeries:  # fmt: skip
    """One subject's readings, overall or at one provider. Without dates: the last ninety days."""
    today = context.clock().date()
    last = last or today
    first = first or last - timedelta(days=89)

    found = examine(context, tenant, subject, name)

    def read(connection: Connection) -> ReadingSeries:
        columns = found.place.columns if found is not None else columns_of(connection, tenant.id, today)
        provider_id = provider_id_of(tenant, columns, provider)
        shown: list[Reading] = []
        if found is not None and (provider_id == ALL_PROVIDERS or provider_id in found.providers):
            shown = readings_between(found, provider_id, first, last, pulls)
        return ReadingSeries(
            tenant=tenant.slug, subject=subject, name=name.lower() if subject == "domain" else name,
            provider=ALL if provider_id == ALL_PROVIDERS else columns.name(provider_id),
            label=ALL_LABEL if provider_id == ALL_PROVIDERS else columns.label(provider_id),
            computed_at=context.clock() if found is not None else None, readings=shown,
        )  # fmt: skip

    return context.store.read(read)
