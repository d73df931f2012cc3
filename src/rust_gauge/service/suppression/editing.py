"""Changing the suppression list: entries are added, lifted, decided about, and ended when their time is over."""

from collections import defaultdict
from datetime import datetime
from functools import partial

from rust_gauge.contract.suppression import (
    Decision,
    EntriesMade,
    Lift,
    Lifted,
    NewEntries,
    RefusedAddress,
    SuppressionEntry,
)
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import Address, hide_addresses, normalise_domain, parse_address
from rust_gauge.core.suppression import Change, Reason, Scope, State, Status, Wish, ask, confirm, end
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression import holding
from rust_gauge.service.suppression.entries import entry_id, keys_of, read_entry_id, scope_of, show
from rust_gauge.service.suppression.names import Names
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.store import providers, suppression_list, suppression_state
from rust_gauge.store import suppression as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.suppression import Ask, EntryRow, Target, Where


def add_entries(context: Context, tenant: TenantAccess, new: NewEntries, by: str, origin: str) -> EntriesMade:
    """Suppress addresses for a person or a program. Invalid ones are reported, the others are suppressed."""
    now = context.clock()
    if new.until is not None and new.until <= now:
        raise ServiceProblem("invalid-request", "until is in the past", remedy="Omit it for no end")
    if new.reason == "try_later":
        raise ServiceProblem("invalid-request", "reason: try_later is advice only and cannot hold an address")
    parsed: list[tuple[str, Address | None]] = []
    rejected: list[RefusedAddress] = []
    for row, text in enumerate(new.addresses, 1):
        try:
            text = text.strip()
            parsed.append((f"@{normalise_domain(text[1:])}", None) if text[:1] == "@" else ("", parse_address(text)))
        except (AddressError, DomainNameError) as error:
            rejected.append(RefusedAddress(row=row, text=text[:100], why=error.why or error.what))

    def write(unit: UnitOfWork, lookup: ProviderLookup) -> int:
        connection = unit.connection
        suppression_state.lock(connection, tenant.id)
        names = Names(connection, tenant.id)
        scope, scope_id = scope_of(names, new.scope, new.scope_name)
        matching = matchings_of(unit)[0]
        wanted = {a.domain for _, a in parsed if a is not None}
        # Where the provider decides what is the same mailbox it has to be found out; else it is only for the numbers.
        known = lookup.of(wanted) if matching.same else providers.known_domains(connection, wanted, now)
        wish = Wish(now, now, until=new.until)
        asks = []
        for domain, address in parsed:
            if address is None:
                key, target = matching.domain_key(domain[1:]), Target(domain, domain[1:])
            else:
                provider_id, provider = known.get(address.domain, (0, ""))
                key, target = matching.key(address, provider), holding.target_of(matching, address, provider_id)
            where = Where(key, Reason(new.reason), scope, scope_id)
            decide = partial(ask, wish=wish, now=now)
            stream_id = scope_id if scope is Scope.STREAM else 0
            note = hide_addresses(new.note) if matching.secret else new.note
            asks.append(Ask(where, target, decide, now, (), note, origin, stream_id))
        done = store.change(connection, tenant.id, asks, by, now)
        holding.tell(unit, done, by)
        return len(done)

    changed = with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: write(unit, lookup)))
    return EntriesMade(changed=changed, standing=len(parsed) - changed, rejected=rejected)


def lift(context: Context, tenant: TenantAccess, request: Lift, by: str, origin: str) -> Lifted:
    """Remove entries, all or none. One from a complaint needs a confirmation."""
    if bool(request.ids) == bool(request.address):
        raise ServiceProblem("invalid-request", "Give either ids or one address", remedy="Give exactly one of the two")

    def write(unit: UnitOfWork, lookup: ProviderLookup) -> list[SuppressionEntry]:
        connection, now = unit.connection, unit.now
        suppression_state.lock(connection, tenant.id)
        rows = _rows_to_change(unit, lookup, request)
        live = {where: row for where, row in rows.items() if row.state != State.ENDED.number}
        if not live:
            raise ServiceProblem("not-found", "There is no active entry to lift")
        complained = [where for where in live if where.reason is Reason.COMPLAINT]
        if complained and not request.despite_complaint:
            raise ServiceProblem(
                "needs-confirmation",
                f"{len(complained)} of these were made by a complaint: the recipient reported your mail as spam",
                remedy="Lift the others only, or set despite_complaint if the recipient has opted in again",
            )
        asks = [
            Ask(where, Target(row.address), partial(_lift, now=now), now, (), request.why, origin)
            for where, row in live.items()
        ]
        done = store.change(connection, tenant.id, asks, by, now)
        holding.tell(unit, done, by)
        names = Names(connection, tenant.id)
        after = store.rows_of(connection, tenant.id, {where.key for where in live})
        return [show(after[where], names) for where in live]

    return Lifted(
        entries=with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: write(unit, lookup)))
    )


def _lift(status: Status | None, now: datetime) -> Status | None:
    return None if status is None else end(status, Change.LIFTED, now, now)


def _rows_to_change(unit: UnitOfWork, lookup: ProviderLookup, request: Lift) -> dict[Where, EntryRow]:
    if request.ids:
        wanted = [read_entry_id(id) for id in request.ids]
        rows = store.rows_of(unit.connection, unit.tenant_id, {where.key for where in wanted})
        missing = [where for where in wanted if where not in rows]
        if missing:
            raise ServiceProblem("not-found", f"Entry not found: {entry_id(missing[0])}")
        return {where: rows[where] for where in wanted}
    return store.rows_of(unit.connection, unit.tenant_id, keys_of(unit, lookup, request.address))


def decide(context: Context, tenant: TenantAccess, decision: Decision, by: str) -> list[SuppressionEntry]:
    """Agree to proposals, or dismiss them."""
    now = context.clock()

    def act(status: Status | None) -> Status | None:
        if status is None or status.state is not State.PROPOSED:
            return status
        return confirm(status) if decision.confirm else end(status, Change.DISMISSED, now, now)

    def write(unit: UnitOfWork) -> list[SuppressionEntry]:
        connection = unit.connection
        suppression_state.lock(connection, tenant.id)
        wanted = [read_entry_id(id) for id in decision.ids]
        rows = store.rows_of(connection, tenant.id, {where.key for where in wanted})
        known = [where for where in wanted if where in rows]
        if len(known) < len(wanted):
            raise ServiceProblem("not-found", "One of these is not an entry of this list")
        asks = [Ask(where, Target(rows[where].address), act, now, (), decision.why, "hand") for where in known]
        done = store.change(connection, tenant.id, asks, by, now)
        holding.tell(unit, done, by)
        names = Names(connection, tenant.id)
        after = store.rows_of(connection, tenant.id, {where.key for where in known})
        return [show(after[where], names) for where in known]

    return context.unit(tenant.id, write)


def end_overdue(context: Context) -> None:
    """Write down that the time of entries is over. They hold no more from that moment, written or not."""
    now = context.clock()
    while True:
        rows = context.store.transaction(lambda c: suppression_list.overdue(c, now, 2000))
        tenants: dict[int, list[Where]] = defaultdict(list)
        for row in rows:
            tenants[row.tenant_id].append(store.where_of(row))
        for tenant_id, wheres in tenants.items():
            context.unit(tenant_id, partial(_end_overdue, wheres=wheres))
        if len(rows) < 2000:
            return


def _end_overdue(unit: UnitOfWork, wheres: list[Where]) -> None:
    connection, tenant_id, now = unit.connection, unit.tenant_id, unit.now

    def over(status: Status | None) -> Status | None:
        return None if status is None else end(status, Change.ENDED, status.until or now, now)

    rows = store.rows_of(connection, tenant_id, {where.key for where in wheres})
    asks = [
        Ask(where, Target(rows[where].address), over, rows[where].until or now, origin="investigate")
        for where in wheres
        if (row := rows.get(where)) is not None and row.until is not None and row.until <= now.replace(tzinfo=None)
    ]
    done = store.change(connection, tenant_id, asks, "time", now)
    holding.tell(unit, done)
