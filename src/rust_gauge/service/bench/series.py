"""A template over time: the messages of one series, the spread of their marks, and how much goes with the path."""

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import asdict
from statistics import fmean
from typing import TypeAlias

from sqlalchemy import Connection

from rust_gauge.contract.bench import (
    RepeatPath,
    Series,
    SeriesPlacement,
    SeriesPoint,
    SeriesRule,
    SeriesSummary,
)
from rust_gauge.contract.flow import Rate
from rust_gauge.core.assay import built_in
from rust_gauge.core.bench import spread
from rust_gauge.core.mailflow.rates import rate
from rust_gauge.core.placement import JUDGED, Outcome
from rust_gauge.service.bench.trays import find_tray
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import caught, placement
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.caught import CaughtQuery, CaughtRow
from rust_gauge.store.placement import CountRow, RunRow
from rust_gauge.store.readings import readings_of_days

_MOST = 500  # messages of a series that are looked at, the newest


def list_series(context: Context, tenant: TenantAccess, name: str) -> list[SeriesSummary]:
    """Return the templates in a tray, those with the newest message first."""
    row = find_tray(context, tenant, name)
    rows = context.store.transaction(lambda c: caught.series_in(c, row.id))
    return [
        SeriesSummary(
            series=each.series, count=each.count, newest_at=each.arrived_at, newest_id=each.newest, mark=each.mark
        )
        for each in rows
    ]


def get_series(context: Context, tenant: TenantAccess, name: str, series: str) -> Series:
    """Return the messages of a template and what their marks have in common. ServiceProblem `not-found`."""
    tray = find_tray(context, tenant, name)
    query = CaughtQuery(tray.id, series=series, limit=_MOST)

    def read(connection: Connection) -> tuple[list[CaughtRow], dict[str, float], list[RunRow], list[CountRow]]:
        found = caught.find_messages(connection, query)[::-1]
        if not found:
            return [], {}, [], []
        days = (found[0].arrived_at.date(), found[-1].arrived_at.date())
        runs = placement.runs_of_series(connection, tray.tenant_id, series, _MOST)
        counts = placement.counts_of(connection, [run.id for run in runs])
        return found, readings_of_days(connection, tray.tenant_id, _domain(found[-1]), *days), runs, counts

    rows, readings, runs, counts = context.store.transaction(read)
    if not rows:
        raise ServiceProblem("not-found", f"The tray {name} has no messages of the series {series[:80]}")
    examined = [row for row in rows if row.mark is not None]
    marks = [row.mark for row in examined if row.mark is not None]
    paths = _paths(examined)
    return Series(
        series=series, domain=_domain(rows[-1]),
        points=[
            SeriesPoint.model_validate(
                {
                    "id": row.id, "arrived_at": row.arrived_at, "mark": row.mark, "worst": row.worst,
                    "client_ip": row.client_ip, "reading": readings.get(str(row.arrived_at.date())),
                }
            )
            for row in rows
        ],
        placement=_placement(runs, counts), examined=len(examined),
        least=min(marks, default=None), most=max(marks, default=None),
        mean=round(fmean(marks), 2) if marks else None, paths=paths,
        share_of_path=_share(examined), rules=_rules(examined),
    )  # fmt: skip


def _placement(runs: Sequence[RunRow], counts: Sequence[CountRow]) -> list[SeriesPlacement]:
    inside: Counter[int] = Counter()
    judged: Counter[int] = Counter()
    for count in counts:
        if count.outcome in JUDGED:
            judged[count.run_id] += count.copies
            inside[count.run_id] += count.copies if count.outcome == Outcome.INBOX else 0
    out = []
    for run in runs:
        share = rate(inside[run.id], judged[run.id])
        shown = None if share is None else Rate.model_validate(asdict(share))
        out.append(
            SeriesPlacement(run=run.id, at=run.started_at or run.created_at, outlet=run.outlet_name, inbox=shown)
        )
    return out


def _domain(row: CaughtRow) -> str:
    return row.header_from.rpartition("@")[2].lower()


_Path: TypeAlias = tuple[str, str]  # address and HELO name


def _by_path(rows: Sequence[CaughtRow]) -> dict[_Path, list[float]]:
    found: dict[_Path, list[float]] = defaultdict(list)
    for row in rows:
        if row.mark is not None and row.client_ip:
            found[row.client_ip, row.helo].append(row.mark)
    return found


def _paths(rows: Sequence[CaughtRow]) -> list[RepeatPath]:
    out = []
    for (ip, helo), marks in _by_path(rows).items():
        out.append(
            RepeatPath(client_ip=ip, helo=helo, count=len(marks), marks=marks[-50:], least=min(marks), most=max(marks),
                       mean=round(fmean(marks), 2))
        )  # fmt: skip
    return out


def _share(rows: Sequence[CaughtRow]) -> float | None:
    found = spread(_by_path(rows))
    return None if found is None else round(found, 3)


def _rules(rows: Sequence[CaughtRow]) -> list[SeriesRule]:
    """Return rules that did not take the same from all messages, those that vary most first."""
    taken = [{str(rule): float(points) for rule, points, _ in row.points or []} for row in rows]
    seen = Counter(rule for each in taken for rule in each)
    known = {rule.key: rule for rule in built_in().rules}
    out = []
    for rule, count in seen.items():
        points = [each.get(rule, 0.0) for each in taken]
        if len({*points}) > 1:
            title = known[rule].title if rule in known else rule
            out.append(SeriesRule(rule=rule, title=title, seen=count, points=points))
    return sorted(out, key=lambda each: min(each.points) - max(each.points))
