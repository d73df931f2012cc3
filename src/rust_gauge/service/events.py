"""Taking events in: each row is stored, was there already, or is refused with its reason; then the trail back out.

Everything that one load causes (events, counters, suppression entries, the request for new readings) is written in
one transaction, so it is all there or not at all.
"""

import base64
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from pydantic import ValidationError
from sqlalchemy import Connection

from rust_gauge.contract.common import Page, ProblemError
from rust_gauge.contract.events import Event as EventOut
from rust_gauge.contract.events import IntakeResult, NewEvent
from rust_gauge.core.dns import gather
from rust_gauge.core.errors import AddressError, EventError
from rust_gauge.core.mailflow import NO_MAIL, UNRESOLVED, Event, Kind, Tally, find_provider, make_event
from rust_gauge.core.names import parse_address
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.suppression import reason_to_suppress
from rust_gauge.service import proofs
from rust_gauge.service.context import Context
from rust_gauge.service.cursors import read_cursor, write_cursor
from rust_gauge.service.domains import find_domain
from rust_gauge.service.problems import ServiceProblem
from rust_gauge.store import events as store_events
from rust_gauge.store import jobs, providers, suppression
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.events import EventQuery, Names
from rust_gauge.store.suppression import NewEntry

_SHOWN = 200  # refusals in an answer
_LOOKUPS = 256  # recipient domains asked for side by side
_KEEP = {UNRESOLVED: timedelta(minutes=5), NO_MAIL: timedelta(hours=1)}
_KEEP_FOUND = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Row:
    """A row that was handed in: its line (from 1), and its JSON text or value."""

    line: int
    text: bytes | None = None
    value: object = None


def split_body(body: bytes, content_type: str, max_rows: int) -> list[Row]:
    """The rows of a request's body. ServiceProblem when the body as a whole cannot be used."""
    kind = content_type.partition(";")[0].strip().lower()
    if kind not in ("application/x-ndjson", "application/ndjson", "application/json"):
        raise ServiceProblem("unsupported-type", f"Events cannot be read from {kind or 'an unnamed type'}")
    try:
        body.decode("utf-8")
    except UnicodeDecodeError as error:
        line = body.count(b"\n", 0, error.start) + 1
        raise ServiceProblem(
            "not-utf-8", f"Octet {error.start + 1}, in line {line}, is not UTF-8", remedy="Nothing was stored"
        ) from None
    body = body.removeprefix(b"\xef\xbb\xbf")
    if kind == "application/json":
        try:
            value = json.loads(body)
        except (ValueError, RecursionError) as error:
            raise ServiceProblem("not-json", str(error)) from None
        values = value if isinstance(value, list) else [value]
        rows = [Row(index, value=item) for index, item in enumerate(values, 1)]
    else:
        rows = [Row(index, text=line) for index, line in enumerate(body.split(b"\n"), 1) if line.strip()]
    if len(rows) > max_rows:
        raise ServiceProblem("too-large", f"{len(rows)} rows in one request; {max_rows} are allowed")
    return rows


def take_in(context: Context, tenant: TenantAccess, rows: Sequence[Row]) -> IntakeResult:
    """Store a load. ServiceProblem `nothing-stored` when there were rows and every one was refused."""
    arrived = context.clock()
    events: list[Event] = []
    refusals: list[ProblemError] = []
    refused = 0
    for row in rows:
        event, errors = _read(row, arrived)
        if event is not None:
            events.append(event)
            continue
        refused += 1
        if len(refusals) < _SHOWN:
            refusals += errors
    if rows and not events:
        raise ServiceProblem(
            "nothing-stored",
            f"{refused} of {len(rows)} rows were refused",
            errors=refusals[:_SHOWN],
            errors_total=refused,
        )
    stored = store_all(context, tenant.id, events, arrived) if events else 0
    return IntakeResult(
        received=len(rows),
        stored=stored,
        repeated=len(events) - stored,
        refused=refused,
        refusals=refusals[:_SHOWN],
    )


def _read(row: Row, now: datetime) -> tuple[Event | None, list[ProblemError]]:
    """A row as an event, or what is wrong with it."""
    try:
        new = NewEvent.model_validate_json(row.text) if row.text is not None else NewEvent.model_validate(row.value)
        return to_event(new, now), []
    except ValidationError as error:
        return None, [_problem(row.line, details) for details in error.errors(include_url=False)[:5]]
    except EventError as error:
        what = f"{error.what} ({error.why})" if error.why else error.what
        return None, [ProblemError(line=row.line, field=error.field, what=what, remedy=error.remedy)]


def to_event(new: NewEvent, now: datetime) -> Event:
    """The contract's event as the core's. EventError when a value cannot be right."""
    values = new.model_dump(exclude={"kind", "cause", "permanence"})
    return make_event(
        now=now,
        kind=Kind(new.kind),
        cause=Cause(new.cause) if new.cause else None,
        permanence=Permanence(new.permanence) if new.permanence and new.permanence != "none" else None,
        **values,
    )


def _problem(line: int, details: Any) -> ProblemError:
    """One of Pydantic's findings in our words."""
    field = ".".join(str(part) for part in details["loc"])
    kind, given = details["type"], str(details.get("input"))[:60]
    if kind == "json_invalid":
        return ProblemError(line=line, what="This line is no JSON", remedy=str(details["msg"]))
    if kind in ("model_type", "model_attributes_type"):
        return ProblemError(line=line, what="This is no JSON object", remedy="An event is an object with named fields")
    if kind == "missing":
        return ProblemError(line=line, field=field, what=f"{field} is missing")
    if kind == "extra_forbidden":
        return ProblemError(line=line, field=field, what=f"{field[:60]} is no field of an event")
    if kind == "literal_error":
        allowed = str(details["ctx"]["expected"]).replace("'", "")
        return ProblemError(line=line, field=field, what=f"{given!r} is no {field}", remedy=f"It is {allowed}")
    if kind == "timezone_aware":
        remedy = "Write it as 2026-11-20T08:00:00Z"
        return ProblemError(line=line, field=field, what="time has no zone", remedy=remedy)
    return ProblemError(line=line, field=field, what=f"{given!r} cannot be {field}: {details['msg']}")


def store_all(context: Context, tenant_id: int, events: Sequence[Event], arrived: datetime) -> int:
    """Store events with all that follows from them; gives how many were new."""
    names = names_for(context, tenant_id, events)
    provider_ids = {provider: id for id, provider in names.providers.values()}
    now = context.clock()

    def work(connection: Connection) -> int:
        fresh = store_events.add_events(connection, tenant_id, events, names, arrived, now)
        tally = Tally()
        entries: list[NewEntry] = []
        for event in fresh:
            tally.add(event, names.providers[event.recipient.domain][1])
            reason = reason_to_suppress(event)
            if reason is not None:
                entries.append(NewEntry(event.recipient, reason, event.occurred_at, _evidence(event)))
        store_events.add_counts(connection, tenant_id, tally, names, provider_ids)
        suppression.add_entries(connection, tenant_id, entries, "event", now)
        for domain_id in sorted({names.domains[event.domain] for event in fresh}):
            jobs.enqueue(connection, "readings", tenant_id, domain_id, now)
        return len(fresh)

    return context.store.transaction(work)


def names_for(context: Context, tenant_id: int, events: Sequence[Event]) -> Names:
    """Ids of all names in a load. In a transaction of its own: a name without events does no harm."""
    now = context.clock()
    found = providers_for(context, {event.recipient.domain for event in events})

    def work(connection: Connection) -> Names:
        return Names(
            store_events.intern(
                connection,
                t.sending_domain,
                tenant_id,
                {event.domain for event in events},
                origin="seen",
                selectors=[],
                created_at=now,
            ),
            store_events.intern(connection, t.stream, tenant_id, {event.stream for event in events}),
            store_events.intern(connection, t.relay, tenant_id, {event.relay for event in events}),
            found,
        )

    return context.store.transaction(work)


def providers_for(context: Context, domains: Iterable[str]) -> dict[str, tuple[int, str]]:
    """(provider id, provider) of each recipient domain: from the cache, else from DNS."""
    now = context.clock()
    wanted = sorted(set(domains))
    known = context.store.transaction(lambda c: providers.known_domains(c, wanted, now))
    missing = [domain for domain in wanted if domain not in known]
    for start in range(0, len(missing), _LOOKUPS):
        part = missing[start : start + _LOOKUPS]
        found = dict(zip(part, context.resolver.run(gather(map(find_provider, part))), strict=True))
        # A resolver that is down must not hold up a load for the time-outs of all the rest.
        dead = len(part) > 8 and all(provider == UNRESOLVED for provider in found.values())
        if dead:
            found.update(dict.fromkeys(missing[start + _LOOKUPS :], UNRESOLVED))
        expires = {domain: now + _KEEP.get(provider, _KEEP_FOUND) for domain, provider in found.items()}
        known.update(_remember(context, found, now, expires))
        if dead:
            break
    return known


def _remember(
    context: Context, found: dict[str, str], now: datetime, expires: dict[str, datetime]
) -> dict[str, tuple[int, str]]:
    return context.store.transaction(lambda c: providers.remember_domains(c, found, now, expires))


def _evidence(event: Event) -> dict[str, Any]:
    return {
        "kind": str(event.kind),
        "time": event.occurred_at.isoformat(),
        "cause": str(event.cause),
        "domain": event.domain,
        "stream": event.stream,
        "message_id": event.message_id,
        "diagnostic": event.diagnostic[:500],
    }


def list_events(
    context: Context,
    tenant: TenantAccess,
    *,
    recipient: str | None,
    message_id: str | None,
    domain: str | None,
    kinds: Sequence[str],
    since: datetime | None,
    until: datetime | None,
    cursor: str | None,
    limit: int,
) -> Page[EventOut]:
    """Events, newest first."""
    position = read_cursor(cursor, str, str)
    try:
        address = parse_address(recipient) if recipient else None
    except AddressError as error:
        raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None
    try:
        before = (datetime.fromisoformat(position[0]), base64.b64decode(position[1])) if position else None
    except ValueError:
        raise ServiceProblem("bad-cursor", "This cursor was not made by this list") from None
    query = EventQuery(
        tenant.id,
        recipient=address,
        message_id=message_id,
        domain_id=find_domain(context, tenant, domain).id if domain else None,
        kinds=tuple(Kind(kind).number for kind in kinds),
        since=since,
        until=until,
        before=before,
        limit=limit + 1,
    )
    rows, lacks = context.store.transaction(
        lambda c: (list(store_events.find_events(c, query)), proofs.lacks_of(c, tenant.id))
    )
    items = [_show(row, lacks) for row in rows[:limit]]
    last = rows[limit - 1] if len(rows) > limit else None
    after = write_cursor(last.occurred_at.isoformat(), base64.b64encode(last.identity).decode()) if last else None
    return Page(items=items, next=after)


_SAME = (
    "recipient",
    "message_id",
    "reply_code",
    "enhanced_code",
    "diagnostic",
    "cause_rule",
    "remote_host",
    "sending_ip",
    "campaign",
    "attempt",
    "seconds_taken",
    "arrived_at",
    "domain",
    "stream",
    "relay",
    "provider",
)


def _show(row: Any, lacks: Mapping[tuple[str, str], str]) -> EventOut:
    return EventOut(
        sender_lacks=lacks.get((row.domain, row.stream), "") or lacks.get((row.domain, ""), ""),
        kind=str(Kind.from_number(row.kind)),
        time=row.occurred_at,
        cause=str(Cause.from_number(row.cause)),
        permanence=str(Permanence.from_number(row.permanence)),
        **{name: getattr(row, name) for name in _SAME},
    )
