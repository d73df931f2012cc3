"""Readings: computed from the day counters, kept by day, shown as series and on the wall."""

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import fields
from datetime import date, timedelta
from typing import Any

import numpy as np
from sqlalchemy import Connection

from rust_gauge.contract.readings import Pull, ReadingSeries, Wall, WallCell, WallColumn, WallRow
from rust_gauge.contract.readings import Reading as ReadingOut
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies import Permanence
from rust_gauge.core.replies.causes import ADDRESS_CAUSES, SENDER_CAUSES
from rust_gauge.core.reputation import DayCounts, Reading, condition_of, overall_readings, provider_readings
from rust_gauge.core.reputation import Pull as CorePull
from rust_gauge.service import proofs
from rust_gauge.service.context import Context
from rust_gauge.service.domains import find_domain
from rust_gauge.service.flow import REPORTS_WITHIN
from rust_gauge.service.problems import ServiceProblem
from rust_gauge.service.providers import ALL, ALL_LABEL, OTHERS, OTHERS_LABEL, Columns, columns_of
from rust_gauge.store import domains as store_domains
from rust_gauge.store import flow, jobs, readings
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.flow import DayLine
from rust_gauge.store.tables import ALL_PROVIDERS, NO_MAIL_PROVIDER, OTHER_PROVIDERS

HISTORY = timedelta(days=400)
_PULL = tuple(field.name for field in fields(CorePull))
_ROWS = ("attempted", "delivered", "bad_addresses", "refusals", "delays", "complaints")


def compute_readings(context: Context, tenant_id: int, domain_id: int) -> int:
    """Compute a domain's readings from its counters and keep them; gives how many."""
    now = context.clock()
    today = now.date()

    def work(connection: Connection) -> int:
        columns = columns_of(connection, tenant_id, today)
        reporting = {columns.place(id) for id in flow.reporting_providers(connection, today - REPORTS_WITHIN)}
        lines = flow.day_lines(connection, tenant_id, domain_id, today - HISTORY)
        rows = [
            {
                "provider_id": provider_id,
                "day": reading.day,
                "value": reading.value,
                "margin": reading.margin,
                "mail": reading.mail,
                "pulls": [{name: getattr(pull, name) for name in _PULL} for pull in reading.pulls],
            }
            for provider_id, series in _series(lines, columns, reporting, today).items()
            for reading in series
        ]
        return readings.replace_readings(connection, tenant_id, domain_id, now, rows)

    return context.store.transaction(work)


def _series(lines: Iterable[DayLine], columns: Columns, reporting: set[int], today: date) -> dict[int, list[Reading]]:
    """Readings by provider id, the overall one among them."""
    lines = [line for line in lines if line.day <= today]
    if not lines:
        return {}
    first = min(line.day for line in lines)
    length = (today - first).days + 1
    counts: dict[int, Any] = defaultdict(lambda: np.zeros((len(_ROWS), length)))
    for line in lines:
        array, day = counts[columns.place(line.provider_id)], (line.day - first).days
        sign = -1 if line.kind is Count.RETURNED else 1
        for row in _rows_of(line):
            array[row, day] += sign * line.n
    per_provider = {
        id: provider_readings(
            columns.name(id),
            first,
            DayCounts(**dict(zip(_ROWS, array, strict=True)), reports_complaints=id in reporting),
        )
        for id, array in counts.items()
    }
    named = {columns.name(id): series for id, series in per_provider.items()}
    return {ALL_PROVIDERS: overall_readings(named), **per_provider}


def _rows_of(line: DayLine) -> list[int]:
    """Which of `_ROWS` a counter adds to."""
    if line.kind in (Count.DELIVERED, Count.RETURNED):  # what is returned was counted as delivered, and is not
        return [0, 1]
    if line.kind is Count.DELAYED:
        return [4]
    if line.kind is Count.COMPLAINED:
        return [5]
    if line.kind is not Count.BOUNCED:
        return []
    if line.cause in SENDER_CAUSES:
        return [0, 3]
    if line.provider_id == NO_MAIL_PROVIDER or (
        line.cause in ADDRESS_CAUSES and line.permanence is Permanence.PERMANENT
    ):
        return [0, 2]
    return [0]


def show_series(
    context: Context, tenant: TenantAccess, domain: str, provider: str | None, first: date | None, last: date | None
) -> ReadingSeries:
    """One domain's readings, overall or at one provider. Without dates: the last ninety days."""
    row = find_domain(context, tenant, domain)
    today = context.clock().date()
    last = last or today
    first = first or last - timedelta(days=89)

    def work(connection: Connection) -> ReadingSeries | None:
        columns = columns_of(connection, tenant.id, today)
        ids = {ALL: ALL_PROVIDERS, OTHERS: OTHER_PROVIDERS, **{name: id for id, name in columns.names.items()}}
        ids |= {columns.label(id): id for id in columns.names}
        provider_id = ids.get(provider or ALL)
        if provider_id is None:
            return None
        found = readings.series(connection, tenant.id, row.id, provider_id, first, last)
        return ReadingSeries(
            tenant=tenant.slug,
            domain=row.name,
            provider=ALL if provider_id == ALL_PROVIDERS else columns.name(provider_id),
            label=ALL_LABEL if provider_id == ALL_PROVIDERS else columns.label(provider_id),
            computed_at=max((each.computed_at for each in found), default=None),
            readings=[_show(each, columns, today) for each in found],
        )

    shown = context.store.transaction(work)
    if shown is None:
        raise ServiceProblem(
            "not-found", f"{provider} has no readings of its own", remedy="Ask for a provider of the wall, or (others)"
        )
    return shown


def _show(row: Any, columns: Columns, today: date) -> ReadingOut:
    value = float(row.value) if row.value is not None else None
    return ReadingOut(
        day=row.day,
        value=value,
        margin=float(row.margin) if row.margin is not None else None,
        condition=str(condition_of(value)) if value is not None else None,
        mail=round(row.mail, 1),
        provisional=row.day >= today,
        pulls=_pulls(row.pulls, columns),
    )


def _pulls(kept: list[dict[str, Any]], columns: Columns) -> list[Pull]:
    """Pulls as they were kept, the heaviest first, with what the tenant calls each provider."""
    labels = {name: columns.label(id) for id, name in columns.names.items()}
    pulls = [Pull(**pull, label=labels.get(pull["provider"], OTHERS_LABEL)) for pull in kept]
    return sorted(pulls, key=lambda pull: -pull.points)


def show_wall(context: Context, tenants: tuple[TenantAccess, ...], days: int) -> Wall:
    """All domains of these tenants by provider, with the trend of `days` days."""
    today = context.clock().date()
    first = today - timedelta(days=days - 1)
    ids = [tenant.id for tenant in tenants]

    def work(connection: Connection) -> Wall:
        if not ids:
            return Wall(day=today, days=days, columns=[], rows=[])
        columns = {tenant.id: columns_of(connection, tenant.id, today) for tenant in tenants}
        trends: dict[tuple[int, int], dict[date, tuple[float | None, float | None]]] = defaultdict(dict)
        for row in readings.window(connection, ids, first, today):
            value = float(row.value) if row.value is not None else None
            margin = float(row.margin) if row.margin is not None else None
            trends[row.domain_id, row.provider_id][row.day] = (value, margin)
        delivered = flow.delivered_by_domain(connection, ids, first, today)
        pulls = readings.pulls_on(connection, ids, ALL_PROVIDERS, today)
        audits = store_domains.newest_audits(connection, ids)
        order = _column_order(columns.values())
        rows = []
        for tenant in tenants:
            lacks = _lacks(connection, tenant.id)
            for domain in store_domains.list_domains(connection, tenant.id):
                cells = []
                for name, ids_of_name in order:
                    id = next((i for i in ids_of_name if i in columns[tenant.id].names or i <= OTHER_PROVIDERS), None)
                    cells.append(_cell(name, trends.get((domain.id, id), {}) if id else {}, first, days))
                heaviest = _pulls(pulls.get(domain.id, []), columns[tenant.id])[:1]
                audit = audits.get(domain.id)
                fault = next((f for f in audit.document["findings"] if f["level"] == "fault"), None) if audit else None
                rows.append(
                    WallRow(
                        tenant=tenant.slug,
                        tenant_name=tenant.name,
                        domain=domain.name,
                        delivered=delivered.get(domain.id, 0),
                        cells=cells,
                        heaviest=heaviest[0] if heaviest else None,
                        lacks=lacks.get(domain.name, []),
                        faults=audit.faults if audit else None,
                        fault=fault["title"] if fault else None,
                        remedy=fault["remedy"] if fault else None,
                        record=fault["record"] if fault else None,
                    )
                )
        labels = {name: _label(name, ids_of_name, columns.values()) for name, ids_of_name in order}
        return Wall(
            day=today,
            days=days,
            columns=[WallColumn(provider=name, label=label) for name, label in labels.items()],
            rows=rows,
        )

    return context.store.transaction(work)


def _lacks(connection: Connection, tenant_id: int) -> dict[str, list[str]]:
    """By domain: each stream and what it lacks."""
    out: dict[str, list[str]] = {}
    found = proofs.lacks_of(connection, tenant_id)
    described = {domain for domain, stream in found if stream}
    for (domain, stream), said in found.items():
        if stream or domain not in described:
            out.setdefault(domain, []).append(f"{stream}: {said}" if stream else said)
    return out


def _column_order(columns: Iterable[Columns]) -> list[tuple[str, list[int]]]:
    """(provider, its ids): all first, the others last, between them what most tenants have in front."""
    ranks: dict[str, list[int]] = defaultdict(list)
    ids: dict[str, int] = {}
    for each in columns:
        for rank, (id, name) in enumerate(each.names.items()):
            ranks[name].append(rank)
            ids[name] = id
    names = sorted(ranks, key=lambda name: (-len(ranks[name]), sum(ranks[name]), name))[:10]
    return [(ALL, [ALL_PROVIDERS]), *((name, [ids[name]]) for name in names), (OTHERS, [OTHER_PROVIDERS])]


def _label(name: str, ids: list[int], columns: Iterable[Columns]) -> str:
    if name in (ALL, OTHERS):
        return ALL_LABEL if name == ALL else OTHERS_LABEL
    return next((each.labels[ids[0]] for each in columns if ids[0] in each.labels), name)


def _cell(name: str, trend: dict[date, tuple[float | None, float | None]], first: date, days: int) -> WallCell:
    values = [trend.get(first + timedelta(days=day), (None, None)) for day in range(days)]
    value, margin = values[-1]
    return WallCell(
        provider=name,
        value=value,
        margin=margin,
        condition=str(condition_of(value)) if value is not None else None,
        trend=[each for each, _ in values],
    )


def ask_for_stale(context: Context) -> int:
    """Have the readings of all domains computed that end before today; gives how many."""
    now = context.clock()

    def work(connection: Connection) -> int:
        stale = readings.stale_domains(connection, now.date())
        for tenant_id, domain_id in stale:
            jobs.enqueue(connection, "readings", tenant_id, domain_id, now)
        return len(stale)

    return context.store.transaction(work)
