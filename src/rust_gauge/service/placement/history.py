"""Placement over time: a series for each provider, the day it turned, and what else changed then."""

from collections.abc import Sequence
from datetime import UTC, date, datetime, time, timedelta
from email.utils import parseaddr

from sqlalchemy import Connection

from rust_gauge.contract.flow import Rate
from rust_gauge.contract.placement import PlacementHistory, PlacementPoint, PlacementTurn, ProviderHistory, TurnChange
from rust_gauge.core.mailflow.rates import Rate as Share
from rust_gauge.core.placement import ProviderPlacement, sum_up
from rust_gauge.core.placement.outcomes import Outcome
from rust_gauge.core.placement.turns import Point, Turn, find_turn
from rust_gauge.service.readings.annotations import list_annotations
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import placement
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement import CountRow, RunRow

_MOST_RUNS = 3000  # the newest of the period


def placement_history(
    context: Context, tenant: TenantAccess, last: date | None, days: int, outlet: str
) -> PlacementHistory:
    """Return placement at each provider on so many days up to the last one, which is today without it.

    `outlet`: only runs through this one; empty: all.
    """
    last = last or context.clock().date()
    since, until = (datetime.combine(last - timedelta(days=back), time(), UTC) for back in (days - 1, -1))

    def read(connection: Connection) -> tuple[list[RunRow], list[CountRow]]:
        rows = placement.runs_between(connection, tenant.id, since, until, outlet, _MOST_RUNS)
        return rows, placement.counts_of(connection, [row.id for row in rows])

    runs, counts = context.store.transaction(read)
    by_run: dict[int, list[CountRow]] = {}
    for count in counts:
        by_run.setdefault(count.run_id, []).append(count)
    series: dict[str, list[tuple[RunRow, ProviderPlacement]]] = {}
    for run in runs:
        for placed in sum_up((row.provider, Outcome(row.outcome), row.copies) for row in by_run.get(run.id, ())):
            series.setdefault(placed.provider, []).append((run, placed))
    providers = [_provider(context, tenant, provider, series[provider]) for provider in sorted(series)]
    outlets = context.store.transaction(lambda c: placement.outlets_between(c, tenant.id, since, until))
    return PlacementHistory(
        first=since.date(), last=last, outlet=outlet, outlets=outlets, runs=len(runs), providers=providers
    )


def _provider(
    context: Context, tenant: TenantAccess, provider: str, series: Sequence[tuple[RunRow, ProviderPlacement]]
) -> ProviderHistory:
    turn = find_turn([Point(_at(run), placed.counts.get(Outcome.INBOX, 0), placed.judged) for run, placed in series])
    points = [
        PlacementPoint(
            run=run.id, at=_at(run), outlet=run.outlet_name, inbox=placed.counts.get(Outcome.INBOX, 0),
            spam=placed.counts.get(Outcome.SPAM, 0), other=placed.counts.get(Outcome.OTHER, 0),
            lost=placed.counts.get(Outcome.MISSING, 0) + placed.counts.get(Outcome.REFUSED, 0), judged=placed.judged,
        )
        for run, placed in series
    ]  # fmt: skip
    shown = None if turn is None else _turn(context, tenant, provider, turn, [run for run, _ in series])
    return ProviderHistory(provider=provider, points=points, turn=shown)


def _turn(context: Context, tenant: TenantAccess, provider: str, turn: Turn, runs: Sequence[RunRow]) -> PlacementTurn:
    first = next(run for run in runs if _at(run) == turn.at)
    before = next(run for run in runs if _at(run) == turn.last_before)
    domain = parseaddr(first.header_from)[1].rpartition("@")[2].lower()
    noted = list_annotations(context, tenant, turn.last_before.date(), turn.at.date(), domain or None)
    changes = [
        TurnChange(day=each.day, kind=each.kind, text=each.text)
        for each in noted if not each.provider or each.provider == provider
    ]  # fmt: skip
    for kind, was, is_now in (
        ("outlet", before.outlet_name, first.outlet_name), ("content", before.subject, first.subject),
        ("content", before.header_from, first.header_from),
    ):  # fmt: skip
        if was != is_now:
            changes.append(TurnChange(day=turn.at.date(), kind=kind, text=f"{was} before, {is_now} then"))
    if abs(first.size - before.size) > 0.1 * max(first.size, before.size):
        sizes = f"{before.size:,} octets before, {first.size:,} then"
        changes.append(TurnChange(day=turn.at.date(), kind="content", text=sizes))
    return PlacementTurn(
        at=turn.at, last_before=turn.last_before, before=_rate(turn.before), after=_rate(turn.after),
        worse=turn.is_worse, chance=turn.chance, changes=changes,
    )  # fmt: skip


def _rate(share: Share) -> Rate:
    return Rate(value=share.value, low=share.low, high=share.high, count=share.count, total=share.total)


def _at(run: RunRow) -> datetime:
    return (run.started_at or run.created_at).replace(tzinfo=UTC)
