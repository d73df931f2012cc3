"""The wall: subjects by mailbox provider, from the readings that are kept."""

from collections import Counter, defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import get_args

import numpy as np
import orjson
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.contract.readings import (
    Condition,
    Lack,
    Pull,
    Subject,
    Wall,
    WallCell,
    WallColumn,
    WallOrder,
    WallRow,
    WallSummary,
    WallWarmup,
    WallWarmupCell,
)
from rust_gauge.core.reputation import FACTORS, NO_VALUE, condition_of
from rust_gauge.service.domains import proofs
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.providers.providers import ALL, ALL_LABEL, OTHERS, OTHERS_LABEL, Columns, columns_of_all
from rust_gauge.service.readings.examination import UNITS, kind_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.warmup import plans as warmup_plans
from rust_gauge.store import domains as store_domains
from rust_gauge.store import flow, provider_norms
from rust_gauge.store import readings as store
from rust_gauge.store import warmup as store_warmup
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import ALL_PROVIDERS, OTHER_PROVIDERS
from rust_gauge.store.warmup import PlanRow

_LEADING = 200  # tenants: providers of all of five thousand would take longer than the rest of the page


@dataclass(frozen=True, slots=True)
class WallQuery:
    """What of the wall to return. `last`: the day, today if none is named; `search`: part of a name."""

    days: int = 7
    subject: Subject = "domain"
    last: date | None = None
    search: str = ""
    condition: Condition | None = None
    order: WallOrder = "name"
    cursor: str | None = None
    limit: int = 500


@dataclass(frozen=True, slots=True)
class _Place:
    """A row before it is filled. `tenths` of the reading over all providers; NO_VALUE without one."""

    tenant: TenantAccess
    id: int
    name: str
    tenths: int
    delivered: int

    @property
    def condition(self) -> Condition | None:
        return None if self.tenths == NO_VALUE else condition_of(self.tenths / 10).value


def get_wall(context: Context, tenants: tuple[TenantAccess, ...], query: WallQuery) -> Wall:
    """A page of all subjects of a kind of these tenants by provider, with the trend of some days up to a day.

    What audits find and what streams lack is of today only. All subjects are counted, and only those of the page read.
    """
    now = context.clock().date()
    today, days = query.last or now, query.days
    if today > now:
        raise ServiceProblem("invalid-request", "last: this day is in the future")
    position = read_cursor("wall", query.cursor, int)
    start = position[0] if position else 0
    kind = kind_of(query.subject)

    def read(connection: Connection) -> Wall:
        every = _places(connection, tenants, kind, today, query, past=today < now)
        places = [place for place in every if query.condition in (None, place.condition)]
        summary = _summary(every)
        page = _ordered(places, query.order)[start : start + query.limit]
        leading = _leading(tenants, every)
        columns = columns_of_all(connection, {*leading, *(place.tenant.id for place in page)}, now)
        order = _column_order([columns[id] for id in leading])
        return Wall.model_construct(
            day=today, days=days, subject=query.subject, columns=_columns(connection, columns, order, today),
            rows=_rows(connection, page, columns, order, kind, query, today, context.clock()), summary=summary,
            next=write_cursor("wall", start + query.limit) if start + query.limit < len(places) else None,
        )  # fmt: skip

    return context.store.read(read)


def _places(
    connection: Connection, tenants: tuple[TenantAccess, ...], kind: int, today: date, query: WallQuery, *, past: bool
) -> list[_Place]:
    """Return all rows that fit a search, by tenant and name."""
    ids = [tenant.id for tenant in tenants]
    readings = (store.had_reading if past else store.standing_on)(connection, ids, kind, today)
    delivered = flow.delivered_by(connection, ids, kind, today - timedelta(days=query.days - 1), today) if ids else {}
    wanted = query.search.strip().lower()
    names = store.names_of_all(connection, ids, kind)
    out = []
    for tenant in tenants:
        for id, name in sorted(names.get(tenant.id, {}).items(), key=lambda pair: pair[1]):
            unmailed = id not in readings and (kind > 1 or past)
            if not unmailed and wanted in name.lower():
                out.append(_Place(tenant, id, name, readings.get(id, NO_VALUE), delivered.get(id, 0)))
    return out


def _leading(tenants: tuple[TenantAccess, ...], places: list[_Place]) -> list[int]:
    """Return the tenants that decide which columns there are, on all pages: those with most mail."""
    mail: Counter[int] = Counter({tenant.id: 0 for tenant in tenants})
    for place in places:
        mail[place.tenant.id] += place.delivered
    return [id for id, _ in mail.most_common(_LEADING)]


def _ordered(places: list[_Place], order: WallOrder) -> list[_Place]:
    if order == "worst":
        return sorted(places, key=lambda place: (place.tenths == NO_VALUE, place.tenths, -place.delivered))
    return sorted(places, key=lambda place: -place.delivered) if order == "delivered" else places


def _summary(places: list[_Place]) -> WallSummary:
    counted = Counter(place.condition for place in places)
    known = {condition: counted[condition] for condition in get_args(Condition)}
    return WallSummary(
        subjects=len(places), delivered=sum(place.delivered for place in places), conditions=known,
        unknown=counted[None],
    )  # fmt: skip


def _columns(
    connection: Connection, columns: dict[int, Columns], order: list[tuple[str, list[int]]], today: date
) -> list[WallColumn]:
    outages = {
        row.provider_id: row.outage
        for row in provider_norms.provider_days(connection, today)
        if row.outage and row.day == today
    }
    return [
        WallColumn(provider=name, label=_label(name, of, columns.values()), outage=outages.get(of[0]))
        for name, of in order
    ]


def _rows(
    connection: Connection, page: list[_Place], columns: dict[int, Columns], order: list[tuple[str, list[int]]],
    kind: int, query: WallQuery, today: date, now: datetime,
) -> list[WallRow]:  # fmt: skip
    """Return the rows of a page whole."""
    past = today < now.date()
    tenant_ids, subjects = sorted({place.tenant.id for place in page}), [place.id for place in page]
    cells = _Cells(connection, tenant_ids, kind, today, query.days, subjects, past=past)
    now_of_domains = kind == 1 and not past
    audits = store_domains.newest_findings(connection, tenant_ids, subjects) if now_of_domains else {}
    of: dict[int, list[int]] = defaultdict(list)  # a query for each tenant: with its own domains only, it is short
    for place in page:
        of[place.tenant.id].append(place.id)
    lacks = {id: _lacks(connection, id, of[id]) for id in tenant_ids} if now_of_domains else {}
    plans = {} if past else _plans(connection, tenant_ids, kind, now)
    shown: dict[int, list[tuple[str, int | None]]] = {}
    for id in tenant_ids:
        own = columns[id].names
        shown[id] = [(name, next((i for i in of if i in own or i <= OTHER_PROVIDERS), None)) for name, of in order]
    rows = []
    for place in page:
        tenant, audit = place.tenant, audits.get(place.id)
        fault = next((f for f in audit.findings if f["level"] == "fault"), None) if audit else None
        rows.append(
            WallRow.model_construct(
                tenant=tenant.slug, tenant_name=tenant.name, name=place.name, delivered=place.delivered,
                cells=[cells.show(place.id, provider, name) for name, provider in shown[tenant.id]],
                heaviest=cells.heaviest(place.id, columns[tenant.id]),
                lacks=lacks.get(tenant.id, {}).get(place.name, []), faults=audit.faults if audit else None,
                fault=fault["title"] if fault else None, remedy=fault["remedy"] if fault else None,
                record=fault["record"] if fault else None, warmup=plans.get((tenant.id, place.name), []),
            )
        )  # fmt: skip
    return rows


def wall_json(wall: Wall) -> bytes:
    """A wall as it is sent; it has too many values to look at each once more."""
    return orjson.dumps(wall, default=vars)


class _Cells:
    """Crossings of the wall, from the newest readings."""

    def __init__(
        self, connection: Connection, ids: list[int], kind: int, today: date, days: int, subjects: list[int], *,
        past: bool = False,
    ) -> None:  # fmt: skip
        newest = (store.as_of if past else store.newest)(connection, ids, kind, today, days, subjects)
        keys = zip(newest.subject_id.tolist(), newest.provider_id.tolist(), strict=True)
        self._rows = {key: n for n, key in enumerate(keys)}
        self._margin: list[float] = (newest.margin / 10).tolist()
        self._trends = _trends(newest.tenths)
        self._nothing: list[float | None] = [None] * days
        self._heaviest = _heaviest(newest)
        # What was measured is kept of the newest day only.
        wanted = [] if past else [(subject, provider) for subject, (_, provider, _) in self._heaviest.items()]
        self._measures = store.measures_of(connection, ids, kind, wanted)

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
    """Return what `WallCell.model_construct` makes, without its loop over fields: a wall has ten thousand of them."""
    cell = WallCell.__new__(WallCell)
    values = {"provider": provider, "value": value, "margin": margin, "condition": condition, "trend": trend}
    _set(cell, "__dict__", values)
    _set(cell, "__pydantic_fields_set__", _CELL_FIELDS)
    _set(cell, "__pydantic_extra__", None)
    _set(cell, "__pydantic_private__", None)
    return cell


def _trends(tenths: NDArray[np.int16]) -> list[list[float | None]]:
    """Return by row: one value per day; None for days without a reading."""
    shown: list[list[float | None]] = (tenths / 10).tolist()
    for n in np.nonzero((tenths < 0).any(axis=1))[0]:
        shown[n] = [None if number < 0 else number for number in shown[n]]  # type: ignore[operator]
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


def _lacks(connection: Connection, tenant_id: int, domain_ids: list[int]) -> dict[str, list[Lack]]:
    """Return by domain: each stream and what it lacks."""
    out: dict[str, list[Lack]] = {}
    found = proofs.lacks_of(connection, tenant_id, domain_ids)
    described = {domain for domain, stream in found if stream}
    for (domain, stream), sender in found.items():
        if stream or domain not in described:
            lack = Lack(stream=stream, verified=sender.verified, aligned=sender.aligned, text=sender.summary)
            out.setdefault(domain, []).append(lack)
    return out


def _plans(
    connection: Connection, tenant_ids: list[int], kind: int, now: datetime
) -> dict[tuple[int, str], list[WallWarmup]]:
    """Return by tenant and name of the row: the warm-up plans that are under way."""
    column = {1: "domain", 2: "stream", 3: "relay", 4: "sending_ip"}[kind]
    out: dict[tuple[int, str], list[WallWarmup]] = defaultdict(list)
    by_tenant: dict[int, list[PlanRow]] = defaultdict(list)
    for plan in store_warmup.plans_of(connection, tenant_ids):
        under_way = plan.state in (store_warmup.RUNNING, store_warmup.PAUSED) and plan.starts_on <= now.date()
        if under_way and getattr(plan, column):
            by_tenant[plan.tenant_id].append(plan)
    for tenant_id, rows in by_tenant.items():
        for row, found in zip(rows, warmup_plans.shown(connection, tenant_id, rows, now), strict=True):
            cells = [
                WallWarmupCell(
                    provider=track.provider, step=track.step, per_day=track.per_day, sent=track.sent,
                    held=any(reason.line is not None for reason in track.reasons),
                    why=track.why,
                )
                for track in found.tracks
            ]  # fmt: skip
            out[tenant_id, getattr(row, column)].append(
                WallWarmup(
                    plan=found.name, steps=len(found.steps), per_day=found.per_day, sent=found.sent, cells=cells
                )
            )  # fmt: skip
    return out


def _column_order(columns: Iterable[Columns]) -> list[tuple[str, list[int]]]:
    """(provider, its ids): all first, the others last, between them what most tenants have in front."""
    ranks: dict[str, list[int]] = defaultdict(list)
    ids: dict[str, int] = {}
    for column in columns:
        for rank, (id, name) in enumerate(column.names.items()):
            ranks[name].append(rank)
            ids[name] = id
    names = sorted(ranks, key=lambda name: (-len(ranks[name]), sum(ranks[name]), name))[:20]
    return [(ALL, [ALL_PROVIDERS]), *((name, [ids[name]]) for name in names), (OTHERS, [OTHER_PROVIDERS])]


def _label(name: str, ids: list[int], columns: Iterable[Columns]) -> str:
    if name in (ALL, OTHERS):
        return ALL_LABEL if name == ALL else OTHERS_LABEL
    return next((column.labels[ids[0]] for column in columns if ids[0] in column.labels), name)
