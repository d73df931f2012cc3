"""Retention of events. The worker deletes old events once a day: whole partitions that no tenant needs, then each
tenant's own. Counters stay.
"""

from datetime import UTC, datetime, time, timedelta

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.flow import FlowSettings
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs
from rust_gauge.store import retention as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import lock_counters
from rust_gauge.store.jobs import Job
from rust_gauge.store.leases import LeaseHeld
from rust_gauge.store.rejudge import raise_rules_version

log = structlog.get_logger()
_SETTING = "flow"
_SETTLED = timedelta(days=400)  # trouble that is older concerns no message any more


def get_settings(context: Context, tenant_id: int) -> FlowSettings:
    """Return how long events are kept, and how shifts are searched for."""
    return context.store.transaction(lambda c: settings_of(c, tenant_id))


def settings_of(connection: Connection, tenant_id: int) -> FlowSettings:
    """The same, inside a transaction."""
    return FlowSettings.model_validate(store_settings.get_setting(connection, tenant_id, _SETTING) or {})


def put_settings(context: Context, tenant: TenantAccess, settings: FlowSettings) -> FlowSettings:
    """Store the settings. Events that are too old for them are deleted in the next round."""
    now = context.clock()

    def write(connection: Connection) -> None:
        lock_counters(connection, tenant.id)
        raise_rules_version(connection, tenant.id)  # loads that were read by the old ones are read again
        store_settings.put_setting(connection, tenant.id, _SETTING, settings.model_dump(), now)
        jobs.enqueue(connection, "retention", tenant.id, 0, now)

    context.store.transaction(write)
    return settings


def kept_since(connection: Connection, tenant_id: int, now: datetime) -> datetime:
    """Return midnight of the first day of which events are kept."""
    first = now.date() - timedelta(days=settings_of(connection, tenant_id).keep_events_days)
    return datetime.combine(first, time(), UTC)


def ask_for_due(context: Context) -> None:
    """Once a day: partitions that nobody needs, and work for tenants that have more than they keep."""
    today = context.clock().date()
    if context.memory.get("retention") == today:
        return
    midnight, now = datetime.combine(today, time()), context.clock()
    usual = FlowSettings().keep_events_days

    def write(connection: Connection) -> None:
        chosen = {
            tenant_id: FlowSettings.model_validate(document).keep_events_days
            for tenant_id, document in store_settings.all_settings(connection, _SETTING).items()
        }
        for days in {usual, *chosen.values()}:
            tenants = [tenant_id for tenant_id, kept in chosen.items() if kept == days]
            others = sorted(chosen) if days == usual else None  # who chose nothing keeps what is usual
            for tenant_id in store.with_older(connection, midnight - timedelta(days=days), tenants, others):
                jobs.enqueue(connection, "retention", tenant_id, 0, now)

    context.store.transaction(write)
    kept = context.store.transaction(lambda c: store_settings.all_settings(c, _SETTING)).values()
    longest = max([usual, *(FlowSettings.model_validate(document).keep_events_days for document in kept)])
    try:
        partitions = store.drop_partitions(context.store, today - timedelta(days=longest), now)
    except LeaseHeld:
        return  # another process changes partitions just now; the next round looks again
    settled = today - _SETTLED
    while context.store.transaction(lambda c: store.forget_trouble(c, settled)) == store.PIECE:
        pass
    if partitions:
        log.info("partitions_dropped", partitions=partitions)
    context.memory["retention"] = today


def run_drop(context: Context, job: Job) -> None:
    """The job: what this tenant does not keep any more, in pieces."""
    now = context.clock()
    before = context.store.transaction(lambda c: kept_since(c, job.tenant_id, now)).replace(tzinfo=None)
    dropped, piece = 0, store.PIECE
    while piece == store.PIECE:
        piece = context.store.transaction(lambda c: store.drop_events(c, job.tenant_id, before))
        dropped += piece
        context.store.transaction(lambda c: jobs.renew(c, job, context.clock()))
    log.info("events_dropped", tenant=job.tenant_id, events=dropped)
