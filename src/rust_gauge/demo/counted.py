"""Mail of the story that is counted only: two million messages a week are too many to make each of them up.

Its counters grow hour by hour while the demo runs; `python -m rust_gauge.demo.counted` does that. Each hour is added
once, however often the demo is started.
"""

import argparse
import time
from datetime import UTC, date, datetime, timedelta
from typing import Any

import structlog
from sqlalchemy import Connection, func, select

from rust_gauge.core.mailflow import Tally
from rust_gauge.demo.generator import day_counts
from rust_gauge.demo.scenario import FLOWS, HISTORY_DAYS, LONG_TAIL, PROVIDERS, TENANTS
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import changes, jobs, providers
from rust_gauge.store import events as store_events
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess, list_tenants, tenant_of
from rust_gauge.store.domains import list_domains
from rust_gauge.store.engine import StoreError
from rust_gauge.store.intake import Names

log = structlog.get_logger()
_DAYS_AT_ONCE = 15  # in one transaction
_EVERY = 60.0  # seconds


def names_of(connection: Connection, tenant: TenantAccess) -> tuple[Names, dict[str, int]]:
    """Return the ids of a tenant's domains, streams and relays in the story, and of its mailbox providers."""

    def ids(table: Any, names: set[str]) -> dict[str, int]:
        return store_events.intern(connection, table, tenant.id, names)

    known = {row.name: row.id for row in list_domains(connection, tenant.id)}
    flows = [flow for flow in FLOWS if flow.tenant == tenant.slug]
    names = Names(
        known, ids(t.stream, {flow.stream for flow in flows}), ids(t.relay, {flow.relay for flow in flows}), {}
    )
    return names, providers.provider_ids(connection, {*LONG_TAIL, *(provider.name for provider in PROVIDERS)})


def add_counted(context: Context, tenant: TenantAccess, anchor: date, now: datetime) -> int:
    """Add the whole hours that are missing of a tenant's mail that is counted only. Return how many counters."""
    domains = {flow.domain for flow in FLOWS if flow.tenant == tenant.slug and flow.counted}
    if not domains:
        return 0
    names, ids = context.store.transaction(lambda c: names_of(c, tenant))
    if not domains <= names.domains.keys():  # somebody removed it
        return 0
    mine = [names.domains[name] for name in domains]
    newest = context.store.transaction(lambda c: _newest_hour(c, tenant.id, mine))
    begin = datetime.combine(anchor - timedelta(days=HISTORY_DAYS), datetime.min.time(), UTC)
    since = begin if newest is None else newest + timedelta(hours=1)
    until = now.replace(minute=0, second=0, microsecond=0)
    added, day = 0, since.date()
    while day <= until.date():
        tally = Tally()
        for _ in range(_DAYS_AT_ONCE):
            for key, n in day_counts(day, anchor, tenant.slug, counted=True):
                if since <= key.hour < until:
                    tally.add_key(key, n)
            day += timedelta(days=1)
        if len(tally):
            context.store.transaction(lambda c, tally=tally: _add(c, tenant.id, tally, names, ids, mine, now))  # type: ignore[misc]
        added += len(tally)
    return added


def _newest_hour(connection: Connection, tenant_id: int, domain_ids: list[int]) -> datetime | None:
    c = t.flow_hour.c
    found = connection.scalar(select(func.max(c.hour)).where(c.tenant_id == tenant_id, c.domain_id.in_(domain_ids)))
    return None if found is None else found.replace(tzinfo=UTC)


def _add(
    connection: Connection, tenant_id: int, tally: Tally, names: Names, providers: dict[str, int],
    domain_ids: list[int], now: datetime,
) -> None:  # fmt: skip
    store_events.add_counts(connection, tenant_id, tally, names, providers)
    for domain_id in domain_ids:
        jobs.enqueue(connection, "readings", tenant_id, domain_id, now)
    changes.note(connection, tenant_id, "events")


def main(arguments: list[str] | None = None) -> int:
    """Run until killed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--anchor", type=date.fromisoformat, required=True, help="day 0 of the story")
    chosen = parser.parse_args(arguments)
    context = make_context(Settings())
    while True:
        try:
            _add_all(context, chosen.anchor)
        except StoreError as error:  # the database is away for a while
            log.info("counted_later", error=str(error))
        time.sleep(_EVERY)


def _add_all(context: Context, anchor: date) -> None:
    slugs = {tenant.slug for tenant in TENANTS}
    ids = {row.id for row in context.store.transaction(list_tenants) if row.slug in slugs}
    for id in ids:
        tenant = context.store.transaction(lambda c, id=id: tenant_of(c, id))  # type: ignore[misc]
        if tenant is not None:
            add_counted(context, tenant, anchor, context.clock())


if __name__ == "__main__":
    main()
