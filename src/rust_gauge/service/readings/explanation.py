"""What changed a reading between two days: factors, providers, streams, and what else happened."""

from collections import defaultdict
from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.readings import Explanation, FactorMove, Move, Reading, StreamMove, Subject
from rust_gauge.core.reputation import COUNTS, NAMES
from rust_gauge.service.providers.providers import columns_of
from rust_gauge.service.readings.annotations import annotations_of
from rust_gauge.service.readings.computation import count
from rust_gauge.service.readings.examination import (
    Examined,
    examine,
    provider_id_of,
    readings_between,
    seen_lately,
    value_at,
)
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import reading_counters
from rust_gauge.store import readings as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import ALL_PROVIDERS

_LEAST_MOVE = 0.05  # points that are a move


def explain_reading(
    context: Context, tenant: TenantAccess, subject: Subject, name: str, provider: str | None, first: date, last: date
) -> Explanation:
    """Explain the difference of a reading between two days, and what else happened."""
    today = context.clock().date()
    if not first < last <= today:
        raise ServiceProblem("invalid-request", "first must be before last, and last not in the future")

    found = examine(context, tenant, subject, name)

    def read(connection: Connection) -> Explanation:
        columns = found.place.columns if found is not None else columns_of(connection, tenant.id, today)
        provider_id = provider_id_of(tenant, columns, provider)
        if found is None or not (first - found.first).days >= 0 or not (last - found.first).days < found.days:
            raise ServiceProblem("not-found", f"{name} does not have readings on both days")
        if provider_id != ALL_PROVIDERS and provider_id not in found.providers:
            raise ServiceProblem("not-found", f"{name} sends no mail there")
        days = [readings_between(found, provider_id, day, day) for day in (first, last)]
        if not all(days):
            raise ServiceProblem("not-found", f"{name} does not have readings on both days")
        (one,), (other,) = days
        moves = _moves(found, provider_id, one, other)
        factors = _factor_moves(found, one, other, moves)
        streams = _stream_moves(connection, tenant, found, subject, first, last, factors)
        domain = name.lower() if subject == "domain" else None
        annotations = annotations_of(connection, tenant, first, last, domain, columns)
        return Explanation(
            subject=subject, name=name, first=one, last=other, factors=factors, moves=moves, streams=streams,
            annotations=annotations,
        )  # fmt: skip

    return context.store.read(read)


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
        measures = [value_at(found, factor, row, number) for number in at]
        moves.append(
            Move(
                factor=key[0], provider=key[1], label=pull.label, before=points[0], after=points[1], change=change,
                unit=pull.unit, measure_before=measures[0], measure_after=measures[1],
            )
        )  # fmt: skip
    return sorted(moves, key=lambda move: (-abs(move.change), move.factor, move.provider))


def _factor_moves(found: Examined, one: Reading, other: Reading, moves: list[Move]) -> list[FactorMove]:
    """Return the moves of each factor together: many small ones of one cause are one line."""
    names = [found.place.columns.name(id) for id in found.providers]
    out = []
    for name in dict.fromkeys(move.factor for move in moves):
        mine = [move for move in moves if move.factor == name]
        rows = [names.index(move.provider) for move in mine]
        factor = found.place.factors[NAMES.index(name)]
        sides = [seen_lately(found, factor, rows, (reading.day - found.first).days) for reading in (one, other)]
        before, after = (round(sum(getattr(move, side) for move in mine), 1) for side in ("before", "after"))
        out.append(
            FactorMove(
                factor=name, before=before, after=after, change=round(after - before, 1), providers=len(mine),
                count_before=sides[0].get("count"), total_before=sides[0].get("total"),
                count_after=sides[1].get("count"), total_after=sides[1].get("total"),
            )
        )  # fmt: skip
    return sorted((move for move in out if abs(move.change) >= _LEAST_MOVE), key=lambda move: -abs(move.change))


def _stream_moves(
    connection: Connection, tenant: TenantAccess, found: Examined, subject: Subject, first: date, last: date,
    moves: list[FactorMove],
) -> list[StreamMove]:  # fmt: skip
    """From which streams of a domain the events of the moved factors came, in the week up to each day."""
    if subject != "domain":
        return []
    counts = {}
    for day in (first, last):
        since = day - timedelta(days=6)
        rows = reading_counters.stream_counters(connection, tenant.id, found.subject_id, since, day)
        counts[day] = count(rows, since, day, {})
    names = store.names_of(connection, tenant.id, 2)
    out = []
    for factor in [move.factor for move in moves[:8]]:
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
    return sorted(out, key=lambda move: -abs(move.after - move.before))[:20]
