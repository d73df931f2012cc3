"""The suppression list: its entries as people see them, filtered, exported, and the status of one address."""

import base64
import binascii
import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.common import Page, spreadsheet_cell
from rust_gauge.contract.suppression import AddressStatus, EntryCount, Evidence, SuppressionEntry
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import Address, normalise_domain, parse_address
from rust_gauge.core.suppression import Asking, Change, Entry, Reason, Scope, State, judge
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.providers.providers import provider_id
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression.changes import shown_change
from rust_gauge.service.suppression.names import Names
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.store import holding as store_holding
from rust_gauge.store import suppression as store
from rust_gauge.store import suppression_list
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.suppression import EntryRow, Where
from rust_gauge.store.suppression_list import Filter, ListedEntry

_COUNTED = 100_000  # entries are counted no further


_PAGE = 2000  # rows in memory at a time while a list is exported


_MOST_ASKED = 1000  # addresses in one request of people; clearance takes more


def entry_id(where: Where) -> str:
    """Return the public id of an entry: its position in the list."""
    key = base64.urlsafe_b64encode(where.key).decode().rstrip("=")
    return f"{key}.{where.reason.number}.{where.scope.number}.{where.scope_id}"


def read_entry_id(text: str) -> Where:
    """ServiceProblem `not-found` for what names no entry."""
    try:
        key, reason, scope, scope_id = text.split(".")
        octets = base64.urlsafe_b64decode(key + "==")
        if len(octets) != 16 or int(reason) < 1 or int(scope) < 1 or not 0 <= int(scope_id) < 2**32:
            raise ValueError
        return Where(octets, Reason.from_number(int(reason)), Scope.from_number(int(scope)), int(scope_id))
    except (ValueError, IndexError, binascii.Error):
        raise ServiceProblem("not-found", f"Entry not found: {text[:60]}") from None


def show(row: EntryRow, names: Names) -> SuppressionEntry:
    where = store.where_of(row)
    return SuppressionEntry(
        id=entry_id(where), address=row.address, address_key=where.key.hex(), reason=str(where.reason),
        scope=str(where.scope), scope_name=names.reached(where.scope, where.scope_id),
        state=str(State.from_number(row.state)), since=row.since, until=row.until, ended_at=row.ended_at,
        made_at=row.made_at, made_by=row.changed_by, origin=row.origin,
        change=str(Change.from_number(row.change)), changed_at=row.changed_at, note=row.note,
        provider=names.label(row.provider_id), stream=getattr(row, "stream", "") or "", times=row.times,
        returns=row.returns, evidence=[Evidence.model_validate(load) for load in orjson.loads(row.evidence)],
    )  # fmt: skip


def filter_of(
    context: Context, tenant: TenantAccess, *, text: str = "", address: str = "", states: Sequence[str] = (),
    reasons: Sequence[str] = (), provider: str | None = None, stream: str | None = None, scope: str | None = None,
    origin: str = "", ends_within_days: float | None = None, came_back: bool = False,
) -> Filter:  # fmt: skip
    """Return the filters of a list. ServiceProblem for an address that is none, `not-found` for an unknown name."""

    def read(unit: UnitOfWork, lookup: ProviderLookup) -> Filter:
        connection = unit.connection
        made = Filter(
            text=text.strip(), states=tuple(State(state) for state in states),
            reasons=tuple(Reason(reason) for reason in reasons), scope=Scope(scope) if scope else None, origin=origin,
            came_back=came_back,
        )  # fmt: skip
        if ends_within_days is not None:
            made = replace(made, ends_before=unit.now + timedelta(days=ends_within_days))
            made = made if states else replace(made, states=(State.HELD, State.RESTING))
        elif not states:
            made = replace(made, states=(State.HELD,))
        if address:
            made = replace(made, keys=keys_of(unit, lookup, address))
        if stream is not None:
            ids = store_holding.ids_of(connection, tenant.id)[1]
            if stream not in ids:
                raise unknown_name(tenant.name, "stream", stream, ids)
            made = replace(made, stream_id=ids[stream])
        if provider:
            made = replace(made, provider_ids=(provider_id(connection, tenant, provider),))
        return made

    return with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: read(unit, lookup)))


def keys_of(unit: UnitOfWork, lookup: ProviderLookup, text: str) -> tuple[bytes, ...]:
    """The keys that an address, or @domain, may stand under."""
    matchings = matchings_of(unit)
    if text.startswith("@"):
        return (matchings[0].domain_key(_domain(text)),)
    address = _address(text)
    # Who runs the mailboxes matters only where a way of comparing asks for it.
    needed = any(matching.same for matching in matchings)
    provider = lookup.of([address.domain])[address.domain][1] if needed else ""
    return tuple({key: None for matching in matchings for key in matching.possible_keys(address, provider)})


def _address(text: str) -> Address:
    try:
        return parse_address(text)
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None


def _domain(text: str) -> str:
    try:
        return normalise_domain(text.removeprefix("@"))
    except DomainNameError as error:
        raise ServiceProblem("not-a-domain", str(error), remedy=error.remedy) from None


def list_entries(
    context: Context, tenant: TenantAccess, filter: Filter, cursor: str | None, limit: int
) -> Page[SuppressionEntry]:
    """The list, what changed last first."""
    position = read_cursor("suppression", cursor, int)
    before = position[0] if position else None

    def read(connection: Connection) -> tuple[list[ListedEntry], list[SuppressionEntry]]:
        rows = suppression_list.list_entries(connection, tenant.id, filter, before, limit + 1)
        names = Names(connection, tenant.id)
        return rows, [show(row, names) for row in rows[:limit]]

    rows, items = context.store.transaction(read)
    return Page(items=items, next=write_cursor("suppression", rows[limit - 1].number) if len(rows) > limit else None)


def count_entries(context: Context, tenant: TenantAccess, filter: Filter) -> EntryCount:
    n = context.store.transaction(lambda c: suppression_list.count_entries(c, tenant.id, filter, _COUNTED + 1))
    return EntryCount(count=min(n, _COUNTED), more=n > _COUNTED)


EXPORTED = (
    "address", "address_key", "reason", "scope", "scope_name", "state", "since", "until", "made_at", "made_by",
    "origin", "provider", "stream", "times", "returns", "note",
)  # fmt: skip


def export(context: Context, tenant: TenantAccess, filter: Filter, form: str) -> Iterator[bytes]:
    """The whole list as CSV or NDJSON, page by page in the order of its keys."""
    if form == "csv":
        yield csv_line(EXPORTED)
    after: Where | None = None
    while True:
        rows, items = context.store.read(partial(_export_page, tenant_id=tenant.id, filter=filter, after=after))
        if form == "csv":
            yield b"".join(csv_line([_cell(getattr(item, name)) for name in EXPORTED]) for item in items)
        else:
            yield b"".join(item.model_dump_json().encode() + b"\n" for item in items)
        if len(rows) < _PAGE:
            return
        after = store.where_of(rows[-1])


def _export_page(
    connection: Connection, tenant_id: int, filter: Filter, after: Where | None
) -> tuple[list[ListedEntry], list[SuppressionEntry]]:
    rows = suppression_list.pages_by_key(connection, tenant_id, filter, after, _PAGE)
    names = Names(connection, tenant_id)
    return rows, [show(row, names) for row in rows]


def _cell(value: object) -> str:
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat().replace("+00:00", "Z")
    return "" if value is None else str(value)


def csv_as_it_came(cells: Sequence[object]) -> bytes:
    """Return a line of CSV (RFC 4180) with the cells of somebody's own file, unchanged."""
    out = io.StringIO()
    csv.writer(out).writerow(cells)
    return out.getvalue().encode()


def csv_line(cells: Sequence[object]) -> bytes:
    """A line of CSV (RFC 4180) in which no cell can be taken for a formula."""
    out = io.StringIO()
    csv.writer(out).writerow([spreadsheet_cell(str(cell)) for cell in cells])
    return out.getvalue().encode()


def status_of(context: Context, tenant: TenantAccess, text: str) -> AddressStatus:
    """One address: what stands, and everything that ever happened."""

    def read(unit: UnitOfWork, lookup: ProviderLookup) -> AddressStatus:
        connection, now = unit.connection, unit.now
        shown = text
        keys = [*keys_of(unit, lookup, text)]
        if not text.startswith("@"):
            address = _address(text)
            shown = str(address)
            keys.append(matchings_of(unit)[0].domain_key(address.domain))
        names = Names(connection, tenant.id)
        rows = list(store.rows_of(connection, tenant.id, set(keys)).values())
        verdict = judge([_entry(row) for row in rows], Asking(), now)
        history = [
            shown_change(row, names, row.address) for row in suppression_list.history_of(connection, tenant.id, keys)
        ]
        return AddressStatus(
            address=shown, verdict="held" if verdict.held else "clear", why=verdict.why,
            entries=[show(row, names) for row in sorted(rows, key=lambda row: -row.number)], history=history,
        )  # fmt: skip

    return with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: read(unit, lookup)))


def _entry(row: EntryRow) -> Entry:
    status, where = store.status_of(row), store.where_of(row)
    return Entry(where.reason, status.since, status.until, status.state, where.scope, where.scope_id, row.note)


def scope_of(names: Names, scope: str, name: str) -> tuple[Scope, int]:
    if scope == "tenant":
        return Scope.TENANT, 0
    known = names.streams if scope == "stream" else names.domains
    wanted = name if scope == "stream" else name.lower().rstrip(".")
    if wanted not in known:
        raise unknown_name("This tenant", "stream" if scope == "stream" else "domain", name, known)
    return Scope(scope), known[wanted]
