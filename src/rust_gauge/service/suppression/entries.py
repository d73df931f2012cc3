"""The suppression list for people and programs: reading it, holding by hand, lifting, deciding, what happened."""

import asyncio
import base64
import binascii
import csv
import io
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from functools import partial

import orjson
from sqlalchemy import Connection

from rust_gauge.contract.common import Page, spreadsheet_cell
from rust_gauge.contract.suppression import (
    AddressStatus,
    Decision,
    EntriesMade,
    EntryCount,
    Evidence,
    Growth,
    GrowthDay,
    GrowthPart,
    Lift,
    Lifted,
    ListChange,
    ListChanges,
    NewEntries,
    RefusedAddress,
    SavedRates,
    SuppressionEntry,
)
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.names import Address, normalise_domain, parse_address
from rust_gauge.core.suppression import (
    Asking,
    Change,
    Entry,
    Reach,
    Reason,
    State,
    Status,
    Wish,
    ask,
    confirm,
    end,
    judge,
)
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.providers.lookup import ProviderLookup, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression import holding
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.store import flow as store_flow
from rust_gauge.store import holding as store_holding
from rust_gauge.store import providers
from rust_gauge.store import suppression as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import AnyRow
from rust_gauge.store.suppression import CAME, LEFT, Ask, Filter, Target, Where

_COUNTED = 100_000  # entries are counted no further
_PAGE = 2000
_POLL = 0.25  # seconds between looks while somebody waits for changes
_MOST_ASKED = 1000
_WOULD_BOUNCE = (Reason.BAD_ADDRESS, Reason.DOMAIN_GONE, Reason.KEEPS_BOUNCING)


def entry_id(where: Where) -> str:
    """How an entry is named outside: its place in the list."""
    key = base64.urlsafe_b64encode(where.key).decode().rstrip("=")
    return f"{key}.{where.reason.number}.{where.reach.number}.{where.reach_id}"


def read_entry_id(text: str) -> Where:
    """ServiceProblem `not-found` for what names no entry."""
    try:
        key, reason, reach, reach_id = text.split(".")
        octets = base64.urlsafe_b64decode(key + "==")
        if len(octets) != 16 or int(reason) < 1 or int(reach) < 1 or not 0 <= int(reach_id) < 2**32:
            raise ValueError
        return Where(octets, Reason.from_number(int(reason)), Reach.from_number(int(reach)), int(reach_id))
    except (ValueError, IndexError, binascii.Error):
        raise ServiceProblem("not-found", f"There is no entry {text[:60]}") from None


class Names:
    """Names of providers, domains and streams, as the tenant calls them."""

    def __init__(self, connection: Connection, tenant_id: int) -> None:
        self._connection = connection
        self._labels = providers.labels(connection, tenant_id)
        self._providers: dict[int, str] = {}
        domains, streams = store_holding.ids_of(connection, tenant_id)
        self.domains, self.streams = domains, streams
        self._reached = {(Reach.DOMAIN, id): name for name, id in domains.items()}
        self._reached |= {(Reach.STREAM, id): name for name, id in streams.items()}

    def reached(self, reach: Reach, id: int) -> str:
        return self._reached.get((reach, id), "")

    def provider(self, id: int) -> str:
        """Its registered domain; empty where it was never looked up."""
        if id and id not in self._providers:
            self._providers |= providers.names(self._connection, [id])
        return self._providers.get(id, "")

    def label(self, id: int) -> str:
        return self._labels.get(id) or self.provider(id)


def show(row: AnyRow, names: Names) -> SuppressionEntry:
    where = store.where_of(row)
    return SuppressionEntry(
        id=entry_id(where), address=row.address, address_key=where.key.hex(), reason=str(where.reason),
        reach=str(where.reach), reach_name=names.reached(where.reach, where.reach_id),
        state=str(State.from_number(row.state)), since=row.since, until=row.until, ended_at=row.ended_at,
        made_at=row.made_at, made_by=row.changed_by, origin=row.origin,
        change=str(Change.from_number(row.change)), changed_at=row.changed_at, note=row.note,
        provider=names.label(row.provider_id), stream=getattr(row, "stream", "") or "", times=row.times,
        returns=row.returns, evidence=[Evidence.model_validate(each) for each in orjson.loads(row.evidence)],
    )  # fmt: skip


# Reading


def filter_of(
    context: Context, tenant: TenantAccess, *, text: str = "", address: str = "", states: Sequence[str] = (),
    reasons: Sequence[str] = (), provider: str | None = None, stream: str | None = None, reach: str | None = None,
    origin: str = "", ends_within_days: float | None = None, came_back: bool = False,
) -> Filter:  # fmt: skip
    """What somebody wants to see. ServiceProblem for an address that is none, `not-found` for an unknown name."""

    def work(unit: UnitOfWork, lookup: ProviderLookup) -> Filter:
        connection = unit.connection
        made = Filter(
            text=text.strip(), states=tuple(State(each) for each in states),
            reasons=tuple(Reason(each) for each in reasons), reach=Reach(reach) if reach else None, origin=origin,
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
            made = replace(made, stream_id=ids.get(stream, -1))
        if provider:
            ids = {label: id for id, label in providers.labels(connection, tenant.id).items()}
            found = ids.get(provider) or providers.find(connection, provider.lower())
            made = replace(made, provider_ids=(found if found is not None else -1,))
        return made

    return with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: work(unit, lookup)))


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
    position = read_cursor(cursor, int)
    before = position[0] if position else None

    def work(connection: Connection) -> tuple[list[AnyRow], list[SuppressionEntry]]:
        rows = store.list_entries(connection, tenant.id, filter, before, limit + 1)
        names = Names(connection, tenant.id)
        return rows, [show(row, names) for row in rows[:limit]]

    rows, items = context.store.transaction(work)
    return Page(items=items, next=write_cursor(rows[limit - 1].number) if len(rows) > limit else None)


def count_entries(context: Context, tenant: TenantAccess, filter: Filter) -> EntryCount:
    n = context.store.transaction(lambda c: store.count_entries(c, tenant.id, filter, _COUNTED + 1))
    return EntryCount(count=min(n, _COUNTED), more=n > _COUNTED)


EXPORTED = (
    "address", "address_key", "reason", "reach", "reach_name", "state", "since", "until", "made_at", "made_by",
    "origin", "provider", "stream", "times", "returns", "note",
)  # fmt: skip


def export(context: Context, tenant: TenantAccess, filter: Filter, form: str) -> Iterator[bytes]:
    """The whole list as CSV or NDJSON, page by page in the order of its keys."""
    if form == "csv":
        yield csv_line(EXPORTED)
    after: Where | None = None
    while True:
        rows, items = context.store.transaction(partial(_export_page, tenant_id=tenant.id, filter=filter, after=after))
        if form == "csv":
            yield b"".join(csv_line([_cell(getattr(item, name)) for name in EXPORTED]) for item in items)
        else:
            yield b"".join(item.model_dump_json().encode() + b"\n" for item in items)
        if len(rows) < _PAGE:
            return
        after = store.where_of(rows[-1])


def _export_page(
    connection: Connection, tenant_id: int, filter: Filter, after: Where | None
) -> tuple[list[AnyRow], list[SuppressionEntry]]:
    rows = store.pages_by_key(connection, tenant_id, filter, after, _PAGE)
    names = Names(connection, tenant_id)
    return rows, [show(row, names) for row in rows]


def _cell(value: object) -> str:
    if isinstance(value, datetime):
        return value.astimezone(UTC).isoformat().replace("+00:00", "Z")
    return "" if value is None else str(value)


def csv_line(cells: Sequence[object]) -> bytes:
    """A line of CSV (RFC 4180) in which no cell can be taken for a formula."""
    out = io.StringIO()
    csv.writer(out).writerow([spreadsheet_cell(str(cell)) for cell in cells])
    return out.getvalue().encode()


def status_of(context: Context, tenant: TenantAccess, text: str) -> AddressStatus:
    """One address: what stands, and everything that ever happened."""

    def work(unit: UnitOfWork, lookup: ProviderLookup) -> AddressStatus:
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
        history = [_shown_change(row, names, row.address) for row in store.history_of(connection, tenant.id, keys)]
        return AddressStatus(
            address=shown, verdict="held" if verdict.held else "clear", why=verdict.why,
            entries=[show(row, names) for row in sorted(rows, key=lambda row: -row.number)], history=history,
        )  # fmt: skip

    return with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: work(unit, lookup)))


def _entry(row: AnyRow) -> Entry:
    status, where = store.status_of(row), store.where_of(row)
    return Entry(where.reason, status.since, status.until, status.state, where.reach, where.reach_id, row.note)


def _shown_change(row: AnyRow, names: Names, address: str) -> ListChange:
    where = store.where_of(row)
    return ListChange(
        number=row.number, address=address, address_key=where.key.hex(), reason=str(where.reason),
        reach=str(where.reach), reach_name=names.reached(where.reach, where.reach_id),
        state=str(State.from_number(row.state)), change=str(Change.from_number(row.change)), at=row.changed_at,
        by=row.changed_by, note=row.note, until=row.until,
    )  # fmt: skip


# Changes as they come


def changes(context: Context, tenant: TenantAccess, after: int, limit: int) -> ListChanges:
    """Changes with numbers above `after`."""

    def work(connection: Connection) -> ListChanges:
        rows = store.changes_after(connection, tenant.id, after, limit + 1)
        names = Names(connection, tenant.id)
        shown = rows[:limit]
        missing = {bytes(row.address_key) for row in shown if not row.address}
        addresses = store.addresses_of(connection, tenant.id, missing)
        items = [_shown_change(row, names, row.address or addresses.get(bytes(row.address_key), "")) for row in shown]
        return ListChanges(items=items, last=items[-1].number if items else after, more=len(rows) > limit)

    return context.store.transaction(work)


async def await_changes(context: Context, tenant: TenantAccess, after: int, limit: int, seconds: float) -> ListChanges:
    """The same; where there are none yet, wait for one so long. Holds no thread and no connection meanwhile."""
    loop = asyncio.get_running_loop()
    until = loop.time() + seconds
    while True:
        newest = await asyncio.to_thread(context.store.transaction, lambda c: store.last_number(c, tenant.id))
        if newest > after or loop.time() >= until:
            return await asyncio.to_thread(changes, context, tenant, after, limit)
        await asyncio.sleep(min(_POLL, max(0.01, until - loop.time())))


# Changing it


def reach_of(names: Names, reach: str, name: str) -> tuple[Reach, int]:
    if reach == "tenant":
        return Reach.TENANT, 0
    known = names.streams if reach == "stream" else names.domains
    wanted = name if reach == "stream" else name.lower().rstrip(".")
    if wanted not in known:
        raise ServiceProblem(
            "not-found", f"There is no {'stream' if reach == 'stream' else 'sending domain'} {name!r}",
            remedy="Known are " + (", ".join(sorted(filter(None, known))[:20]) or "none yet"),
        )  # fmt: skip
    return Reach(reach), known[wanted]


def add_entries(context: Context, tenant: TenantAccess, new: NewEntries, by: str, origin: str) -> EntriesMade:
    """Hold addresses by hand or by a program. What is no address is told, the others are held."""
    now = context.clock()
    if new.until is not None and new.until <= now:
        raise ServiceProblem("invalid-request", "until lies in the past", remedy="Leave it out for no end")
    if new.reason == "try_later":
        raise ServiceProblem("invalid-request", "reason: try_later only advises; it holds nothing")
    parsed: list[tuple[str, Address | None]] = []
    refused: list[RefusedAddress] = []
    for row, text in enumerate(new.addresses, 1):
        try:
            text = text.strip()
            parsed.append((f"@{normalise_domain(text[1:])}", None) if text[:1] == "@" else ("", parse_address(text)))
        except (AddressError, DomainNameError) as error:
            refused.append(RefusedAddress(row=row, text=text[:100], why=error.why or error.what))

    def work(unit: UnitOfWork, lookup: ProviderLookup) -> int:
        connection = unit.connection
        store.lock(connection, tenant.id)
        names = Names(connection, tenant.id)
        reach, reach_id = reach_of(names, new.reach, new.reach_name)
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
            where = Where(key, Reason(new.reason), reach, reach_id)
            decide = partial(ask, wish=wish, now=now)
            stream_id = reach_id if reach is Reach.STREAM else 0
            asks.append(Ask(where, target, decide, now, (), new.note, origin, stream_id))
        done = store.change(connection, tenant.id, asks, by, now)
        holding.tell(unit, done, by)
        return len(done)

    changed = with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: work(unit, lookup)))
    return EntriesMade(changed=changed, standing=len(parsed) - changed, refused=refused)


def lift(context: Context, tenant: TenantAccess, request: Lift, by: str, origin: str) -> Lifted:
    """Take entries off, all or none. One from a complaint needs a word more."""
    if bool(request.ids) == bool(request.address):
        raise ServiceProblem("invalid-request", "Name entries by ids, or one address", remedy="Send one of the two")

    def work(unit: UnitOfWork, lookup: ProviderLookup) -> list[SuppressionEntry]:
        connection, now = unit.connection, unit.now
        store.lock(connection, tenant.id)
        rows = _rows_to_change(unit, lookup, request)
        live = {where: row for where, row in rows.items() if row.state != State.ENDED.number}
        if not live:
            raise ServiceProblem("not-found", "Nothing stands there that could be lifted")
        complained = [where for where in live if where.reason is Reason.COMPLAINT]
        if complained and not request.despite_complaint:
            raise ServiceProblem(
                "needs-confirmation",
                f"{len(complained)} of these came from a complaint: the owner reported your mail as unwanted",
                remedy="Lift the others alone, or say despite_complaint if its owner asked for mail again",
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
        entries=with_lookups(context, lambda lookup: context.unit(tenant.id, lambda unit: work(unit, lookup)))
    )


def _lift(status: Status | None, now: datetime) -> Status | None:
    return None if status is None else end(status, Change.LIFTED, now, now)


def _rows_to_change(unit: UnitOfWork, lookup: ProviderLookup, request: Lift) -> dict[Where, AnyRow]:
    if request.ids:
        wanted = [read_entry_id(id) for id in request.ids]
        rows = store.rows_of(unit.connection, unit.tenant_id, {where.key for where in wanted})
        missing = [where for where in wanted if where not in rows]
        if missing:
            raise ServiceProblem("not-found", f"There is no entry {entry_id(missing[0])}")
        return {where: rows[where] for where in wanted}
    return store.rows_of(unit.connection, unit.tenant_id, keys_of(unit, lookup, request.address))


def decide(context: Context, tenant: TenantAccess, decision: Decision, by: str) -> list[SuppressionEntry]:
    """Agree to proposals, or dismiss them."""
    now = context.clock()

    def act(status: Status | None) -> Status | None:
        if status is None or status.state is not State.PROPOSED:
            return status
        return confirm(status) if decision.confirm else end(status, Change.DISMISSED, now, now)

    def work(unit: UnitOfWork) -> list[SuppressionEntry]:
        connection = unit.connection
        store.lock(connection, tenant.id)
        wanted = [read_entry_id(id) for id in decision.ids]
        rows = store.rows_of(connection, tenant.id, {where.key for where in wanted})
        known = [where for where in wanted if where in rows]
        if len(known) < len(wanted):
            raise ServiceProblem("not-found", "One of these is no entry of this list")
        asks = [Ask(where, Target(rows[where].address), act, now, (), decision.why, "hand") for where in known]
        done = store.change(connection, tenant.id, asks, by, now)
        holding.tell(unit, done, by)
        names = Names(connection, tenant.id)
        after = store.rows_of(connection, tenant.id, {where.key for where in known})
        return [show(after[where], names) for where in known]

    return context.unit(tenant.id, work)


def end_overdue(context: Context) -> None:
    """Write down that the time of entries is over. They hold no more from that moment, written or not."""
    now = context.clock()
    while True:
        rows = context.store.transaction(lambda c: store.overdue(c, now, 2000))
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
        Ask(where, Target(rows[where].address), over, rows[where].until or now, origin="look")
        for where in wheres
        if where in rows and rows[where].until is not None and rows[where].until <= now.replace(tzinfo=None)
    ]
    done = store.change(connection, tenant_id, asks, "time", now)
    holding.tell(unit, done)


# Numbers for people


def growth(context: Context, tenant: TenantAccess, first: date | None, last: date | None) -> Growth:
    """How the list grew; the last ninety days if no dates are given."""
    last = last or context.clock().date()
    first = first or last - timedelta(days=89)
    if first > last or (last - first).days > 1100:
        raise ServiceProblem("invalid-request", "first: a period of at most three years is wanted")
    dates = [first + timedelta(days=n) for n in range((last - first).days + 1)]

    def work(connection: Connection) -> Growth:
        names = Names(connection, tenant.id)
        rows = store.days(connection, tenant.id, first, last)
        before = store.standing_before(connection, tenant.id, first)
        flow = store_flow.sums(connection, tenant.id, first, last)
        parts: dict[str, dict[str, list[GrowthPart]]] = {}

        def line(what: str, key: str, label: str) -> list[GrowthPart]:
            group = parts.setdefault(what, {})
            return group.setdefault(
                key, [GrowthPart(name=key, label=label, came=0, left=0, standing=0, withheld=0, days=[0] * len(dates))]
            )

        def places(row: AnyRow) -> list[GrowthPart]:
            reason = str(Reason.from_number(row.reason)) if row.reason else "elsewhere"
            provider = names.provider(row.provider_id)
            return [
                line("all", "all", "all")[0], line("reasons", reason, reason)[0],
                line("providers", provider, names.label(row.provider_id) or "not looked up")[0],
                line("streams", row.stream or "", row.stream or "no stream")[0],
            ]  # fmt: skip

        line("all", "all", "all")
        withheld_bad = 0
        withheld_days = [0] * len(dates)
        came_days, left_days = [0] * len(dates), [0] * len(dates)
        for row in before:
            for part in places(row):
                part.standing += int(row.n) * (1 if row.what == CAME else -1)
        begins = {id(part): part.standing for group in parts.values() for each in group.values() for part in each}
        for row in rows:
            index, n = (row.day - first).days, int(row.n)
            for part in places(row):
                if row.what == CAME:
                    part.came += n
                    part.days[index] += n
                elif row.what == LEFT:
                    part.left += n
                    part.days[index] -= n
                else:
                    part.withheld += n
            if row.what == CAME:
                came_days[index] += n
            elif row.what == LEFT:
                left_days[index] += n
            else:
                withheld_days[index] += n
                withheld_bad += n * (row.reason != 0 and Reason.from_number(row.reason) in _WOULD_BOUNCE)
        for group in parts.values():
            for (part,) in group.values():
                total = begins.get(id(part), 0)
                for index, change in enumerate(part.days):
                    total += change
                    part.days[index] = max(0, total)
                part.standing = max(0, total)
        everything = parts["all"]["all"][0]
        days = [
            GrowthDay(day=day.isoformat(), came=came_days[n], left=left_days[n], standing=everything.days[n],
                      withheld=withheld_days[n])
            for n, day in enumerate(dates)
        ]  # fmt: skip
        shown = {
            what: sorted(
                (part for (part,) in parts.get(what, {}).values()), key=lambda p: (-p.standing - p.came, p.name)
            )
            for what in ("reasons", "providers", "streams")
        }
        sent = flow.get(Count.DELIVERED.number, 0) + flow.get(Count.BOUNCED.number, 0)
        sent -= flow.get(Count.RETURNED.number, 0)
        bounced = flow.get(Count.BOUNCED.number, 0)
        withheld = flow.get(Count.WITHHELD.number, 0)
        saved = SavedRates(
            sent=sent, bounced=bounced, complained=flow.get(Count.COMPLAINED.number, 0), withheld=withheld,
            withheld_bad=withheld_bad, bounce_rate=bounced / sent if sent else None,
            bounce_rate_without=(bounced + withheld_bad) / (sent + withheld) if sent + withheld else None,
        )  # fmt: skip
        return Growth(first=str(first), last=str(last), days=days, saved=saved, **shown)

    return context.store.transaction(work)
