"""Showing readings: as series and on the wall, what moved them, what would follow, and the notes beside them.

The wall reads what is kept. One subject's details are computed from its counters when they are asked for, by the same
arithmetic, so that each number can be opened.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping
from concurrent.futures import Future
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from threading import Lock
from typing import Any

import numpy as np
import orjson
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.contract.readings import (
    Ahead,
    AheadDay,
    AheadResult,
    Lack,
    Mark,
    Move,
    Moved,
    NewMark,
    Pull,
    Reading,
    ReadingSeries,
    Room,
    StreamMove,
    Subject,
    Unit,
    Wall,
    WallCell,
    WallColumn,
    WallRow,
)
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.core.reputation import (
    COUNTS,
    FACTORS,
    NAMES,
    NO_VALUE,
    Readings,
    Surroundings,
    condition_of,
    over_providers,
    read,
    split,
)
from rust_gauge.core.reputation.ahead import Change, ahead, room
from rust_gauge.core.reputation.factors import Kind
from rust_gauge.service.domains import proofs
from rust_gauge.service.providers.providers import ALL, ALL_LABEL, OTHERS, OTHERS_LABEL, Columns, columns_of
from rust_gauge.service.readings.computation import (
    EVENTS_OF,
    Counted,
    Place,
    count,
    first_day,
    part_of,
    place_of,
    rows_of,
    surroundings,
)
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import domains as store_domains
from rust_gauge.store import flow
from rust_gauge.store import readings as store
from rust_gauge.store import shifts as store_shifts
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.readings import KINDS
from rust_gauge.store.tables import ALL_PROVIDERS, OTHER_PROVIDERS

UNITS: dict[Kind, Unit] = {
    Kind.RATE: "rate", Kind.ENGAGEMENT: "drop", Kind.VOLUME: "doublings", Kind.AUDIT: "faults",
}  # fmt: skip
_SHIFTED = {
    "permanent": "permanent bounces", "transient": "transient bounces", "delayed": "delays", "unwanted": "refusals",
    "complaints": "complaints",
}  # fmt: skip
_AHEAD_MOST = 60  # days in which a line may be reached
_LEAST_MOVE = 0.05  # points that are a move
_MOST_MARKS = 5000


@dataclass(frozen=True, slots=True)
class Examined:
    """One subject's counts and readings at every provider, as they were computed just now."""

    place: Place
    subject_id: int
    counted: Counted
    around: Surroundings
    readings: Readings

    @property
    def providers(self) -> list[int]:
        return [provider for _, provider in self.counted.series]

    @property
    def days(self) -> int:
        return int(self.readings.tenths.shape[1])

    @property
    def first(self) -> date:
        return self.counted.first


def kind_of(subject: Subject) -> int:
    return KINDS.index(subject) + 1


def examine(context: Context, tenant: TenantAccess, subject: Subject, name: str) -> Examined | None:
    """Compute one subject's readings now; None where it has no mail. ServiceProblem `not-found` for an unknown name.

    A page asks four questions about a subject at once: whoever asks while it is computed gets the same. It runs in a
    transaction of its own: those who wait hold no connection, as there may be none left for the one they wait for.
    """
    today = context.clock().date()
    key = (id(context.store), tenant.id, subject, name, today)
    with _lock:
        running = _running.get(key)
        mine: Future[Examined | None] = Future()
        if running is None:
            _running[key] = mine
    if running is not None:
        return running.result()
    try:
        found = context.store.transaction(lambda c: _examine(c, tenant, subject, name, today))
    except BaseException as error:
        mine.set_exception(error)
        raise
    else:
        mine.set_result(found)
        return found
    finally:
        with _lock:
            del _running[key]


_lock = Lock()
_running: dict[tuple[int, int, str, str, date], "Future[Examined | None]"] = {}


def _examine(connection: Connection, tenant: TenantAccess, subject: Subject, name: str, today: date) -> Examined | None:
    place = place_of(connection, tenant.id, today)
    subject_id = _id_of(connection, tenant, subject, name)
    since = first_day(today)
    kind = kind_of(subject)
    rows = rows_of(connection, tenant.id, kind, since, [subject_id])
    counted = count(rows, since, today, place.shown_as)
    if not counted.series:
        return None
    around = surroundings(connection, place, kind, counted)
    return Examined(place, subject_id, counted, around, read(counted.counts, around, place.factors))


def _id_of(connection: Connection, tenant: TenantAccess, subject: Subject, name: str) -> int:
    if subject == "domain":
        try:
            name = normalise_domain(name)
        except DomainNameError as error:
            raise ServiceProblem("not-a-domain", str(error), remedy=error.remedy) from None
    names = {name: id for id, name in store.names_of(connection, tenant.id, kind_of(subject)).items()}
    if name not in names:
        what = {"ip": "sending address"}.get(subject, subject)
        raise ServiceProblem("not-found", f"{tenant.name} has no {what} {name[:80]}")
    return names[name]


# Series


def show_series(
    context: Context, tenant: TenantAccess, subject: Subject, name: str, provider: str | None, first: date | None,
    last: date | None,
) -> ReadingSeries:  # fmt: skip
    """One subject's readings, overall or at one provider. Without dates: the last ninety days."""
    today = context.clock().date()
    last = last or today
    first = first or last - timedelta(days=89)

    found = examine(context, tenant, subject, name)

    def work(connection: Connection) -> ReadingSeries:
        columns = columns_of(connection, tenant.id, today)
        provider_id = _provider_id(columns, provider)
        shown: list[Reading] = []
        if found is not None and (provider_id == ALL_PROVIDERS or provider_id in found.providers):
            shown = _readings(found, provider_id, first, last)
        return ReadingSeries(
            tenant=tenant.slug, subject=subject, name=name.lower() if subject == "domain" else name,
            provider=ALL if provider_id == ALL_PROVIDERS else columns.name(provider_id),
            label=ALL_LABEL if provider_id == ALL_PROVIDERS else columns.label(provider_id),
            computed_at=context.clock() if found is not None else None, readings=shown,
        )  # fmt: skip

    return context.store.transaction(work)


def _provider_id(columns: Columns, provider: str | None) -> int:
    ids = {ALL: ALL_PROVIDERS, OTHERS: OTHER_PROVIDERS, **{name: id for id, name in columns.names.items()}}
    ids |= {columns.label(id): id for id in columns.names}
    found = ids.get(provider or ALL)
    if found is None:
        raise ServiceProblem(
            "not-found", f"{provider} has no readings of its own", remedy="Ask for a provider of the wall, or (others)"
        )
    return found


def _readings(found: Examined, provider_id: int, first: date, last: date) -> list[Reading]:
    """Readings of days within the examined ones, overall or at one provider."""
    start = max(0, (first - found.first).days)
    end = min(found.days, (last - found.first).days + 1)
    whole = over_providers(found.readings) if provider_id == ALL_PROVIDERS else None
    row = 0 if whole is not None else found.providers.index(provider_id)
    shown = whole or found.readings
    out = []
    for at in range(start, end):
        pulls = _pulls(found, at, row, whole)
        tenths = int(shown.tenths[row, at])
        value = None if tenths == NO_VALUE else tenths / 10
        day = found.first + timedelta(days=at)
        out.append(
            Reading(
                day=day, value=value, margin=None if value is None else int(shown.margin[row, at]) / 10,
                condition=None if value is None else condition_of(value).value,
                mail=round(float(shown.mail[row, at]), 1), provisional=day >= found.place.today,
                pulls=pulls if value is not None else [],
            )
        )  # fmt: skip
    seen = next((n for n, each in enumerate(out) if each.mail > 0), len(out))
    return out[seen:]  # from the first mail on


def _pulls(found: Examined, at: int, row: int, whole: Readings | None) -> list[Pull]:
    """Pulls of a day, the heaviest first: of one provider's reading, or of that over all."""
    if whole is None:
        rows, tenths = [row], found.readings.pulls[:, [row], at]
    else:
        rows, tenths = list(range(len(found.providers))), split(found.readings, whole, at)
    columns = found.place.columns
    pulls = []
    for factor_at, row_at in zip(*np.nonzero(tenths), strict=True):
        provider = found.providers[rows[row_at]]
        factor = found.place.factors[factor_at]
        measure, low, high = _measured(found, int(factor_at), rows[row_at], at)
        kinds, causes = EVENTS_OF.get(factor.name, ([], []))
        pulls.append(
            Pull(
                factor=factor.name, provider=columns.name(provider), label=columns.label(provider),
                points=int(tenths[factor_at, row_at]) / 10, unit=UNITS[factor.kind], measure=measure, low=low,
                high=high, watch=factor.watch, stop=factor.stop, kinds=kinds, causes=causes,
            )
        )  # fmt: skip
    return sorted(pulls, key=lambda pull: (-pull.points, pull.factor, pull.provider))


def _measured(found: Examined, factor: int, row: int, at: int) -> tuple[float, float, float]:
    measures = found.readings.measures
    assert measures is not None
    return tuple(  # type: ignore[return-value]
        round(float(np.nan_to_num(part[factor, row, at])), 7) for part in (measures.value, measures.low, measures.high)
    )


# The wall


def show_wall(
    context: Context,
    tenants: tuple[TenantAccess, ...],
    days: int,
    subject: Subject = "domain",
    last: date | None = None,
) -> Wall:
    """All subjects of a kind of these tenants by provider, with the trend of `days` days up to one, today if none is
    named. What audits find and what streams lack is of today only.
    """
    now = context.clock().date()
    today = last or now
    if today > now:
        raise ServiceProblem("invalid-request", "last: this day has not come yet")
    first = today - timedelta(days=days - 1)
    ids = [tenant.id for tenant in tenants]
    kind = kind_of(subject)

    def work(connection: Connection) -> Wall:
        if not ids:
            return Wall(day=today, days=days, subject=subject, columns=[], rows=[])
        columns = {tenant.id: columns_of(connection, tenant.id, now) for tenant in tenants}
        cells = _Cells(connection, ids, kind, today, days, past=today < now)
        delivered = flow.delivered_by(connection, ids, kind, first, today)
        audits = store_domains.newest_findings(connection, ids) if kind == 1 and today == now else {}
        order = _column_order(columns.values())
        rows = []
        for tenant in tenants:
            lacks = _lacks(connection, tenant.id) if kind == 1 and today == now else {}
            own = columns[tenant.id]
            places = [
                (name, next((i for i in of if i in own.names or i <= OTHER_PROVIDERS), None)) for name, of in order
            ]
            for id, name in sorted(store.names_of(connection, tenant.id, kind).items(), key=lambda each: each[1]):
                if (kind > 1 or today < now) and not cells.has(id):
                    continue
                audit = audits.get(id)
                fault = next((f for f in audit.findings if f["level"] == "fault"), None) if audit else None
                rows.append(
                    WallRow.model_construct(
                        tenant=tenant.slug, tenant_name=tenant.name, name=name, delivered=delivered.get(id, 0),
                        cells=[cells.show(id, provider, shown) for shown, provider in places],
                        heaviest=cells.heaviest(id, own), lacks=lacks.get(name, []),
                        faults=audit.faults if audit else None, fault=fault["title"] if fault else None,
                        remedy=fault["remedy"] if fault else None, record=fault["record"] if fault else None,
                    )
                )  # fmt: skip
        outages = {
            row.provider_id: row.outage
            for row in store.provider_days(connection, today)
            if row.outage and row.day == today
        }
        labels = [
            WallColumn(provider=name, label=_label(name, of, columns.values()), outage=outages.get(of[0]))
            for name, of in order
        ]
        return Wall.model_construct(day=today, days=days, subject=subject, columns=labels, rows=rows)

    return context.store.transaction(work)


def wall_json(wall: Wall) -> bytes:
    """A wall as it is sent; it has too many values to look at each once more."""
    return orjson.dumps(wall, default=vars)


class _Cells:
    """Crossings of the wall, from the newest readings."""

    def __init__(
        self, connection: Connection, ids: list[int], kind: int, today: date, days: int, *, past: bool = False
    ) -> None:
        newest = (store.as_of if past else store.newest)(connection, ids, kind, today, days)
        keys = zip(newest.subject_id.tolist(), newest.provider_id.tolist(), strict=True)
        self._rows = {key: n for n, key in enumerate(keys)}
        self._margin: list[float] = (newest.margin / 10).tolist()
        self._trends = _trends(newest.tenths)
        self._nothing: list[float | None] = [None] * days
        self._heaviest = _heaviest(newest)
        # What was measured is kept of the newest day only.
        wanted = [] if past else [(subject, provider) for subject, (_, provider, _) in self._heaviest.items()]
        self._measures = store.measures_of(connection, ids, kind, wanted)

    def has(self, subject_id: int) -> bool:
        return (subject_id, ALL_PROVIDERS) in self._rows

    def show(self, subject_id: int, provider_id: int | None, name: str) -> WallCell:
        n = self._rows.get((subject_id, provider_id or 0))
        if n is None:
            return _cell(name, None, None, None, self._nothing)
        trend = self._trends[n]
        value = trend[-1]
        if value is None:
            return _cell(name, None, None, None, trend)
        return _cell(name, value, self._margin[n], condition_of(value).value, trend)

    def heaviest(self, subject_id: int, columns: Columns) -> Pull | None:
        whole = self._rows.get((subject_id, ALL_PROVIDERS))
        if whole is None or self._trends[whole][-1] is None or subject_id not in self._heaviest:
            return None
        points, provider_id, at = self._heaviest[subject_id]
        measures = self._measures.get((subject_id, provider_id))
        value, low, high = (0.0, 0.0, 0.0) if measures is None else np.nan_to_num(measures[:, at]).tolist()
        factor = FACTORS[at]
        return Pull(
            factor=factor.name, provider=columns.name(provider_id), label=columns.label(provider_id),
            points=round(points / 10, 1), unit=UNITS[factor.kind], measure=value, low=low, high=high,
            watch=factor.watch, stop=factor.stop, measured=measures is not None,
        )  # fmt: skip


_set = object.__setattr__
_CELL_FIELDS = {"provider", "value", "margin", "condition", "trend"}


def _cell(
    provider: str, value: float | None, margin: float | None, condition: str | None, trend: list[float | None]
) -> WallCell:
    """What `WallCell.model_construct` makes, without its loop over fields: a wall has ten thousand of them."""
    cell = WallCell.__new__(WallCell)
    values = {"provider": provider, "value": value, "margin": margin, "condition": condition, "trend": trend}
    _set(cell, "__dict__", values)
    _set(cell, "__pydantic_fields_set__", _CELL_FIELDS)
    _set(cell, "__pydantic_extra__", None)
    _set(cell, "__pydantic_private__", None)
    return cell


def _trends(tenths: NDArray[np.int16]) -> list[list[float | None]]:
    """By row: one value for each of the days; days that were not computed, or without enough mail, have none."""
    shown: list[list[float | None]] = (tenths / 10).tolist()
    for n in np.nonzero((tenths < 0).any(axis=1))[0]:
        shown[n] = [None if each < 0 else each for each in shown[n]]  # type: ignore[operator]
    return shown


_LEAST_SHOWN = 5  # tenths of a point that a pull has to take for the wall to name it


def _heaviest(newest: store.Newest) -> dict[int, tuple[float, int, int]]:
    """By subject: (tenths of a point, provider, factor) of the heaviest pull of one provider, if it is worth a word.

    As in the reading over all providers each pull counts by its provider's share of the mail.
    """
    known = (newest.provider_id != ALL_PROVIDERS) & (newest.tenths[:, -1] != NO_VALUE)
    known &= (newest.mail > 0) & (newest.late == 0)
    subjects, of = np.unique(newest.subject_id[known], return_inverse=True)
    mail = newest.mail[known]
    points = newest.pulls[known] * (mail / np.bincount(of, mail)[of])[:, None] if len(of) else np.zeros((0, 1))
    most, factor, provider = points.max(axis=1), points.argmax(axis=1), newest.provider_id[known]
    first = np.lexsort((provider, -most, of))[np.searchsorted(np.sort(of), np.arange(len(subjects)))]
    return {
        subject: (float(most[n]), int(provider[n]), int(factor[n]))
        for subject, n in zip(subjects.tolist(), first.tolist(), strict=True)
        if most[n] >= _LEAST_SHOWN
    }


def _lacks(connection: Connection, tenant_id: int) -> dict[str, list[Lack]]:
    """By domain: each stream and what it lacks."""
    out: dict[str, list[Lack]] = {}
    found = proofs.lacks_of(connection, tenant_id)
    described = {domain for domain, stream in found if stream}
    for (domain, stream), sender in found.items():
        if stream or domain not in described:
            lack = Lack(stream=stream, proven=sender.proven, aligned=sender.aligned, text=sender.said)
            out.setdefault(domain, []).append(lack)
    return out


def _column_order(columns: Iterable[Columns]) -> list[tuple[str, list[int]]]:
    """(provider, its ids): all first, the others last, between them what most tenants have in front."""
    ranks: dict[str, list[int]] = defaultdict(list)
    ids: dict[str, int] = {}
    for each in columns:
        for rank, (id, name) in enumerate(each.names.items()):
            ranks[name].append(rank)
            ids[name] = id
    names = sorted(ranks, key=lambda name: (-len(ranks[name]), sum(ranks[name]), name))[:20]
    return [(ALL, [ALL_PROVIDERS]), *((name, [ids[name]]) for name in names), (OTHERS, [OTHER_PROVIDERS])]


def _label(name: str, ids: list[int], columns: Iterable[Columns]) -> str:
    if name in (ALL, OTHERS):
        return ALL_LABEL if name == ALL else OTHERS_LABEL
    return next((each.labels[ids[0]] for each in columns if ids[0] in each.labels), name)


# What moved it


def show_moved(
    context: Context, tenant: TenantAccess, subject: Subject, name: str, provider: str | None, first: date, last: date
) -> Moved:
    """What moved a reading between two days, and what else happened then."""
    today = context.clock().date()
    if not first < last <= today:
        raise ServiceProblem("invalid-request", "first has to lie before last, and last not in the future")

    found = examine(context, tenant, subject, name)

    def work(connection: Connection) -> Moved:
        provider_id = _provider_id(columns_of(connection, tenant.id, today), provider)
        if found is None or not (first - found.first).days >= 0 or not (last - found.first).days < found.days:
            raise ServiceProblem("not-found", f"There are no readings of {name} on both days")
        if provider_id != ALL_PROVIDERS and provider_id not in found.providers:
            raise ServiceProblem("not-found", f"{name} sends nothing there")
        days = [_readings(found, provider_id, day, day) for day in (first, last)]
        if not all(days):
            raise ServiceProblem("not-found", f"There are no readings of {name} on both days")
        (one,), (other,) = days
        moves = _moves(found, provider_id, one, other)
        streams = _stream_moves(connection, tenant, found, subject, first, last, moves)
        domain = name.lower() if subject == "domain" else None
        marks = marks_of(connection, tenant, first, last, domain, today)
        return Moved(subject=subject, name=name, first=one, last=other, moves=moves, streams=streams, marks=marks)

    return context.store.transaction(work)


def _moves(found: Examined, provider_id: int, one: Reading, other: Reading) -> list[Move]:
    before = {(pull.factor, pull.provider): pull for pull in one.pulls}
    after = {(pull.factor, pull.provider): pull for pull in other.pulls}
    at = [(reading.day - found.first).days for reading in (one, other)]
    names = [found.place.columns.name(id) for id in found.providers]
    moves = []
    for key in before.keys() | after.keys():
        points = [side[key].points if key in side else 0.0 for side in (before, after)]
        change = round(points[1] - points[0], 1)
        if abs(change) < _LEAST_MOVE:
            continue
        pull = after.get(key) or before[key]
        row, factor = names.index(key[1]), NAMES.index(key[0])
        measures = [_measured(found, factor, row, each)[0] for each in at]
        moves.append(
            Move(
                factor=key[0], provider=key[1], label=pull.label, before=points[0], after=points[1], change=change,
                unit=pull.unit, measure_before=measures[0], measure_after=measures[1],
            )
        )  # fmt: skip
    return sorted(moves, key=lambda move: (-abs(move.change), move.factor, move.provider))


def _stream_moves(
    connection: Connection, tenant: TenantAccess, found: Examined, subject: Subject, first: date, last: date,
    moves: list[Move],
) -> list[StreamMove]:  # fmt: skip
    """From which streams of a domain the events of the moved factors came, in the week up to each day."""
    if subject != "domain":
        return []
    counts = {}
    for day in (first, last):
        since = day - timedelta(days=6)
        rows = store.stream_counters(connection, tenant.id, found.subject_id, since, day)
        counts[day] = count(rows, since, day, {})
    names = store.names_of(connection, tenant.id, 2)
    out = []
    for factor in dict.fromkeys(move.factor for move in moves[:8]):
        if factor not in COUNTS:
            continue
        sums: dict[int, list[float]] = defaultdict(lambda: [0.0, 0.0])
        for n, day in enumerate((first, last)):
            for row, (stream, _) in enumerate(counts[day].series):
                sums[stream][n] += float(counts[day].counts[COUNTS.index(factor), row].sum()) / 7
        for stream, (one, other) in sums.items():
            if one or other:
                shown = names.get(stream, "")
                out.append(StreamMove(factor=factor, stream=shown, before=round(one, 1), after=round(other, 1)))
    return sorted(out, key=lambda each: -abs(each.after - each.before))[:20]


# Notes on the time axis


def marks_of(
    connection: Connection, tenant: TenantAccess, first: date, last: date, domain: str | None, today: date
) -> list[Mark]:
    """What happened between two days: people's notes, changed records, findings, shifts, outages, changed policies."""
    marks = [
        Mark(
            day=row.day,
            kind=row.kind,
            text=row.text,
            domain=row.domain,
            by=row.made_by,
            id=row.id if row.kind == "note" else None,
        )
        for row in store.marks(connection, tenant.id, first, last, domain)
    ]
    for row in store_domains.history_between(connection, tenant.id, first, last, domain):
        kind: Any = "record" if row.kind.startswith("record") else "finding"
        marks.append(Mark(day=row.happened_at.date(), kind=kind, text=row.title, domain=row.name))
    columns = columns_of(connection, tenant.id, today)
    for row in store_shifts.list_shifts(connection, tenant.id, datetime.combine(first, datetime.min.time())):
        if first <= row.began_at.date() <= last:
            where = columns.label(row.subject_id) if row.what == "provider" else ""
            at = f"at {where}" if where else f"through {row.relay}"
            share = f"{row.count / row.total:.1%}" if row.total else ""
            text = f"{_SHIFTED[row.rate]} {at} rose to {share}, usually {row.usual:.1%}"
            marks.append(Mark(day=row.began_at.date(), kind="shift", text=text, provider=where))
    for row in store.provider_days(connection, first, columns.names):
        if row.day <= last and row.outage:
            text = f"{columns.label(row.provider_id)} put off {row.outage:.0%} of everybody's mail by its own trouble"
            marks.append(Mark(day=row.day, kind="outage", text=text, provider=columns.label(row.provider_id)))
    for row in store.new_addresses(connection, tenant.id, first, last):
        marks.append(Mark(day=row.day, kind="sending_ip", text=f"first mail from {row.name}"))
    return sorted(marks, key=lambda mark: (mark.day, mark.kind, mark.text))


def list_marks(
    context: Context, tenant: TenantAccess, first: date | None, last: date | None, domain: str | None
) -> list[Mark]:
    """All that happened in a period; the last ninety days without dates."""
    today = context.clock().date()
    last = last or today
    first = first or last - timedelta(days=89)
    return context.store.transaction(lambda c: marks_of(c, tenant, first, last, domain, today))


def add_mark(context: Context, tenant: TenantAccess, new: NewMark, by: str) -> Mark:
    """Keep a note."""
    domain = ""
    if new.domain:
        try:
            domain = normalise_domain(new.domain)
        except DomainNameError as error:
            raise ServiceProblem("not-a-domain", str(error), remedy=error.remedy) from None

    def work(connection: Connection) -> int:
        if len(store.marks(connection, tenant.id, date(2000, 1, 1), date(9999, 1, 1), None)) >= _MOST_MARKS:
            raise ServiceProblem("too-large", f"{_MOST_MARKS:,} notes are kept already", remedy="Drop some")
        return store.add_mark(
            connection,
            tenant_id=tenant.id,
            domain=domain,
            day=new.day,
            text=new.text,
            made_at=context.clock(),
            made_by=by,
        )

    id = context.store.transaction(work)
    return Mark(day=new.day, kind="note", text=new.text, domain=domain, id=id, by=by)


def drop_mark(context: Context, tenant: TenantAccess, id: int) -> None:
    if not context.store.transaction(lambda c: store.drop_mark(c, tenant.id, id)):
        raise ServiceProblem("not-found", f"{tenant.name} has no note {id}")


# What would follow


def look_ahead(
    context: Context, tenant: TenantAccess, subject: Subject, name: str, provider: str | None, wanted: Ahead
) -> AheadResult:
    """The readings that would follow, as it goes and with a change."""
    today = context.clock().date()

    found = examine(context, tenant, subject, name)
    columns = context.store.transaction(lambda c: columns_of(c, tenant.id, today))
    provider_id = _provider_id(columns, provider)
    if found is None or (provider_id != ALL_PROVIDERS and provider_id not in found.providers):
        raise ServiceProblem("not-found", f"{name} has no mail to look ahead from")
    change = Change(wanted.volume, {str(name): share for name, share in wanted.remains.items()})
    sides = []
    for each in (None, change):
        readings = ahead(found.counted.counts, found.around, wanted.days, each, found.place.factors)
        if provider_id == ALL_PROVIDERS:
            sides.append(over_providers(readings))
        else:
            sides.append(part_of(readings, [found.providers.index(provider_id)]))

    def value(readings: Readings, at: int) -> float | None:
        return None if readings.tenths[0, at] == NO_VALUE else int(readings.tenths[0, at]) / 10

    days = [
        AheadDay(
            day=today + timedelta(days=at + 1), as_it_goes=value(sides[0], at), with_change=value(sides[1], at),
            margin=None if value(sides[1], at) is None else int(sides[1].margin[0, at]) / 10,
        )
        for at in range(wanted.days)
    ]  # fmt: skip
    now = _readings(found, provider_id, today, today)
    is_sound = bool(now) and now[0].value is not None and now[0].value >= 80
    again = next((each.day for each in days if (each.with_change or 0) >= 80), None)
    return AheadResult(days=days, sound_again=None if is_sound else again)


def show_room(context: Context, tenant: TenantAccess, subject: Subject, name: str) -> list[Room]:
    """At each provider, how many more complaints and bounces until a line, and when it is reached at this pace."""
    found = examine(context, tenant, subject, name)
    if found is None:
        raise ServiceProblem("not-found", f"{name} has no mail")
    factors, today = found.place.factors, found.place.today
    pace = ahead(found.counted.counts, found.around, _AHEAD_MOST, None, factors).measures
    measures = found.readings.measures
    assert pace is not None and measures is not None
    out = []
    for row, provider in enumerate(found.providers):
        if found.readings.tenths[row, -1] == NO_VALUE:
            continue
        counts, around = found.counted.counts[:, [row]], _one(found.around, row)
        for factor_name in ("complaints", "bad_addresses"):
            at = NAMES.index(factor_name)
            factor = factors[at]
            now = float(measures.value[at, row, -1])
            if now != now:
                continue
            later = pace.value[at, row]
            dates = [
                None if now >= line or not (later >= line).any()
                else today + timedelta(days=int((later >= line).argmax()) + 1)
                for line in (factor.watch, factor.stop)
            ]  # fmt: skip
            out.append(
                Room(
                    factor=factor_name, provider=found.place.columns.name(provider),
                    label=found.place.columns.label(provider), measure=now, watch=factor.watch, stop=factor.stop,
                    to_watch=room(counts, around, factor_name, factor.watch, factors),
                    to_stop=room(counts, around, factor_name, factor.stop, factors),
                    watch_on=dates[0], stop_on=dates[1],
                )
            )  # fmt: skip
    return out


def _one(around: Surroundings, row: int) -> Surroundings:
    """What is around one of the series."""
    peers: Mapping[str, NDArray[np.float64]] = {name: each[[row]] for name, each in (around.peers or {}).items()}
    return Surroundings(
        around.reports[[row]], np.zeros(1, dtype=np.intp),
        None if around.common_delay is None else around.common_delay[[row]], dict(peers),
        None if around.faults is None else around.faults[[row]],
    )  # fmt: skip
