"""Taking events in: each row is stored, was there already, or is refused with its reason.

Everything that one load causes (events, counters, suppression entries, the request for new readings) is written in
one transaction, so it is all there or not at all. Rows are read, checked and sent in pieces, so that MariaDB works on
one piece while the next is read.
"""

import contextlib
import json
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from hashlib import blake2b
from typing import Annotated, Any, TypeVar

import msgspec
from pydantic import ValidationError
from sqlalchemy import Connection

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.events import IntakeResult, NewEvent
from rust_gauge.core.errors import EventError
from rust_gauge.core.mailflow import Event, Kind, make_event
from rust_gauge.core.mailflow.counting import time_bucket
from rust_gauge.core.mailflow.event import CLOCK_TOLERANCE, EARLIEST, REFUSALS, Path, identity_of
from rust_gauge.core.mailflow.event import judge as judge_event
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.replies.wording import reply_wording
from rust_gauge.service.mailflow.retention import kept_since
from rust_gauge.service.mailflow.rules import rules_of
from rust_gauge.service.providers.lookup import providers_for
from rust_gauge.service.runtime import turns
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.suppression import holding
from rust_gauge.store import events as store_events
from rust_gauge.store import jobs
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import NO_CAUSE, NO_NUMBERS, Load, Names, PathRow, StaleRulesError, labels_of
from rust_gauge.store.trouble import Troubled

_SHOWN = 200  # refusals in an answer
_SUBJECTS_AFTER = timedelta(minutes=5)  # streams, relays and addresses are computed together
_SHIFTS_AFTER = timedelta(seconds=20)  # so that many small loads are looked at once
_RULE_CHANGES = 5  # how often a load is judged anew
_PIECE = 1000  # rows that are read before they are sent


@dataclass(frozen=True, slots=True)
class Rows:
    """Rows that were handed in: each as JSON text or as a value, and the line where it stood (from 1)."""

    items: Sequence[Any]
    lines: Sequence[int]
    are_text: bool

    def __len__(self) -> int:
        return len(self.items)


def rows_of(values: Sequence[Any]) -> Rows:
    """Rows of values that are no text any more."""
    return Rows(values, range(1, len(values) + 1), are_text=False)


def split_body(body: bytes, content_type: str, max_rows: int) -> Rows:
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
        rows = rows_of(value if isinstance(value, list) else [value])
    else:
        rows = split_lines(body)
    if len(rows) > max_rows:
        raise ServiceProblem("too-large", f"{len(rows)} rows in one request; {max_rows} are allowed")
    return rows


def split_lines(body: bytes) -> Rows:
    """The lines of NDJSON that are not empty."""
    texts = body.removesuffix(b"\n").split(b"\n")
    if any(not text or text.isspace() for text in texts):
        numbered = [(line, text) for line, text in enumerate(texts, 1) if text and not text.isspace()]
        return Rows([text for _, text in numbered], [line for line, _ in numbered], are_text=True)
    return Rows(texts, range(1, len(texts) + 1), are_text=True)


# Reading rows

_TIME = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}[Tt ](?:[01][0-9]|2[0-3]):[0-5][0-9]\Z")
_PLAIN = re.compile(r"[A-Za-z0-9_+-]+(?:\.[A-Za-z0-9_+-]+)*\Z")
_UNUSUAL = re.compile(r"[\x00-\x1f\x7f\\]")
_ENHANCED = re.compile(r"[245]\.\d{1,3}\.\d{1,3}\Z")
_SECONDS = {f":{n:02}": f":{n:02}" for n in range(60)}
_UTC = {"Z": "", "+00:00": ""}
# What needs no look at its reply and counts each time.
_QUICK: dict[Any, int] = {
    str(kind): kind.number for kind in (Kind.ACCEPTED, Kind.DELIVERED, Kind.OPENED, Kind.CLICKED, Kind.WITHHELD)
}
_DELIVERED = Kind.DELIVERED.number
_Text = Annotated[str, msgspec.Meta(max_length=255)]


class UsualRow(msgspec.Struct, forbid_unknown_fields=True):
    """A row as rows mostly are. What does not fit is for the contract's `NewEvent`, which knows every case.

    It is read in a fifth of the time that a dictionary and its checks take.
    """

    kind: str
    time: str
    domain: str
    recipient: str
    id: _Text = ""
    stream: str = ""
    relay: str = ""
    message_id: _Text = ""
    reply_code: Annotated[int, msgspec.Meta(ge=200, le=599)] | None = None
    enhanced_code: str | None = None
    diagnostic: Annotated[str, msgspec.Meta(max_length=4000)] = ""
    remote_host: _Text = ""
    sending_ip: str = ""
    campaign: str = ""
    attempt: Annotated[int, msgspec.Meta(ge=0, le=10_000)] | None = None
    seconds_taken: Annotated[float, msgspec.Meta(ge=0, le=10_000_000)] | None = None


_read_usual = msgspec.json.Decoder(UsualRow).decode
Refusal = tuple[Any, list[ProblemError]]
_KNOWN_FOR = timedelta(minutes=10)  # how long a process remembers names and who runs a recipient domain


class Reader:
    """Reads rows into a load.

    A row that is as rows mostly are, and differs from one that was read before only in time, recipient and message,
    takes the short way; it gives the very same row (a test holds the two beside each other). All others are read by
    the contract's model, which also says what is wrong with them.
    """

    def __init__(self, load: Load, book: "NameBook", now: datetime) -> None:
        self.refused: list[Refusal] = []
        self._load = load
        self._book = book
        self._now = now
        self._paths: dict[tuple[Any, ...], PathRow] = {}
        self._domains = book.short_domains
        self._earliest = max(EARLIEST, book.kept_since)
        self._days: set[str] = set()  # dates that there are
        self._first_minute = f"{self._earliest:%Y-%m-%d %H:%M}"
        self._last_minute = f"{now + CLOCK_TOLERANCE - timedelta(minutes=1):%Y-%m-%d %H:%M}"
        self._minutes: dict[str, str] = {}
        for path, known in book.short_paths.items():
            self._paths[path] = load.path(known)

    def read(self, rows: Rows, start: int, end: int) -> bytes:
        """A piece of the rows as a packet; those that are refused are added to `refused`."""
        first = start
        if not self._paths:
            first = min(end, start + 1)
            self._long_way(rows, range(start, first))
        self._long_way(rows, self._short_way(rows, first, end))
        return self._load.packet()

    def _long_way(self, rows: Rows, numbers: Iterable[int]) -> None:
        events, paths = [], []
        for number in numbers:
            item = rows.items[number]
            event, path, errors = read_row(item, rows.are_text, rows.lines[number], self._now, judged=False)
            if event is None:
                self.refused.append((item, errors))
            elif event.occurred_at < self._earliest:
                self.refused.append((item, [_too_old(rows.lines[number], event.occurred_at, self._earliest)]))
            else:
                events.append(event)
                paths.append(path)
        for event, path in zip(self._book.learn(events), paths, strict=True):
            self._load.add(event)
            if path is not None and path not in self._paths:
                self._paths[path] = self._load.path(event.path)
                self._book.remember_path(path, event.path)
            domain = event.recipient.domain
            if domain not in self._domains:
                self._domains[domain] = (domain, self._book.names.providers[domain][0])

    def _short_way(self, rows: Rows, start: int, end: int) -> list[int]:
        """Reads what can be read this way; gives the numbers of the other rows.

        One loop, since it is what a load's speed hangs on.
        """
        rest: list[int] = []
        load, paths, domains, minutes = self._load, self._paths, self._domains, self._minutes
        times, delivered, add_line = load.times, load.delivered, load.add_line
        delivered_domains = load.delivered_domains
        read: Any = _read_usual if rows.are_text else _usual_of
        for number in range(start, end):
            try:
                row = read(rows.items[number])
                kind = _QUICK[row.kind]
                path = paths[row.domain, row.stream, row.relay, row.sending_ip, row.campaign]
                text = row.time
                minute = minutes.get(text[:16]) or self._minute(text[:16])
                time = minute + _SECONDS[text[16:19]] + _UTC[text[19:]]
                local, _, domain = row.recipient.partition("@")
                domain, provider_id = domains[domain]
                message_id, source_id, host, diagnostic = row.message_id, row.id, row.remote_host, row.diagnostic
                enhanced, attempt, seconds = row.enhanced_code, row.attempt, row.seconds_taken
                if (
                    len(local) > 64
                    or not _PLAIN.match(local)
                    or _UNUSUAL.search(f"{message_id}{source_id}{host}{diagnostic}")
                    or (enhanced is not None and not _ENHANCED.match(enhanced))
                ):
                    raise KeyError
            except (KeyError, msgspec.MsgspecError, ValueError, RecursionError):
                rest.append(number)
                continue
            numbers = NO_NUMBERS
            if row.reply_code is not None or enhanced is not None or attempt is not None or seconds is not None:
                parts = (row.reply_code, enhanced, attempt, seconds)
                numbers = "\x1f".join(["\\N" if part is None else str(part) for part in parts])
            address = f"{local}@{domain}"
            key = blake2b(address.lower().encode(), digest_size=16).digest()
            identity = identity_of(kind, time, key, source_id, message_id, attempt, path.where)
            add_line(
                identity + key,
                f"{time}\x1f{kind}\x1f{path.before}\x1f{provider_id}\x1f{address}\x1f{message_id}\x1f{host}\x1f"
                f"{path.behind}\x1f{numbers}\x1f{NO_CAUSE}\x1f{diagnostic}",
            )
            times.append(time)
            if kind == _DELIVERED:
                delivered.append(key)
                if delivered_domains.get(domain, "") < time:
                    delivered_domains[domain] = time
                if seconds is not None:
                    bucket = (time[:10], provider_id, time_bucket(seconds))
                    path.times[bucket] = path.times.get(bucket, 0) + 1
            count = (time[:13], provider_id, kind)
            path.counts[count] = path.counts.get(count, 0) + 1
        return rest

    def _minute(self, text: str) -> str:
        """A minute as the store writes it. ValueError or KeyError for one that has to be looked at closely."""
        if not _TIME.match(text):
            raise KeyError(text)
        day = text[:10]
        if day not in self._days:
            date.fromisoformat(day)
            self._days.add(day)
        minute = f"{day} {text[11:]}"
        if not self._first_minute <= minute <= self._last_minute:
            raise KeyError(text)
        self._minutes[text] = minute
        return minute


def _too_old(line: int, time: datetime, earliest: datetime) -> ProblemError:
    what = f"time {time:%Y-%m-%d} lies before what is kept (since {earliest:%Y-%m-%d})"
    remedy = "What was dropped would count twice when it is told again; keep events longer to load older ones"
    return ProblemError(line=line, field="time", what=what, remedy=remedy)


def _usual_of(value: Any) -> UsualRow:
    return msgspec.convert(value, UsualRow)


def read_row(
    item: Any, is_text: bool, line: int, now: datetime, *, judged: bool = True
) -> tuple[Event | None, tuple[Any, ...] | None, list[ProblemError]]:
    """A row as an event, and what rows sent the same way have in common; or what is wrong with it."""
    try:
        new = NewEvent.model_validate_json(item) if is_text else NewEvent.model_validate(item)
        event = to_event(new, now, judged=judged)
    except ValidationError as error:
        return None, None, [_problem(line, details) for details in error.errors(include_url=False)[:5]]
    except EventError as error:
        what = f"{error.what} ({error.why})" if error.why else error.what
        return None, None, [ProblemError(line=line, field=error.field, what=what, remedy=error.remedy)]
    path = None if new.tags else (new.domain, new.stream, new.relay, new.sending_ip, new.campaign)
    return event, path, []


def to_event(new: NewEvent, now: datetime, *, judged: bool = True) -> Event:
    """The contract's event as the core's, by the shipped rules if it is judged. EventError when a value is wrong."""
    values = new.model_dump(exclude={"kind", "cause", "permanence"})
    return make_event(
        now=now,
        judged=judged,
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


# Storing

T = TypeVar("T")
Keep = Callable[[Connection, list[Refusal]], None]


def take_in(
    context: Context, tenant: TenantAccess, rows: Rows, feed_id: int = 0, keep: Keep | None = None
) -> IntakeResult:
    """Store a load. ServiceProblem `nothing-stored` when there were rows and every one was refused.

    `keep` keeps refused rows, in the same transaction; then a load of refused rows alone is taken as well.
    """
    return _with_rules_of_today(context, tenant.id, lambda book: _take_in(context, tenant, rows, feed_id, keep, book))


def _with_rules_of_today(context: Context, tenant_id: int, work: Callable[["NameBook"], T]) -> T:
    """`work` with what is known of the tenant; again when somebody changed the rules while it judged by older ones."""
    for _ in range(_RULE_CHANGES):
        with contextlib.suppress(StaleRulesError):
            return work(name_book(context, tenant_id))
        context.memory.pop(("names", tenant_id), None)
    raise ServiceProblem(
        "busy", "The rules of causes keep changing", remedy="Nothing was stored. Try again in a moment"
    )


def _take_in(
    context: Context, tenant: TenantAccess, rows: Rows, feed_id: int, keep: Keep | None, book: "NameBook"
) -> IntakeResult:
    arrived = context.clock()
    load = Load(tenant.id, feed_id, book.names, book.rules.version)
    reader = Reader(load, book, arrived)
    refused = reader.refused
    made = (reader.read(rows, start, min(len(rows), start + _PIECE)) for start in range(0, len(rows), _PIECE))

    def check(connection: Connection) -> None:
        if keep is not None:
            keep(connection, refused)
        elif not load.sent:
            raise ServiceProblem(
                "nothing-stored",
                f"{len(refused)} of {len(rows)} rows were refused",
                errors=shown(),
                errors_total=len(refused),
            )

    def shown() -> list[ProblemError]:
        return [error for _, errors in refused[:_SHOWN] for error in errors][:_SHOWN]

    stored = _store(context, load, made, arrived, lambda: len(refused), check) if rows else 0
    return IntakeResult(
        received=len(rows),
        stored=stored,
        repeated=len(rows) - len(refused) - stored,
        refused=len(refused),
        refusals=shown(),
    )


def store_all(
    context: Context, tenant_id: int, events: Sequence[Event], arrived: datetime, feed_id: int = 0,
    origin: str = "event",
) -> int:  # fmt: skip
    """Store events with all that follows from them; gives how many were new. Those that are not judged yet are.

    `origin`: what entries of the suppression list are said to come from.
    """

    def work(book: NameBook) -> int:
        load = Load(tenant_id, feed_id, book.names, book.rules.version)

        def made() -> Iterator[bytes]:
            for start in range(0, len(events), _PIECE):
                for event in book.learn(events[start : start + _PIECE]):
                    load.add(event)
                yield load.packet()

        return _store(context, load, made(), arrived, lambda: 0, lambda _: None, origin)

    return _with_rules_of_today(context, tenant_id, work)


def _store(
    context: Context,
    load: Load,
    made: Iterator[bytes],
    arrived: datetime,
    refused: Callable[[], int],
    check: Callable[[Connection], None],
    origin: str = "event",
) -> int:
    now = context.clock()

    def work(connection: Connection) -> int:
        stored, told = load.store(connection, turns.by_turns(made), arrived, now, refused)
        check(connection)
        providers_of = load.names.providers
        heard = [(event, providers_of[event.recipient.domain]) for event in told]
        domains = load.delivered_domains if stored else {}
        troubled = load.troubled if stored else set()
        holding.follow(context, connection, load.tenant_id, heard, troubled, domains, origin, now, origin)
        if stored:
            for domain_id in load.domain_ids():
                jobs.enqueue(connection, "readings", load.tenant_id, domain_id, now)
            jobs.enqueue(connection, "subjects", load.tenant_id, 0, now, at=now + _SUBJECTS_AFTER)
            jobs.enqueue(connection, "shifts", load.tenant_id, 0, now, at=now + _SHIFTS_AFTER)
        return stored

    return context.store.transaction(work)


def name_book(context: Context, tenant_id: int) -> "NameBook":
    """What this process knows of a tenant's names; begun anew from time to time, and when it has grown large."""
    now = context.clock()
    book: NameBook | None = context.memory.get(("names", tenant_id))
    if book is None or not timedelta(0) <= now - book.begun < _KNOWN_FOR or len(book.short_domains) > 200_000:
        book = context.memory[("names", tenant_id)] = NameBook(context, tenant_id)
    return book


class NameBook:
    """Ids of all names that loads use, found as they come.

    In transactions of their own: a name without events does no harm. Ids never change, so requests share a book.
    """

    def __init__(self, context: Context, tenant_id: int) -> None:
        self.begun = context.clock()
        self.names = Names(troubled=context.memory.setdefault(("troubled", tenant_id), Troubled()))
        self.rules = rules_of(context, tenant_id)
        self.kept_since = kept_since(context, tenant_id)
        self.short_paths: dict[tuple[Any, ...], Path] = {}
        self.short_domains: dict[str, tuple[str, int]] = {}
        self._context = context
        self._tenant_id = tenant_id
        self._paths: set[Path] = set()
        self._wordings: dict[str, int] = {}

    def remember_path(self, key: tuple[Any, ...], path: Path) -> None:
        """Rows that are sent this way can take the short way in later loads, too."""
        if len(self.short_paths) < 2000:
            self.short_paths[key] = path

    def learn(self, events: Sequence[Event]) -> Sequence[Event]:
        """Have an id for every name of these events, and a cause for every refusal; gives them with their causes."""
        names = self.names
        paths = {event.path for event in events} - self._paths
        wordings: dict[bytes, str] = {}
        examples: dict[str, Event] = {}
        for event in events:
            if event.kind in REFUSALS:
                wording = reply_wording(event.diagnostic, event.reply_code, event.enhanced_code)
                if wording:
                    wordings[event.identity] = wording
                    examples[wording] = event
        new_wordings = {text: event for text, event in examples.items() if text not in self._wordings}
        if paths or new_wordings:
            self._context.store.transaction(lambda c: self._intern(c, paths, new_wordings))
            self._paths |= paths
        if len(names.wordings) > 100_000:
            names.wordings.clear()  # only those of loads under way are needed
        for identity, text in wordings.items():
            names.wordings[identity] = self._wordings[text]
        domains = {event.recipient.domain for event in events} - names.providers.keys()
        if domains:
            names.providers.update(providers_for(self._context, domains))
        return [self._judged(event) for event in events] if wordings else events

    def _judged(self, event: Event) -> Event:
        if event.kind not in REFUSALS or event.cause_rule:
            return event
        provider = self.names.providers[event.recipient.domain][1]
        return judge_event(
            event,
            self.rules.classifier.classify(event.diagnostic, event.reply_code, event.enhanced_code, provider),
        )

    def _intern(self, connection: Connection, paths: set[Path], wordings: dict[str, Event]) -> None:
        names, tenant_id, now = self.names, self._tenant_id, self._context.clock()
        domains = {path.domain for path in paths} - names.domains.keys()
        made = {"origin": "seen", "selectors": [], "created_at": now}
        names.domains.update(store_events.intern(connection, t.sending_domain, tenant_id, domains, **made))
        streams = {path.stream for path in paths} - names.streams.keys()
        names.streams.update(store_events.intern(connection, t.stream, tenant_id, streams))
        relays = {path.relay for path in paths} - names.relays.keys()
        names.relays.update(store_events.intern(connection, t.relay, tenant_id, relays))
        labels = {label for path in paths for label in labels_of(path)} - names.labels.keys()
        names.labels.update(store_events.intern_labels(connection, tenant_id, labels))
        examples = {text: event.diagnostic or text for text, event in wordings.items()}
        self._wordings.update(store_events.intern_wordings(connection, tenant_id, examples, now))
