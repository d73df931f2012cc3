"""One subject's counts and readings, computed from its counters when they are asked for.

It is the same arithmetic as that of the readings that are stored, so each number can be opened. An examination is used
again until something that it was computed from changes in the tenant (`changes`).
"""

from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from threading import Lock
from typing import Any, TypeVar, cast

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.contract.readings import Pull, PullsShown, Reading, Subject, Unit
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.core.reputation import (
    COUNTS,
    NO_VALUE,
    Readings,
    Surroundings,
    condition_of,
    exposure,
    over_providers,
    read,
    split,
)
from rust_gauge.core.reputation.factors import Factor, Kind
from rust_gauge.service.providers.providers import ALL, OTHERS, Columns
from rust_gauge.service.readings.computation import (
    EVENTS_OF,
    Counted,
    Place,
    count,
    first_day,
    place_of,
    rows_of,
    surroundings,
)
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.store import changes
from rust_gauge.store import readings as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.readings import KINDS
from rust_gauge.store.tables import ALL_PROVIDERS, OTHER_PROVIDERS

_SEEN_DAYS = 7  # as in the mail flow and beside lines
UNITS: dict[Kind, Unit] = {
    Kind.RATE: "rate", Kind.ENGAGEMENT: "times", Kind.VOLUME: "doublings", Kind.AUDIT: "faults",
}  # fmt: skip


T = TypeVar("T")
_INPUTS: frozenset[changes.What] = frozenset(
    ("events", "readings", "domains", "placement", "reports", "warmup", "settings")
)
_FRESH = timedelta(minutes=1)  # after that, changes are seen, too, that only other tenants' mail made
_OCTETS = 48 * 2**20  # of examinations in a process


@dataclass(frozen=True, slots=True)
class Examined:
    """One subject's counts and readings at every provider. Nothing of it is changed, so that it can be shared."""

    place: Place
    subject_id: int
    counted: Counted
    around: Surroundings
    readings: Readings
    _derived: dict[Hashable, Any] = field(default_factory=dict, compare=False)

    def once(self, key: Hashable, compute: Callable[[], T]) -> T:
        """Return what was computed from this examination under a key, computed at the first call."""
        if key not in self._derived:
            self._derived[key] = compute()
        return cast(T, self._derived[key])

    @property
    def whole(self) -> Readings:
        """The readings over all providers."""
        return self.once("whole", lambda: over_providers(self.readings))

    @property
    def octets(self) -> int:
        """The memory of its arrays, about: what is derived from them is some of the same size."""
        measures = self.readings.measures
        arrays: list[NDArray[Any]] = [
            self.counted.counts,
            self.readings.pulls,
            self.readings.mail,
            self.readings.tenths,
        ]
        arrays += [measures.value, measures.low, measures.high] if measures else []
        return 2 * sum(array.nbytes for array in arrays)

    @property
    def providers(self) -> list[int]:
        return [provider for _, provider in self.counted.series]

    @property
    def days(self) -> int:
        return int(self.readings.tenths.shape[1])

    @property
    def first(self) -> date:
        return self.counted.first


Key = tuple[int, int, str, str, date]  # store, tenant, subject, name, day
Numbers = tuple[tuple[str, int], ...]


@dataclass(frozen=True, slots=True)
class _Kept:
    examined: Examined
    numbers: Numbers
    since: datetime


class Examinations:
    """Examinations of a process that may still be true, those used last; bounded by their memory."""

    def __init__(self, octets: int = _OCTETS) -> None:
        self._most = octets
        self._held = 0
        self._kept: OrderedDict[Key, _Kept] = OrderedDict()
        self._lock = Lock()

    def get(self, key: Key, numbers: Numbers, now: datetime) -> Examined | None:
        """Return an examination whose inputs did not change since; None where there is none."""
        with self._lock:
            kept = self._kept.get(key)
            if kept is None or kept.numbers != numbers or not timedelta(0) <= now - kept.since < _FRESH:
                return None
            self._kept.move_to_end(key)
            return kept.examined

    def put(self, key: Key, numbers: Numbers, now: datetime, examined: Examined) -> None:
        """Keep an examination that was computed from what these numbers stand for."""
        with self._lock:
            if (before := self._kept.pop(key, None)) is not None:
                self._held -= before.examined.octets
            self._kept[key] = _Kept(examined, numbers, now)
            self._held += examined.octets
            while self._held > self._most and self._kept:
                _, oldest = self._kept.popitem(last=False)
                self._held -= oldest.examined.octets


def kind_of(subject: Subject) -> int:
    return KINDS.index(subject) + 1


def examine(context: Context, tenant: TenantAccess, subject: Subject, name: str) -> Examined | None:
    """Compute one subject's readings now; None where it has no mail. ServiceProblem `not-found` for an unknown name.

    A page asks four questions about a subject at once: whoever asks while it is computed gets the same. It runs in a
    transaction of its own: those who wait hold no connection, as there may be none left for the one they wait for.
    """
    now = context.clock()
    key = (id(context.store), tenant.id, subject, name, now.date())
    with _lock:
        running = _running.get(key)
        mine: Future[Examined | None] = Future()
        if running is None:
            _running[key] = mine
    if running is not None:
        return running.result()
    try:
        examinations: Examinations = context.memory.setdefault(_MEMORY, Examinations())
        found = context.store.transaction(lambda c: _kept_or_new(c, examinations, key, tenant, now))
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


_running: dict[Key, "Future[Examined | None]"] = {}
_MEMORY = "examinations"


def _kept_or_new(
    connection: Connection, examinations: Examinations, key: Key, tenant: TenantAccess, now: datetime
) -> Examined | None:
    # Read first, in the same snapshot as the inputs: what changes after it has another number.
    found = changes.numbers(connection, [tenant.id])
    numbers = tuple(sorted((what, n) for (_, what), n in found.items() if what in _INPUTS))
    kept = examinations.get(key, numbers, now)
    if kept is not None:
        return kept
    _, _, subject, name, today = key
    examined = _examine(connection, tenant, cast(Subject, subject), name, today)
    if examined is not None:
        examinations.put(key, numbers, now, examined)
    return examined


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
    found = store.find_subject(connection, tenant.id, kind_of(subject), name)
    if found is None:
        names = store.names_of(connection, tenant.id, kind_of(subject)).values()
        what = {"ip": "sending address"}.get(subject, subject)
        raise unknown_name(tenant.name, what, name, names)
    return found


def provider_id_of(tenant: TenantAccess, columns: Columns, provider: str | None) -> int:
    """Return the id of a column of the wall. ServiceProblem `not-found` for a provider that has none."""
    ids = {ALL: ALL_PROVIDERS, OTHERS: OTHER_PROVIDERS, **{name: id for id, name in columns.names.items()}}
    ids |= {columns.label(id): id for id in columns.names}
    found = ids.get(provider or ALL)
    if found is None:
        raise unknown_name(tenant.name, "readings at provider", provider or ALL, ids)
    return found


def readings_between(
    found: Examined, provider_id: int, first: date, last: date, pulls: PullsShown = "all"
) -> list[Reading]:
    """Return readings of days within the examined ones, overall or at one provider; with all pulls, or of days before
    the last with the heaviest alone."""
    start = max(0, (first - found.first).days)
    end = min(found.days, (last - found.first).days + 1)
    whole = found.whole if provider_id == ALL_PROVIDERS else None
    row = 0 if whole is not None else found.providers.index(provider_id)
    shown = whole or found.readings
    out = []
    for at in range(start, end):
        of_day, factors = _pulls(found, at, row, whole, None if pulls == "all" or at == end - 1 else 1)
        tenths = int(shown.tenths[row, at])
        value = None if tenths == NO_VALUE else tenths / 10
        day = found.first + timedelta(days=at)
        out.append(
            Reading(
                day=day, value=value, margin=None if value is None else int(shown.margin[row, at]) / 10,
                condition=None if value is None else condition_of(value).value,
                mail=round(float(shown.mail[row, at]), 1), provisional=day >= found.place.today,
                factors=factors if value is not None else {}, pulls=of_day if value is not None else [],
            )
        )  # fmt: skip
    seen = next((n for n, reading in enumerate(out) if reading.mail > 0), len(out))
    return out[seen:]  # from the first mail on


def _pulls(
    found: Examined, at: int, row: int, whole: Readings | None, most: int | None
) -> tuple[list[Pull], dict[Any, float]]:
    """Return pulls of a day, the heaviest first, `most` of them, and the points of each factor: of one provider's
    reading, or of that over all."""
    if whole is None:
        rows, tenths = [row], found.readings.pulls[:, [row], at]
    else:
        rows, tenths = list(range(len(found.providers))), split(found.readings, whole, at)
    columns = found.place.columns
    names = [factor.name for factor in found.place.factors]
    sums = tenths.sum(axis=1)
    factors = {names[at]: int(sums[at]) / 10 for at in np.flatnonzero(sums)}
    listed = tenths != 0 if most is None else (tenths != 0) & (tenths == tenths.max(initial=0))
    there = sorted(
        ((int(f), int(r)) for f, r in zip(*np.nonzero(listed), strict=True)),
        key=lambda cell: (-tenths[cell], names[cell[0]], columns.name(found.providers[rows[cell[1]]])),
    )
    pulls = []
    for factor_at, row_at in there[:most]:
        provider = found.providers[rows[row_at]]
        factor = found.place.factors[factor_at]
        measure, low, high = measured_at(found, int(factor_at), rows[row_at], at)
        kinds, causes = EVENTS_OF.get(factor.name, ([], []))
        pulls.append(
            Pull(
                factor=factor.name, provider=columns.name(provider), label=columns.label(provider),
                points=int(tenths[factor_at, row_at]) / 10, unit=UNITS[factor.kind], measure=measure, low=low,
                high=high, watch=factor.watch, stop=factor.stop, kinds=kinds, causes=causes, days=_SEEN_DAYS,
                **seen_lately(found, factor, [rows[row_at]], at),
            )
        )  # fmt: skip
    return pulls, factors


def seen_lately(found: Examined, factor: Factor, rows: Sequence[int], at: int) -> dict[str, Any]:
    """Return what a factor's measures are about, as plain counts of the last days at these providers: `count` of
    `total`. Where nothing is reported it is that of the subject's other providers, and `elsewhere`.
    """
    if factor.kind not in (Kind.RATE, Kind.ENGAGEMENT):
        return {}
    seen_at = [row for row in rows if factor.name != "complaints" or found.around.reports[row]]
    other = not seen_at
    if other:
        seen_at = np.flatnonzero(found.around.reports).tolist()
    events, mail = found.once(("sums", factor), lambda: _sums(found, factor))
    before = max(0, at - _SEEN_DAYS + 1)
    count, total = (round(sum(float(of[row, at + 1] - of[row, before]) for row in seen_at)) for of in (events, mail))
    return {"count": count, "total": total, **({"elsewhere": True} if other else {})}


def _sums(found: Examined, factor: Factor) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return a factor's events, and the mail they are counted against: (series, days + 1) sums of the days before."""
    counts = dict(zip(COUNTS, found.counted.counts, strict=True))
    if factor.kind is Kind.ENGAGEMENT:
        of = counts["opened"], counts["delivered"]
    else:
        of = counts[factor.name], exposure(factor, counts)
    events, mail = (np.pad(np.cumsum(each, axis=1), ((0, 0), (1, 0))) for each in of)
    return events, mail


def value_at(found: Examined, factor: int, row: int, at: int) -> float | None:
    """Return what a factor measures on a day; None where it cannot be measured."""
    measures = found.readings.measures
    assert measures is not None
    value = float(measures.value[factor, row, at])
    return None if np.isnan(value) else round(value, 7)


def measured_at(found: Examined, factor: int, row: int, at: int) -> tuple[float, float, float]:
    measures = found.readings.measures
    assert measures is not None
    values = (float(part[factor, row, at]) for part in (measures.value, measures.low, measures.high))
    return tuple(0.0 if value != value else round(value, 7) for value in values)  # type: ignore[return-value]
