"""How long events are kept, and what is kept of one person: all of it can be had, and erased.

The worker drops old events once a day: whole partitions that no tenant needs, then each tenant's own. Counters stay.
"""

import re
import secrets
from datetime import UTC, datetime, time, timedelta

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.events import Event
from rust_gauge.contract.flow import FlowSettings
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import Address, address_key, parse_address
from rust_gauge.service.mailflow.events import list_events
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.entries import keys_of, status_of
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs, suppression
from rust_gauge.store import retention as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import lock_counters
from rust_gauge.store.jobs import Job
from rust_gauge.store.leases import LeaseHeld
from rust_gauge.store.rejudge import raise_rules_version

log = structlog.get_logger()
_SETTING = "flow"
_SETTLED = timedelta(days=400)  # trouble that is older concerns no message any more
_MOST = 50_000  # events of one person


def get_settings(context: Context, tenant_id: int) -> FlowSettings:
    """Return how long events are kept, and how shifts are searched for."""
    return context.store.transaction(lambda c: settings_of(c, tenant_id))


def settings_of(connection: Connection, tenant_id: int) -> FlowSettings:
    """The same, inside a transaction."""
    return FlowSettings.model_validate(store_settings.get_setting(connection, tenant_id, _SETTING) or {})


def put_settings(context: Context, tenant: TenantAccess, settings: FlowSettings) -> FlowSettings:
    """Keep settings. Events that are too old by them go with the next round."""
    now = context.clock()

    def write(connection: Connection) -> None:
        lock_counters(connection, tenant.id)
        raise_rules_version(connection, tenant.id)  # loads that were read by the old ones are read anew
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


# One person


def _address(text: str) -> Address:
    try:
        return parse_address(text)
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None


def recipient_data(context: Context, tenant: TenantAccess, text: str) -> RecipientData:
    """All that is kept of a recipient: events, suppression entries and their history, refused rows."""
    address = _address(text)
    events: list[Event] = []
    cursor = None
    while len(events) < _MOST:
        page = list_events(
            context, tenant, recipient=str(address), message_id=None, domain=None, kinds=(), since=None, until=None,
            cursor=cursor, limit=1000,
        )  # fmt: skip
        events += page.items
        cursor = page.next
        if cursor is None:
            break
    status = status_of(context, tenant, str(address))
    refused = context.store.transaction(lambda c: store.refused_with(c, tenant.id, str(address)))
    return RecipientData(
        tenant=tenant.slug, address=str(address), made_at=context.clock(), events=events,
        entries=[each for each in status.entries if not each.address.startswith("@")], changes=status.history,
        refused=[row.item for row in refused],
    )  # fmt: skip


def erase(context: Context, tenant: TenantAccess, request: ErasureRequest, by: str) -> Erasure:
    """Take a person out of everything. Events stay without them, so that no counter changes."""
    address = _address(request.address)
    key, new_key, now = address_key(address), secrets.token_bytes(16), context.clock()
    words = [str(address), *([address.local] if len(address.local) > 2 else [])]
    pattern = re.compile("|".join(rf"(?<!\w){re.escape(word)}(?!\w)" for word in words), re.IGNORECASE)

    def write(unit: UnitOfWork, lookup: ProviderLookup) -> tuple[int, int]:
        connection = unit.connection
        lock_counters(connection, tenant.id)
        suppression.lock(connection, tenant.id)
        for row in store.wordings_of(connection, tenant.id, key):
            if pattern.search(row.example) or pattern.search(row.wording):
                clean = pattern.sub("@", row.wording)
                changed = {"wording_key": secrets.token_bytes(16), "wording": clean} if clean != row.wording else {}
                store.change_wording(connection, row.id, example=pattern.sub("@", row.example), **changed)
        events = store.erase_events(connection, tenant.id, key, new_key)
        refused = store.refused_with(connection, tenant.id, str(address))
        store.drop_refused(connection, [row.id for row in refused])
        others = len(refused)
        for own in keys_of(unit, lookup, str(address)):
            others += store.erase_entries(connection, tenant.id, own, drop=request.may_be_mailed_again)
        store.add_erasure(
            connection, tenant_id=tenant.id, erased_at=now, erased_by=by, reason=request.reason, events=events,
            others=others,
        )  # fmt: skip
        return events, others

    events, others = with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: write(unit, lookup)))
    return Erasure(erased_at=now, erased_by=by, reason=request.reason, events=events, others=others)


def list_erasures(context: Context, tenant: TenantAccess) -> list[Erasure]:
    rows = context.store.transaction(lambda c: store.list_erasures(c, tenant.id))
    return [Erasure(**{name: getattr(row, name) for name in Erasure.model_fields}) for row in rows]
