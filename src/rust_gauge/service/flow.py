"""Mail flow per provider, from the counters."""

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import asdict
from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.flow import CauseRow, Counts, Flow, FlowRow, Rate
from rust_gauge.core.mailflow import FlowCounts
from rust_gauge.core.mailflow import Rate as CoreRate
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.service.context import Context
from rust_gauge.service.domains import find_domain
from rust_gauge.service.problems import ServiceProblem
from rust_gauge.service.providers import ALL, ALL_LABEL, columns_of
from rust_gauge.store import flow as store_flow
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.flow import FlowLine
from rust_gauge.store.tables import OTHER_PROVIDERS

REPORTS_WITHIN = timedelta(days=180)  # a provider that sent no complaint for so long is taken not to report any


def show_flow(
    context: Context, tenant: TenantAccess, domain: str | None, first: date | None, last: date | None
) -> Flow:
    """Mail of a period beside the period before. Without dates: the last seven days, today included."""
    today = context.clock().date()
    last = last or today
    first = first or last - timedelta(days=6)
    if first > last:
        raise ServiceProblem("invalid-request", f"The period begins ({first}) after it ends ({last})")
    length = (last - first).days + 1
    if length > 800:
        raise ServiceProblem("invalid-request", f"A period of {length} days is too long; 800 are allowed")
    domain_row = find_domain(context, tenant, domain) if domain else None
    domain_id = domain_row.id if domain_row else None

    def work(connection: Connection) -> Flow:
        columns = columns_of(connection, tenant.id, today)
        reporting = store_flow.reporting_providers(connection, today - REPORTS_WITHIN)
        lines = store_flow.flow_lines(connection, tenant.id, first, last, domain_id)
        span = timedelta(days=length)
        earlier = store_flow.flow_lines(connection, tenant.id, first - span, last - span, domain_id)
        now_by, before_by = _by_place(lines, columns.place), _by_place(earlier, columns.place)
        others_report = any(columns.place(id) == OTHER_PROVIDERS for id in reporting)
        rows = []
        for id in [*columns.names, OTHER_PROVIDERS]:
            counts, before = now_by.get(id, FlowCounts()), before_by.get(id, FlowCounts())
            if counts != FlowCounts() or before != FlowCounts():
                reports = id in reporting or (id == OTHER_PROVIDERS and others_report)
                rows.append(_row(columns.name(id), columns.label(id), counts, before, reports))
        total = _row(ALL, ALL_LABEL, _sum(now_by.values()), _sum(before_by.values()), bool(reporting))
        return Flow(
            tenant=tenant.slug,
            domain=domain_row.name if domain_row else None,
            first_day=first,
            last_day=last,
            total=total,
            providers=rows,
            causes=_causes(lines),
        )

    return context.store.transaction(work)


def _by_place(lines: Iterable[FlowLine], place: object) -> dict[int, FlowCounts]:
    out: dict[int, FlowCounts] = defaultdict(FlowCounts)
    for line in lines:
        out[place(line.provider_id)].add(line.kind, line.permanence, line.n)  # type: ignore[operator]
    return out


def _sum(counts: Iterable[FlowCounts]) -> FlowCounts:
    return sum(counts, FlowCounts())


def _row(provider: str, label: str, counts: FlowCounts, before: FlowCounts, reports: bool) -> FlowRow:
    return FlowRow(
        provider=provider,
        label=label,
        counts=Counts(**asdict(counts)),
        permanent=_rate(counts.permanent_rate),
        transient=_rate(counts.transient_rate),
        delayed=_rate(counts.delay_rate),
        complaints=_rate(counts.complaint_rate) if reports else None,
        reports_complaints=reports,
        before=Counts(**asdict(before)),
    )


def _rate(rate: CoreRate | None) -> Rate | None:
    return Rate(**asdict(rate)) if rate is not None else None


def _causes(lines: Iterable[FlowLine]) -> list[CauseRow]:
    sums: dict[Cause, list[int]] = defaultdict(lambda: [0, 0])
    for line in lines:
        if line.kind in (Count.BOUNCED, Count.DELAYED):
            sums[line.cause][line.permanence is Permanence.PERMANENT] += line.n
    ordered = sorted(sums.items(), key=lambda item: -sum(item[1]))
    return [CauseRow(cause=str(cause), transient=n[0], permanent=n[1]) for cause, n in ordered]
