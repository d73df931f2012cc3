"""Recipient data: everything stored about one recipient can be exported and erased."""

import re
import secrets

from rust_gauge.contract.events import Event
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import Address, address_key, parse_address
from rust_gauge.service.mailflow.events import list_events
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.entries import keys_of, status_of
from rust_gauge.store import caught, receiver_reports, suppression_state, verification
from rust_gauge.store import recipient_data as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import lock_counters

_MOST = 50_000  # events of one person


def _address(text: str) -> Address:
    try:
        return parse_address(text)
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None


def get_recipient_data(context: Context, tenant: TenantAccess, text: str) -> RecipientData:
    """All that is kept of a recipient: events, suppression entries and their history, rejected rows."""
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
    rejected = context.store.transaction(lambda c: store.rejected_rows_with(c, tenant.id, str(address)))
    messages = context.store.transaction(lambda c: caught.messages_about(c, tenant.id, str(address)))
    failures = context.store.transaction(lambda c: receiver_reports.failures_about(c, tenant.id, str(address)))
    key = address_key(address)
    verdicts = context.store.transaction(lambda c: verification.verdicts_on(c, tenant.id, [key]))[key]
    return RecipientData(
        tenant=tenant.slug, address=str(address), made_at=context.clock(), events=events,
        entries=[entry for entry in status.entries if not entry.address.startswith("@")], changes=status.history,
        rejected=[row.item for row in rejected],
        verdicts=[f"{each.asked_at:%Y-%m-%d %H:%M} {each.verdict}: {each.detail or each.word}" for each in verdicts],
        failures=[f"failure report {id}" for id in failures],
        caught=[f"{each.arrived_at:%Y-%m-%d %H:%M} {each.tray} {each.id}: {each.subject}" for each in messages],
    )  # fmt: skip


def erase(context: Context, tenant: TenantAccess, request: ErasureRequest, by: str) -> Erasure:
    """Erase a recipient everywhere. Events stay without them, so that no counter changes."""
    address = _address(request.address)
    key, new_key, now = address_key(address), secrets.token_bytes(16), context.clock()
    words = [str(address), *([address.local] if len(address.local) > 2 else [])]
    pattern = re.compile("|".join(rf"(?<!\w){re.escape(word)}(?!\w)" for word in words), re.IGNORECASE)

    def write(unit: UnitOfWork, lookup: ProviderLookup) -> tuple[int, int]:
        connection = unit.connection
        lock_counters(connection, tenant.id)
        suppression_state.lock(connection, tenant.id)
        for row in store.reply_patterns_of(connection, tenant.id, key):
            if pattern.search(row.example) or pattern.search(row.reply_pattern):
                store.change_reply_pattern(connection, row.id, example=pattern.sub("@", row.example))
                clean = pattern.sub("@", row.reply_pattern)
                if clean != row.reply_pattern:
                    store.change_reply_pattern(
                        connection, row.id, pattern_key=secrets.token_bytes(16), reply_pattern=clean
                    )
        events = store.erase_events(connection, tenant.id, key, new_key)
        rejected = store.rejected_rows_with(connection, tenant.id, str(address))
        store.delete_rejected_rows(connection, [row.id for row in rejected])
        messages = caught.messages_about(connection, tenant.id, str(address))
        caught.delete_by_id(connection, [each.id for each in messages])
        reports = receiver_reports.failures_about(connection, tenant.id, str(address))
        receiver_reports.delete_reports(connection, reports)
        others = len(rejected) + len(messages) + len(reports) + verification.erase_verdicts(connection, tenant.id, key)
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
