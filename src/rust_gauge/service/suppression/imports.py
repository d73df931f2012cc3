"""Importing a list: read piece by piece, written piece by piece, each with how far it is in one transaction.

So it can be stopped or killed at any point and goes on exactly there. Rows go in by LOAD DATA, which leaves out what
stands already; those few are then decided one by one. While MariaDB writes one piece the next is read.
"""

import queue
import threading
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import Connection

from rust_gauge.contract.jobs import ImportRequest
from rust_gauge.contract.jobs import Job as ShownJob
from rust_gauge.core.errors import AddressError
from rust_gauge.core.suppression import Change, Matching, Reason, Scope, State, Status, Wish, ask
from rust_gauge.core.suppression.files import SAMPLE as SAMPLE_OCTETS
from rust_gauge.core.suppression.files import FileError, Layout, Row, find_layout, read_rows, read_time
from rust_gauge.service.jobs import jobs
from rust_gauge.service.providers.lookup import providers_for
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression import holding
from rust_gauge.service.suppression.entries import csv_line, scope_of
from rust_gauge.service.suppression.names import Names
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store import suppression as store
from rust_gauge.store import suppression_load, suppression_numbers, suppression_state
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import StoreError
from rust_gauge.store.jobs import Job
from rust_gauge.store.suppression import Ask, Target, Where
from rust_gauge.store.suppression_load import LoadedEntry
from rust_gauge.store.suppression_numbers import CAME

PIECE = 25_000  # rows in a transaction: the list is locked for less than a second
_AHEAD = 2  # pieces that are read before they are written
_SHOWN = 20  # changes listed in a preview; the counts cover all
REFUSED = "rejected"


def start(context: Context, tenant: TenantAccess, request: ImportRequest, by: str) -> ShownJob:
    """An import that waits for its file."""
    now = context.clock()
    if request.reason == "try_later":
        raise ServiceProblem("invalid-request", "reason: try_later is advice only and cannot hold an address")
    if request.until is not None and (request.until.tzinfo is None or request.until <= now):
        raise ServiceProblem(
            "invalid-request", "until must be a time in the future with a UTC offset, for example 2026-12-01T09:00:00Z"
        )
    context.store.transaction(lambda c: scope_of(Names(c, tenant.id), request.scope, request.scope_name))
    name = request.name or "unnamed list"
    return jobs.add(context, tenant, "import", name, request.model_dump(mode="json"), by, wait_for_file=True)


_STREAM = Scope.STREAM.number


class Wanted(NamedTuple):
    """A row that can be used."""

    key: bytes
    address: str
    domain: str
    reason: int
    since: str
    until: str
    note: str
    scope: int
    scope_id: int


@dataclass(slots=True)
class Piece:
    """Rows that were read: entries to make, rejected rows, and the number of the last one."""

    last: int = 0
    octets: int = 0
    rows: int = 0
    wanted: list[Wanted] = field(default_factory=list)
    rejected: list[tuple[int, str, str]] = field(default_factory=list)
    providers: dict[str, int] = field(default_factory=dict)


class _MatchingChanged(Exception):
    """Addresses are compared otherwise by now: what was read has to be read again."""


def layout_of(context: Context, job_id: int, request: Any) -> Layout:
    """Detect how the file of a job is written. ServiceProblem if it cannot be read as a list."""
    sample = b""
    for piece in store_jobs.pieces(context.store, job_id, store_jobs.FILE):
        sample += piece
        if len(sample) >= SAMPLE_OCTETS:
            break
    stated = request.layout
    try:
        found = find_layout(sample[:SAMPLE_OCTETS], form=stated.form, encoding=stated.encoding, columns=stated.columns)
    except FileError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    if found.certainty == "unsure":
        fits = ", ".join(dict.fromkeys((found.encoding, *found.candidates)))
        what = f"The encoding of the file is not certain: {fits} would fit"
        raise ServiceProblem("invalid-request", what, remedy="State the encoding, or save the file as UTF-8")
    return found


def layout_document(layout: Layout) -> dict[str, Any]:
    return {
        "form": layout.form, "encoding": layout.encoding, "certainty": layout.certainty,
        "columns": dict(layout.columns), "delimiter": layout.delimiter if layout.form == "csv" else "",
    }  # fmt: skip


class CountedPieces:
    """The pieces of a job's file, with how many octets were read."""

    def __init__(self, context: Context, job_id: int) -> None:
        self.octets = 0
        self._pieces = store_jobs.pieces(context.store, job_id, store_jobs.FILE)

    def __iter__(self) -> Iterator[bytes]:
        for piece in self._pieces:
            self.octets += len(piece)
            yield piece


def run_import(context: Context, job: Job) -> dict[str, Any]:
    """The job."""
    while True:
        try:
            return _Import(context, job).run()
        except _MatchingChanged:
            job = context.store.transaction(partial(store_jobs.newest, job=job))


class _Import:
    def __init__(self, context: Context, job: Job) -> None:
        self._context, self._job, self._id, self._tenant_id = context, job, job.id, job.tenant_id
        self._request = ImportRequest.model_validate(job.request)
        self._position = dict(job.position)
        self._dry = bool(self._position.get("dry"))
        self._counts: Counter[str] = Counter(job.result.get("counts", {}))
        self._began = job.created_at
        self._by = f"import {job.id}"
        self._sample: list[dict[str, str]] = job.result.get("sample", [])
        self._first = job.result.get("first_number", 0)
        self._layout = layout_of(context, job.id, self._request)
        self._seen: list[Any] = []
        self._providers: dict[str, int] = {}

        def place(unit: UnitOfWork) -> tuple[Matching, Names, Scope, int, list[tuple[int, int]]]:
            connection = unit.connection
            names = Names(connection, self._tenant_id)
            scope, scope_id = scope_of(names, self._request.scope, self._request.scope_name)
            matching = matchings_of(unit)[0]
            return matching, names, scope, scope_id, store_jobs.sizes(connection, job.id, store_jobs.FILE)

        self._matching, self._names, scope, scope_id, sizes = context.unit(self._tenant_id, place)
        self._scope = (scope.number, scope_id)  # where a row names none
        self._total = sum(size for _, size in sizes)
        missing = set(range(len(sizes))) - {number for number, _ in sizes}
        if missing:
            raise ServiceProblem("invalid-request", f"Piece {min(missing)} of the file is missing", remedy="Upload it")

    def run(self) -> dict[str, Any]:
        for piece in read_ahead(self._pieces()):
            self._context.unit(self._tenant_id, partial(self._write, piece=piece))
        result = self._result()
        if self._dry and self._seen:
            keys = np.concatenate(self._seen)
            again = len(keys) - len(np.unique(keys))  # met in more than one piece
            for name, n in (("duplicates", again), ("new", -again)):
                result["counts"][name] = result["counts"].get(name, 0) + n
        if not self._dry:
            self._tell(result)
        return result

    def _result(self) -> dict[str, Any]:
        return {
            "dry": self._dry, "layout": layout_document(self._layout), "counts": dict(self._counts),
            "sample": self._sample, "first_number": self._first,
        }  # fmt: skip

    def _tell(self, result: dict[str, Any]) -> None:
        now = self._context.clock()
        data = {"import": self._id, "counts": result["counts"], "after": max(0, self._first - 1)}
        self._context.store.transaction(lambda c: webhooks.tell(c, self._tenant_id, "suppression.imported", data, now))

    # Reading

    def _pieces(self) -> Iterator[Piece]:
        done = int(self._position.get("row", 0))
        source = CountedPieces(self._context, self._id)
        rows: list[Row] = []
        for row in read_rows(source, self._layout):
            if row.number <= done:
                continue
            rows.append(row)
            if len(rows) >= PIECE:
                yield self._read(rows, source.octets)
                rows = []
        if rows:
            yield self._read(rows, source.octets)

    def _read(self, rows: list[Row], octets: int) -> Piece:
        """Rows as entries, those with mistakes left out."""
        piece = Piece(last=rows[-1].number, octets=octets, rows=len(rows))
        usual = Reason(self._request.reason).number
        until = _stored(self._request.until)
        since, note = str(self._began.replace(tzinfo=None)), self._request.note
        has_more = any(name in self._layout.columns for name in ("reason", "since", "until", "note", "scope", "state"))
        texts = [row.address for row in rows]
        keys, wrong, domains = self._matching.keys(texts)
        if self._matching.same:
            found = providers_for(self._context, set(filter(None, domains)))
            keys, wrong, domains = self._matching.keys(texts, lambda domain: found.get(domain, (0, ""))[1])
        new: Any = Wanted
        for number, (row, key, domain) in enumerate(zip(rows, keys, domains, strict=True)):
            if row.problem:
                piece.rejected.append((row.number, row.address or ",".join(row.cells)[:200], row.problem))
            elif key is None:
                self._domain_or_refused(piece, row, wrong[number], since, until, note)
            elif has_more:
                self._with_more(piece, row, key, _clean(row.address, domain), domain, since, until, note)
            else:
                piece.wanted.append(
                    new(key, _clean(row.address, domain), domain, usual, since, until, note, *self._scope)
                )
        self._look_up(piece)
        return piece

    def _domain_or_refused(
        self, piece: Piece, row: Row, error: AddressError, since: str, until: str, note: str
    ) -> None:
        """A whole domain (`@domain`), or no address at all."""
        if row.address.startswith("@"):
            _, wrong, domains = Matching().keys([f"x{row.address}"])
            if not wrong:
                key = self._matching.domain_key(domains[0])
                self._with_more(piece, row, key, f"@{domains[0]}", domains[0], since, until, note)
                return
        piece.rejected.append((row.number, row.address[:200], error.why or error.what))

    def _with_more(
        self, piece: Piece, row: Row, key: bytes, address: str, domain: str, since: str, until: str, note: str
    ) -> None:
        reason: str = self._request.reason
        scope = self._scope
        try:
            if row.state and row.state != State.HELD:
                raise ValueError(f"its state is {row.state[:40]}: only held entries are imported")
            if row.scope:
                scope = self._scope_of(row)
            if row.reason:
                reason = _reason(row.reason)
            if row.since:
                at = read_time(row.since)
                if at > self._began:
                    raise ValueError(f"since {row.since[:40]} is in the future")
                since = str(at.replace(tzinfo=None))
            if row.until:
                end = read_time(row.until)
                if end <= self._began:
                    raise ValueError(f"until {row.until[:40]} is in the past")
                until = str(end.replace(tzinfo=None))
        except (ValueError, OverflowError, OSError) as error:
            piece.rejected.append((row.number, row.address[:200], str(error)))
            return
        number = Reason(reason).number
        piece.wanted.append(Wanted(key, address, domain, number, since, until, (row.note or note)[:500], *scope))

    def _scope_of(self, row: Row) -> tuple[int, int]:
        """Return the scope that a row names. ValueError for one that this tenant does not have."""
        try:
            scope, id = scope_of(self._names, row.scope, row.scope_name)
        except ServiceProblem as problem:
            raise ValueError(problem.detail) from None
        return scope.number, id

    def _look_up(self, piece: Piece) -> None:
        missing = {wanted.domain for wanted in piece.wanted} - self._providers.keys()
        if missing:
            found = providers_for(self._context, missing)
            self._providers |= {domain: id for domain, (id, _) in found.items()}
        piece.providers = self._providers

    # Writing

    def _write(self, unit: UnitOfWork, piece: Piece) -> None:
        connection, now = unit.connection, unit.now
        counts = Counter(self._counts)
        counts["rows"] += piece.rows
        counts["rejected"] += len(piece.rejected)
        if not self._sample:
            self._sample = [
                {"address": wanted.address, "reason": str(Reason.from_number(wanted.reason)), "since": wanted.since,
                 "until": "" if wanted.until == r"\N" else wanted.until, "note": wanted.note}
                for wanted in piece.wanted[:_SHOWN]
            ]  # fmt: skip
        if matchings_of(unit)[0] != self._matching:
            raise _MatchingChanged
        merged = _merged(piece.wanted, self._request.standing)
        counts["duplicates"] += len(piece.wanted) - len(merged)
        if self._dry:
            self._foretell(connection, merged, counts)
        else:
            self._store(unit, merged, piece.providers, counts)
        if piece.rejected:
            head = csv_line(("row", "address", "why")) if counts["rejected"] == len(piece.rejected) else b""
            lines = head + b"".join(csv_line(rejected) for rejected in piece.rejected)
            store_jobs.put_piece(connection, self._id, REFUSED, piece.last, lines)
        position = {**self._position, "row": piece.last}
        result = {**self._result(), "counts": dict(counts)}
        store_jobs.advance(
            connection, self._job, now, done=min(piece.octets, self._total), total=self._total,
            position=position, result=result,
        )  # fmt: skip
        self._counts, self._position = counts, position

    def _where(self, wanted: Wanted) -> Where:
        return Where(wanted.key, Reason.from_number(wanted.reason), Scope.from_number(wanted.scope), wanted.scope_id)

    def _foretell(self, connection: Connection, merged: list[Wanted], counts: Counter[str]) -> None:
        rows = store.rows_of(connection, self._tenant_id, {wanted.key for wanted in merged})
        self._seen.append(np.frombuffer(b"".join(wanted.key[:8] for wanted in merged), np.uint64))
        now = self._context.clock()
        for wanted in merged:
            row = rows.get(self._where(wanted))
            counts[self._kind(row, self._decide(store.status_of(row) if row else None, wanted, now))] += 1

    def _kind(self, row: Any, after: Status | None) -> str:
        """Return the outcome of a row."""
        if row is None:
            return "new"
        if row.changed_by == self._by:
            return "duplicates"
        before = store.status_of(row)
        if before.state is State.ENDED:
            return "came_back" if after is not None and after.state is State.HELD else "stayed_clear"
        return "standing" if after is None or after.until == before.until else "changed"

    def _store(self, unit: UnitOfWork, merged: list[Wanted], providers: dict[str, int], counts: Counter[str]) -> None:
        connection, now = unit.connection, unit.now
        first = suppression_state.lock(connection, self._tenant_id) + 1
        if not self._first:
            self._first = first
        merged.sort()  # in the order of the keys, so that neighbours are written together
        done = suppression_load.load_entries(
            connection, self._tenant_id, self._rows(merged, providers, first), at=now, by=self._by,
        )  # fmt: skip
        if done.warnings != done.skipped or done.records != len(merged):
            raise StoreError("The database rejected a row", why=f"{done}", remedy="See the service log")
        suppression_state.set_last_number(connection, self._tenant_id, first + len(merged) - 1)
        there: Sequence[Wanted] = ()
        if done.skipped:
            there = self._standing(connection, merged, first)
        counts["new"] += done.records - done.skipped
        self._count_days(connection, merged, there, providers)
        if there:
            self._decide_standing(unit, there, providers, counts)

    def _rows(self, merged: list[Wanted], providers: dict[str, int], first: int) -> Iterator[LoadedEntry]:
        """Entries as the list keeps them: without what names a person where only digests are kept."""
        hidden = bool(self._matching.secret)
        for number, wanted in enumerate(merged, first):
            provider = providers.get(wanted.domain, 0)
            hide = hidden and not wanted.address.startswith("@")
            yield LoadedEntry(
                wanted.key, wanted.reason, number, "" if hide else wanted.address, "" if hide else wanted.domain,
                provider, wanted.since, wanted.until, "" if hide else wanted.note, wanted.scope, wanted.scope_id,
            )  # fmt: skip

    def _standing(self, connection: Connection, merged: list[Wanted], first: int) -> list[Wanted]:
        """Return the rows that were left out, as their entry exists."""
        rows = store.rows_of(connection, self._tenant_id, {wanted.key for wanted in merged})
        return [wanted for wanted in merged if (row := rows.get(self._where(wanted))) is None or row.number < first]

    def _count_days(
        self, connection: Connection, merged: list[Wanted], there: Sequence[Wanted], providers: dict[str, int],
    ) -> None:  # fmt: skip
        counts: Counter[tuple[Any, ...]] = Counter()
        # Nearly all share day, reason and provider: counting these words first saves a date for each row.
        words = Counter((wanted.since[:10], wanted.reason, wanted.domain, _stream_of(wanted)) for wanted in merged)
        words.subtract((wanted.since[:10], wanted.reason, wanted.domain, _stream_of(wanted)) for wanted in there)
        for (day, reason, domain, stream_id), n in words.items():
            if n:
                provider = providers.get(domain, 0)
                counts[self._tenant_id, datetime.fromisoformat(day).date(), CAME, reason, provider, stream_id] += n
        suppression_numbers.add_counts(connection, counts)

    def _decide_standing(
        self, unit: UnitOfWork, there: Sequence[Wanted], providers: dict[str, int], counts: Counter[str]
    ) -> None:
        connection, now = unit.connection, unit.now
        rows = store.rows_of(connection, self._tenant_id, {wanted.key for wanted in there})
        asks = []
        for wanted in there:
            where = self._where(wanted)
            row = rows.get(where)
            after = self._decide(store.status_of(row) if row else None, wanted, now)
            counts[self._kind(row, after)] += 1
            if after is not None:
                target = Target(wanted.address, wanted.domain, providers.get(wanted.domain, 0))
                decide = partial(self._decide, wanted=wanted, now=now)
                asks.append(Ask(where, target, decide, _time(wanted.since), (), wanted.note, "import"))
        done = store.change(connection, self._tenant_id, asks, self._by, now)
        holding.tell(unit, done, self._by)

    def _decide(self, status: Status | None, wanted: Wanted, now: datetime) -> Status | None:
        """Return the new status for a request; None leaves it."""
        since, until = _time(wanted.since), None if wanted.until == r"\N" else _time(wanted.until)
        wish = Wish(since, since, times=0, until=until)
        if status is None:
            return ask(None, replace(wish, times=1), now)
        if status.state is State.ENDED:
            if self._request.lifted == "stay_clear" and (since >= self._began or since <= (status.ended_at or since)):
                return None
            over = (status.ended_at or since) + timedelta(microseconds=1)
            return ask(status, replace(wish, at=max(since, over)), now)
        if self._request.standing == "keep":
            return None
        if self._request.standing == "widen":
            return ask(status, wish, now)
        if (status.since, status.until, status.state) == (since, until, State.HELD):
            return None
        return replace(status, since=since, until=until, state=State.HELD, change=Change.PROLONGED)


def _merged(wanted: list[Wanted], standing: str) -> list[Wanted]:
    """One row for each entry: the first, or the widest or last where standing entries are treated so."""
    found: dict[tuple[bytes, int, int, int], Wanted] = {}
    for entry in wanted:
        key = (entry.key, entry.reason, entry.scope, entry.scope_id)
        there = found.get(key)
        if there is None or standing == "replace":
            found[key] = entry
        elif standing == "widen":
            until = r"\N" if r"\N" in (there.until, entry.until) else max(there.until, entry.until)
            found[key] = there._replace(since=min(there.since, entry.since), until=until)
    return list(found.values())


def _stream_of(wanted: Wanted) -> int:
    """Return the stream that an entry is for; 0 if it is for all."""
    return wanted.scope_id if wanted.scope == _STREAM else 0


def _clean(address: str, domain: str) -> str:
    """An address as the list shows it."""
    if address.isascii() and address.endswith(domain) and "<" not in address:
        return address
    local = address.rpartition("<")[2].rpartition("@")[0].strip()
    return f"{local}@{domain}"


_WORDS = {
    Reason.INVALID_ADDRESS: ("bounce", "bounced", "hard_bounce", "invalid", "bad", "unknown_user", "dead"),
    Reason.COMPLAINT: ("complained", "spam", "abuse", "fbl", "junk"),
    Reason.UNSUBSCRIBED: ("unsubscribe", "unsubscription", "opt_out", "optout", "opted_out"),
    Reason.MANUAL: ("manual", "manually", "hand", "blocked", "block"),
    Reason.SPAM_TRAP: ("trap", "spamtrap"),
}


def _reason(text: str) -> str:
    """Return the reason that a text names. ValueError for an unknown one."""
    word = text.strip().lower().replace(" ", "_").replace("-", "_")
    for reason in Reason:
        if word == reason.value and reason is not Reason.TRY_LATER:
            return reason.value
    for reason, words in _WORDS.items():
        if word in words:
            return reason.value
    raise ValueError(f"{text[:40]!r} is not a known reason")


def _stored(time: datetime | None) -> str:
    return r"\N" if time is None else str(time.astimezone(UTC).replace(tzinfo=None))


def _time(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def read_ahead(pieces: Iterator[Any]) -> Iterator[Any]:
    """Pieces that are made by a thread while the one before is used."""
    waiting: queue.Queue[Any] = queue.Queue(_AHEAD)
    over = threading.Event()

    def give(item: Any) -> bool:
        while not over.is_set():
            try:
                waiting.put(item, timeout=0.2)
            except queue.Full:
                continue
            return True
        return False

    def read() -> None:
        try:
            for piece in pieces:
                if not give((piece, None)):
                    return
            give((None, None))
        except Exception as error:  # raised where it is waited for
            give((None, error))

    thread = threading.Thread(target=read, daemon=True)
    thread.start()
    try:
        while True:
            piece, error = waiting.get()
            if error is not None:
                raise error
            if piece is None:
                return
            yield piece
    finally:
        over.set()
        thread.join(60)
