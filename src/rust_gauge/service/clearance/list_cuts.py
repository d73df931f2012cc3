"""Cutting a list into portions that fit a warm-up plan: held addresses removed, the most engaged recipients first.

The file is read twice. What the first pass found of each row, three octets, goes to a temporary file, so that memory
stays the same however long the list is. A job that is resumed begins again: nothing was given to anybody yet.
"""

import csv
import io
import tempfile
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from functools import partial
from itertools import islice
from typing import IO, Any, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.contract.jobs import Job as ShownJob
from rust_gauge.contract.warmup import ListCutRequest
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import address_key, normalise_domain, parse_address
from rust_gauge.core.roles import Role
from rust_gauge.core.suppression.files import (
    FileError,
    Layout,
    Row,
    column_place,
    read_rows,
    row_lines,
    rows_are_lines,
)
from rust_gauge.core.warmup import openings
from rust_gauge.core.warmup.calendar import Entry, to_icalendar
from rust_gauge.core.warmup.portions import LEFT, Cutting, Portion, engagement_class
from rust_gauge.service.clearance.answers import Answer, Question
from rust_gauge.service.clearance.clearance import Desk
from rust_gauge.service.jobs import jobs
from rust_gauge.service.providers.lookup import providers_for, with_lookups
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.suppression.imports import CountedPieces, layout_document, layout_of, read_ahead
from rust_gauge.service.warmup.plans import Names, find, names_for, sent_of
from rust_gauge.service.warmup.steps import OTHERS, Ladder, ladder_of
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store import warmup as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job
from rust_gauge.store.warmup import PlanRow, Sent, TrackRow

T = TypeVar("T")
KIND: Literal["list_cut"] = "list_cut"
REMOVED, LEFT_OVER, CALENDAR, ICALENDAR = "removed", "left", "calendar", "icalendar"
_PIECE = 50_000  # rows that are looked at together
_KNOWN_DOMAINS = 200_000  # recipient domains whose track is remembered
_BUFFERED = 16 * 1024 * 1024  # octets of portions that are held until they are written
_MOST_PORTIONS = 2_000
_ENGAGED_WITHIN = timedelta(days=180)
_ENDINGS = {"csv": "csv", "ndjson": "ndjson", "plain": "txt"}
_GONE = 255  # the track of a row that is not mailed


def start(context: Context, tenant: TenantAccess, request: ListCutRequest, by: str) -> ShownJob:
    """Create a job that cuts a list. ServiceProblem `not-found` where there is no such plan."""
    context.store.transaction(lambda c: find(c, tenant, request.plan))
    name = request.name or "unnamed list"
    return jobs.add(context, tenant, KIND, name, request.model_dump(mode="json"), by, wait_for_file=True)


def run_cut(context: Context, job: Job) -> dict[str, Any]:
    """The job."""
    with tempfile.TemporaryFile() as notes:
        return _Cut(context, job, notes).run()


@dataclass(frozen=True, slots=True)
class _Plan:
    """The plan that a list is cut for, as it is when the job begins."""

    row: PlanRow
    ladder: Ladder
    tracks: Sequence[TrackRow]
    names: Names
    sent: Sent


class _Cut:
    def __init__(self, context: Context, job: Job, notes: IO[bytes]) -> None:
        self._context, self._job, self._notes = context, job, notes
        self._request = ListCutRequest.model_validate(job.request)
        self._now = context.clock()
        self._layout = layout_of(context, job.id, self._request)
        sizes = context.store.transaction(lambda c: store_jobs.sizes(c, job.id, store_jobs.FILE))
        self._total = sum(size for _, size in sizes)
        self._plan = context.store.transaction(self._read_plan)
        self._place = {track.provider_id: number for number, track in enumerate(self._plan.tracks)}
        self._engagement = _engagement(self._layout, self._request.engagement)
        self._counts: Counter[str] = Counter()
        self._pieces: Counter[str] = Counter()
        self._tracks_known: dict[str, int] = {}
        self._quoted = False

    def _read_plan(self, connection: Connection) -> _Plan:
        tenant = TenantAccess(self._job.tenant_id, "", "", Role.VIEWER)
        row = find(connection, tenant, self._request.plan)
        tracks = store.tracks_of(connection, [row.id])[row.id]
        cleared = store.cleared_now(connection, [row.id], self._now)[row.id]
        names = names_for(connection, row.tenant_id, [track.provider_id for track in tracks])
        sent = sent_of(connection, row, tracks, cleared, self._now)
        return _Plan(row, ladder_of(row), tracks, names, sent)

    def run(self) -> dict[str, Any]:
        self._context.store.transaction(self._drop_parts)
        cutting = Cutting(len(self._plan.tracks))
        for rows, octets in self._rows():
            tracks, classes = self._look(rows)
            mailed = tracks != _GONE
            cutting.count(tracks[mailed], classes[mailed])
            self._notes.write(tracks.tobytes() + classes.tobytes())
            self._advance(octets // 2)
        portions = cutting.arrange([self._openings(track) for track in self._plan.tracks], by_day=self._by_day)
        if len(portions) > _MOST_PORTIONS:
            raise ServiceProblem(
                "invalid-request", f"The list makes {len(portions):,} portions, more than {_MOST_PORTIONS:,}",
                remedy="Cut it by day, or make the plan larger",
            )  # fmt: skip
        self._notes.seek(0)
        self._write(cutting, portions)
        return self._result(portions)

    @property
    def _by_day(self) -> bool:
        return self._request.portions == "day"

    def _drop_parts(self, connection: Connection) -> None:
        for part in store_jobs.parts(connection, self._job.id):
            store_jobs.drop_part(connection, self._job.id, part)

    def _openings(self, track: TrackRow) -> Iterator[Any]:
        """Return the hours that take mail of a track. Before the first day of list or plan nothing goes."""
        first = max(self._request.starts_on or self._now.date(), self._plan.row.starts_on)
        begins = max(self._now, datetime.combine(first, time(), UTC))
        of = self._plan.sent if begins == self._now else Sent({}, {})
        today = self._now.date()
        # A plan that begins in the future is at its first step then; one that runs has gone on until then.
        since = max(today, self._plan.row.starts_on)
        step_on = self._plan.ladder.from_now_on(track, since)
        return openings(
            self._plan.ladder.window, step_on, begins, of.today.get(track.provider_id, 0),
            of.this_hour.get(track.provider_id, 0),
        )  # fmt: skip

    def _rows(self) -> Iterator[tuple[list[Row], int]]:
        """Yield the rows of the file, piece by piece, with the octets that were read."""
        source = CountedPieces(self._context, self._job.id)

        def octets() -> Iterator[bytes]:
            for piece in source:
                self._quoted = self._quoted or b'"' in piece
                yield piece

        return _in_pieces(read_rows(octets(), self._layout), source)

    def _lines_again(self) -> Iterator[tuple[list[str], int]]:
        """Yield the lines of the same rows, as they will be written."""
        source = CountedPieces(self._context, self._job.id)
        if rows_are_lines(self._layout, quoted=self._quoted):
            return _in_pieces(row_lines(source, self._layout), source)
        rows = read_rows(source, self._layout)
        return _in_pieces((_csv(row.cells or (row.address,), self._layout.delimiter) for row in rows), source)

    # The first pass

    def _look(self, rows: Sequence[Row]) -> tuple[NDArray[np.uint8], NDArray[np.uint16]]:
        """Return the track and the class of engagement of each row. What is held, or no address, is removed."""
        texts = [row.address for row in rows]
        plan = self._plan.row
        question = Question(plan.stream or None, plan.domain or None, plan.relay or None, only_held=True)
        answers = with_lookups(
            self._context,
            lambda lookup: self._context.unit(
                self._job.tenant_id, lambda unit: Desk(unit, lookup, question).answer(texts)
            ),
        )
        tracks = self._tracks(texts)
        gone = [number for number, answer in enumerate(answers) if answer.verdict == "held"]
        tracks[gone] = _GONE
        self._counts["rows"] += len(rows)
        self._counts["removed"] += len(gone)
        if gone:
            self._remove(rows, answers, gone)
        if self._engagement is not None:
            classes = np.fromiter(map(engagement_class, self._engagement(rows)), np.uint16, len(rows))
        else:
            classes = self._from_events(texts)
        return tracks, classes

    def _tracks(self, texts: Sequence[str]) -> NDArray[np.uint8]:
        domains = [text.rpartition("@")[2] for text in texts]
        known = self._tracks_known
        new = set(domains) - known.keys()
        if len(known) > _KNOWN_DOMAINS:
            known.clear()
            new = set(domains)
        names: dict[str, str] = {}
        for written in new:
            try:
                names[written] = normalise_domain(written.rstrip("> "))
            except DomainNameError:
                continue
        found = providers_for(self._context, set(names.values())) if names else {}
        others = self._place[OTHERS]
        for written in new:
            provider = found.get(names.get(written, ""), (0, ""))[0]
            known[written] = self._place.get(provider, others)
        return np.fromiter(map(known.__getitem__, domains), np.uint8, len(domains))

    def _from_events(self, texts: Sequence[str]) -> NDArray[np.uint16]:
        """Return by row the class of the newest open or click that events tell of."""
        keys: dict[bytes, list[int]] = defaultdict(list)
        for number, text in enumerate(texts):
            try:
                keys[address_key(parse_address(text))].append(number)
            except AddressError:
                continue
        since = self._now - _ENGAGED_WITHIN
        found = self._context.store.transaction(
            lambda c: store.engaged_days(c, self._job.tenant_id, sorted(keys), since)
        )
        classes = np.zeros(len(texts), np.uint16)
        for key, day in found.items():
            classes[keys[key]] = engagement_class(day.isoformat())
        return classes

    def _remove(self, rows: Sequence[Row], answers: Sequence[Answer], gone: Sequence[int]) -> None:
        heading = () if self._pieces[REMOVED] else (*(self._layout.heading or ("address",)), "why", "detail")
        lines = [
            (*(rows[n].cells or (rows[n].address,)), answers[n].reason, rows[n].problem or answers[n].why) for n in gone
        ]
        self._put({REMOVED: _table([heading, *lines] if heading else lines)})

    # The second pass

    def _write(self, cutting: Cutting, portions: Sequence[Portion]) -> None:
        names = [self._name(portion.at) for portion in portions]
        heading = self._layout.heading
        head = f"{_csv(heading, self._layout.delimiter)}{self._ending}".encode() if heading else b""
        waiting: dict[str, list[bytes]] = {}
        buffered = 0
        for lines, octets in self._lines_again():
            tracks = np.frombuffer(self._notes.read(len(lines)), np.uint8)
            classes = np.frombuffer(self._notes.read(2 * len(lines)), np.uint16)
            mailed = np.flatnonzero(tracks != _GONE)
            places = cutting.place(tracks[mailed], classes[mailed])
            order = np.argsort(places, kind="stable")
            ordered, at = mailed[order].tolist(), places[order]
            begins = np.flatnonzero(np.append(True, at[1:] != at[:-1])).tolist() if len(at) else []
            for begin, end in zip(begins, [*begins[1:], len(ordered)], strict=True):
                number = int(at[begin])
                name = LEFT_OVER if number == LEFT else names[number]
                text = self._ending.join([lines[n] for n in ordered[begin:end]]) + self._ending
                self._counts["left" if number == LEFT else "cut"] += end - begin
                if name not in waiting:
                    waiting[name] = [head] if not self._pieces[name] else []
                waiting[name].append(text.encode("utf-8", "surrogatepass"))
                buffered += len(text)
            if buffered >= _BUFFERED:
                self._put({name: b"".join(texts) for name, texts in waiting.items()})
                waiting, buffered = {}, 0
            self._advance(self._total // 2 + octets // 2)
        self._put({name: b"".join(texts) for name, texts in waiting.items()})
        self._advance(self._total)
        self._put({CALENDAR: _table(self._table(portions)), ICALENDAR: self._icalendar(portions).encode()})

    @property
    def _ending(self) -> str:
        """What a line ends with (RFC 4180 for CSV)."""
        return "\r\n" if self._layout.form == "csv" else "\n"

    def _file(self, at: datetime) -> str:
        return f"{self._name(at)}.{_ENDINGS[self._layout.form]}"

    def _name(self, at: datetime) -> str:
        return f"{at:%Y%m%d}" if self._by_day else f"{at:%Y%m%dT%H}"

    def _put(self, parts: dict[str, bytes]) -> None:
        def write(connection: Connection) -> None:
            for name, octets in parts.items():
                store_jobs.put_piece(connection, self._job.id, name, self._pieces[name], octets)

        self._context.store.transaction(write)
        self._pieces.update(parts.keys())

    def _advance(self, done: int) -> None:
        now = self._context.clock()
        self._context.store.transaction(
            partial(
                store_jobs.advance, job=self._job, now=now, done=min(done, self._total), total=self._total,
                position={}, result={"counts": dict(self._counts)},
            )
        )  # fmt: skip

    # What comes out

    def _labels(self) -> list[str]:
        return [self._plan.names.label(track.provider_id) for track in self._plan.tracks]

    def _table(self, portions: Sequence[Portion]) -> list[Sequence[object]]:
        head = ("starts_at", "file", "messages", *self._labels())
        rows = [(f"{p.at:%Y-%m-%dT%H:%M:%SZ}", self._file(p.at), p.messages, *p.by_track) for p in portions]
        return [head, *rows]

    def _icalendar(self, portions: Sequence[Portion]) -> str:
        length = timedelta(days=1) if self._by_day else timedelta(hours=1)
        plan, labels = self._plan.row.name, self._labels()
        entries = []
        for portion in portions:
            parts = ", ".join(f"{label} {n:,}" for label, n in zip(labels, portion.by_track, strict=True) if n)
            hour = portion.at.replace(minute=0, second=0, microsecond=0)
            end = (hour.replace(hour=0) if self._by_day else hour) + length
            entries.append(
                Entry(
                    f"job-{self._job.id}-{self._name(portion.at)}@{self._plan.row.domain or 'warm-up.invalid'}",
                    portion.at, end - portion.at, f"{plan}: send {portion.messages:,} messages",
                    f"File {self._file(portion.at)}\n{parts}",
                )
            )  # fmt: skip
        return to_icalendar(f"Warm-up {plan}", entries, self._now)

    def _result(self, portions: Sequence[Portion]) -> dict[str, Any]:
        labels = self._labels()
        return {
            "layout": layout_document(self._layout), "counts": dict(self._counts), "plan": self._plan.row.name,
            "engagement": self._request.engagement or "events",
            "last": portions[-1].at.date().isoformat() if portions else None,
            "portions": [
                {
                    "part": self._name(portion.at), "file": self._file(portion.at), "at": portion.at.isoformat(),
                    "messages": portion.messages,
                    "by_provider": {label: n for label, n in zip(labels, portion.by_track, strict=True) if n},
                }
                for portion in portions
            ],
        }  # fmt: skip


def _engagement(layout: Layout, column: str) -> Any:
    """Return a function from rows to what a column says of their engagement; None where none is named."""
    if not column:
        return None
    try:
        place = column_place(layout, column)
    except FileError as error:
        raise ServiceProblem("invalid-request", f"engagement: {error}", remedy=error.remedy) from None
    return lambda rows: [row.cells[place] if place < len(row.cells) else "" for row in rows]


def _csv(cells: Sequence[object], delimiter: str = ",") -> str:
    """Return a line of CSV (RFC 4180), without its end, with the cells of somebody's own file, unchanged."""
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter, lineterminator="").writerow(cells)
    return out.getvalue()


def _table(rows: Sequence[Sequence[object]], delimiter: str = ",") -> bytes:
    return "".join([f"{_csv(row, delimiter)}\r\n" for row in rows]).encode("utf-8", "surrogatepass")


def _in_pieces(rows: Iterator[T], source: CountedPieces) -> Iterator[tuple[list[T], int]]:
    """Yield what is read by the ten thousand, with the octets that were read by then. A thread reads ahead."""

    def pieces() -> Iterator[tuple[list[T], int]]:
        while part := list(islice(rows, _PIECE)):
            yield part, source.octets

    yield from read_ahead(pieces())
