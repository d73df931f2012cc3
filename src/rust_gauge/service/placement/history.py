"""Placement over time: a series for each provider, the day it turned, and what else changed then."""

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.flow import Rate
from rust_gauge.contract.placement import (
    DayReading,
    PlacementHistory,
    PlacementPoint,
    PlacementTurn,
    ProviderHistory,
    TurnChange,
)
from rust_gauge.core.mailflow.rates import Rate as Share
from rust_gauge.core.placement import JUDGED, Outcome
from rust_gauge.core.placement.turns import Point, Turn, find_turn
from rust_gauge.service.placement.runs import names_of
from rust_gauge.service.providers.providers import columns_of
from rust_gauge.service.readings.annotations import annotations_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import placement, placement_days, providers
from rust_gauge.store import readings as store_readings
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement import RunMoment

_BY_RUN = 400  # runs up to which each is a point of its own
_KNOWN = frozenset(outcome.value for outcome in JUDGED)
_LONG_AGO = datetime(2000, 1, 1, tzinfo=UTC)
_MOST_CHANGES = 300  # the newest
_RESIZED = 0.1  # of the larger size, from which a message of another size is another one


@dataclass(frozen=True, slots=True)
class _Sum:
    """What became of the copies of a run (0: of a day) to a provider. `judged`: of how many copies that is known."""

    run: int
    at: datetime
    outlet: str
    counts: Mapping[str, int]
    judged: int


def placement_history(
    context: Context, tenant: TenantAccess, last: date | None, days: int, outlet: str
) -> PlacementHistory:
    """Return placement at each provider on so many days up to the last one, which is today without it.

    `outlet`: only runs through this one; empty: all.
    """
    today = context.clock().date()
    last = last or today
    first = last - timedelta(days=days - 1)
    since, until = (datetime.combine(day, time(), UTC) for day in (first, last + timedelta(days=1)))

    def read(connection: Connection) -> PlacementHistory:
        runs = placement.count_between(connection, tenant.id, since, until, outlet)
        newest = placement.moments_between(connection, tenant.id, since, until, outlet, newest=_BY_RUN)
        by_run = runs <= _BY_RUN
        sums = _by_run(connection, newest) if by_run else _by_day(connection, tenant.id, first, last, outlet)
        domain = newest[-1].domain if newest else ""
        columns = columns_of(connection, tenant.id, today)
        noted = annotations_of(connection, tenant, first, last, domain or None, columns)
        changes = [(each.provider, TurnChange(day=each.day, kind=each.kind, text=each.text)) for each in noted]
        for before, run in placement.changes_between(
            connection, tenant.id, since, until, outlet, _RESIZED, _MOST_CHANGES
        ):
            changes += [("", change) for change in _own_changes(before, run)]
        outlets = placement.outlets_of(connection, tenant.id)
        for name, (at, _) in outlets.items():
            if since <= at < until and outlet in ("", name):
                new = TurnChange(day=at.date(), kind="outlet", text=f"first run through {name}")
                changes.append(("", new))
        changes.sort(key=lambda change: change[1].day)
        names = names_of(connection, tenant.id).providers
        readings = _readings(connection, tenant.id, domain, first, last)
        return PlacementHistory(
            first=first, last=last, outlet=outlet,
            outlets=sorted(name for name, (at, newest_at) in outlets.items() if at < until and newest_at >= since),
            runs=runs,
            by="run" if by_run else "day", domain=domain,
            providers=[
                ProviderHistory(
                    provider=provider, label=names.get(provider, provider),
                    points=[_point(each) for each in sums[provider]],
                    turn=_turn(connection, tenant.id, sums[provider], changes, (provider, names.get(provider, ""))),
                    readings=readings.get(provider, []),
                )
                for provider in sorted(sums)
            ],
            changes=[change for _, change in changes][-_MOST_CHANGES:],
        )  # fmt: skip

    return context.store.read(read)


def _by_run(connection: Connection, runs: Sequence[RunMoment]) -> dict[str, list[_Sum]]:
    counts: dict[tuple[str, int], Counter[str]] = defaultdict(Counter)
    for row in placement.counts_of(connection, [run.id for run in runs]):
        counts[row.provider, row.run_id][row.outcome] += row.copies
    sums: dict[str, list[_Sum]] = {provider: [] for provider, _ in counts}
    for run in runs:
        for provider, found in sums.items():
            if (provider, run.id) in counts:
                found.append(_sum(run.id, run.at, run.outlet_name, counts[provider, run.id]))
    return sums


def _by_day(connection: Connection, tenant_id: int, first: date, last: date, outlet: str) -> dict[str, list[_Sum]]:
    counts: dict[tuple[str, date], Counter[str]] = defaultdict(Counter)
    for row in placement_days.days_between(connection, tenant_id, first, last, outlet):
        counts[row.provider, row.day][row.outcome] += row.copies
    sums: dict[str, list[_Sum]] = defaultdict(list)
    for (provider, day), of in counts.items():
        sums[provider].append(_sum(0, datetime.combine(day, time(), UTC), outlet, of))
    return sums


def _sum(run: int, at: datetime, outlet: str, counts: Mapping[str, int]) -> _Sum:
    return _Sum(run, at, outlet, counts, sum(number for outcome, number in counts.items() if outcome in _KNOWN))


def _point(of: _Sum) -> PlacementPoint:
    inbox, spam, other = (of.counts.get(outcome, 0) for outcome in (Outcome.INBOX, Outcome.SPAM, Outcome.OTHER))
    return PlacementPoint(
        run=of.run, at=of.at, outlet=of.outlet, inbox=inbox, spam=spam, other=other,
        lost=of.judged - inbox - spam - other, judged=of.judged,
    )  # fmt: skip


def _turn(
    connection: Connection, tenant_id: int, sums: Sequence[_Sum], changes: Sequence[tuple[str, TurnChange]],
    names: tuple[str, str],
) -> PlacementTurn | None:  # fmt: skip
    turn = find_turn([Point(each.at, each.counts.get(Outcome.INBOX, 0), each.judged) for each in sums])
    if turn is None:
        return None
    there = [
        change for provider, change in changes
        if turn.last_before.date() <= change.day <= turn.at.date() and (not provider or provider in names)
    ]  # fmt: skip
    there += _around(connection, tenant_id, turn)
    return PlacementTurn(
        at=turn.at, last_before=turn.last_before, before=_rate(turn.before), after=_rate(turn.after),
        worse=turn.is_worse, chance=turn.chance, changes=list({(c.kind, c.text): c for c in there}.values()),
    )  # fmt: skip


def _around(connection: Connection, tenant_id: int, turn: Turn) -> list[TurnChange]:
    """Return by what the first run of a turn differs from the one before it, through the same outlet if it can be."""
    first = placement.first_moment(connection, tenant_id, turn.at)
    if first is None:
        return []
    for outlet in (first.outlet_name, ""):
        before = placement.moments_between(connection, tenant_id, _LONG_AGO, first.at, outlet, newest=1)
        if before:
            return _own_changes(before[0], first)
    return []


def _own_changes(before: RunMoment, after: RunMoment) -> list[TurnChange]:
    """Return what changed in what was sent."""
    found = _content_changes(before, after)
    if before.outlet_name != after.outlet_name:
        text = f"{before.outlet_name} before, {after.outlet_name} then"
        found.insert(0, TurnChange(day=after.at.date(), kind="outlet", text=text))
    return found


def _content_changes(before: RunMoment, after: RunMoment) -> list[TurnChange]:
    texts = [
        f"{was} before, {is_now} then"
        for was, is_now in ((before.series, after.series), (before.header_from, after.header_from)) if was != is_now
    ]  # fmt: skip
    if abs(after.size - before.size) > _RESIZED * max(after.size, before.size):
        texts.append(f"{before.size:,} octets before, {after.size:,} then")
    return [TurnChange(day=after.at.date(), kind="content", text=text) for text in texts]


def _readings(
    connection: Connection, tenant_id: int, domain: str, first: date, last: date
) -> dict[str, list[DayReading]]:
    """Return a domain's readings by provider."""
    ids = [id for id, name in store_readings.names_of(connection, tenant_id, 1).items() if name == domain]
    series = (
        [store_readings.unpack(row) for row in store_readings.histories(connection, tenant_id, 1, ids)] if ids else []
    )
    names = providers.names(connection, [each.provider_id for each in series])
    found: dict[str, list[DayReading]] = {}
    for each in series:
        days = ((each.first + timedelta(days=at), int(tenths)) for at, tenths in enumerate(each.tenths))
        found[names.get(each.provider_id, "")] = [
            DayReading(day=day, value=tenths / 10) for day, tenths in days if first <= day <= last and tenths >= 0
        ]
    return found


def _rate(share: Share) -> Rate:
    return Rate(value=share.value, low=share.low, high=share.high, count=share.count, total=share.total)
