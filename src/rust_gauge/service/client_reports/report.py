"""A report on a period: how each domain stood beside the period before, what was fixed, what is next.

Its values are collected once; text, page and mail show the same ones.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta

from rust_gauge.contract.client_reports import (
    Report,
    ReportDomain,
    ReportFigure,
    ReportMailDay,
    ReportProvider,
    ReportReceived,
    ReportWork,
)
from rust_gauge.contract.flow import FlowRow, Rate
from rust_gauge.contract.readings import WallRow
from rust_gauge.contract.receiver_reports import ReportedDomain
from rust_gauge.contract.worklist import WorkItem
from rust_gauge.service.client_reports.drawings import MOST_BANDS, draw_days, draw_readings
from rust_gauge.service.client_reports.styles import look_of
from rust_gauge.service.mailflow.flow import FlowQuery, get_flow, show_days
from rust_gauge.service.readings import wall
from rust_gauge.service.receiver_reports import sources
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.service.runtime.templates import render
from rust_gauge.service.worklist import items as worklist
from rust_gauge.store.accounts import TenantAccess

_DOMAINS = 200  # that a report shows: the others stand higher
_NEXT = 3  # things to do; more is a worklist


def get_report(context: Context, tenant: TenantAccess, days: int, last: date | None = None) -> Report:
    """Return the report. ServiceProblem `invalid-request` for a last day in the future."""
    report = _collect(context, tenant, days, last)
    link = link_to(context, tenant, days, last)
    return report.model_copy(
        update={"text": _text(report, tenant.name, link), "html": page_of(context, tenant, report)}
    )  # fmt: skip


def link_to(context: Context, tenant: TenantAccess, days: int, last: date | None) -> str:
    """Return the address of the report in the console."""
    link = f"{context.settings.base_url}/report?tenant={tenant.slug}&days={days}"
    return link if last is None else f"{link}&last={last}"


def page_of(context: Context, tenant: TenantAccess, report: Report) -> str:
    """Return the report as an HTML document in the tenant's look."""
    style, logo = context.store.transaction(lambda c: look_of(c, tenant.id))
    charted = lowest_first(report.domains)
    return render(
        "report_page.html", tenant=tenant.name, report=report, style=style, logo=logo,
        made=context.clock(), tables=tables_of(report), summary=summary_of(report), bands=min(len(charted), MOST_BANDS),
        readings=draw_readings(charted, report.days) if charted else "",
        mail=draw_days(report.by_day, report.days, style.colour) if any(d.delivered for d in report.by_day) else "",
        rate=_rate, number=lambda n: f"{n:,}",
    )  # fmt: skip


def lowest_first(domains: list[ReportDomain]) -> list[ReportDomain]:
    """Return domains in the order of charts: the lowest reading first, those without one last."""
    return sorted(domains, key=lambda each: 101.0 if each.end is None else each.end)


def _collect(context: Context, tenant: TenantAccess, days: int, last: date | None) -> Report:
    """Return the report without its text and page."""
    first, end = period_of(context, days, last)
    before_first = first - timedelta(days=1)
    query = wall.WallQuery(min(2 * days, 190), last=end, order="worst", limit=_DOMAINS)
    shown = wall.get_wall(context, (tenant,), query)
    domains = [
        _domain(row, days)
        for row in sorted(shown.rows, key=lambda row: row.name)
        if any(value is not None for value in row.cells[0].trend)
    ]
    flow = get_flow(context, tenant, FlowQuery(first=first, last=end))
    earlier = get_flow(context, tenant, FlowQuery(first=first - timedelta(days=days), last=before_first))
    said_before = {each.domain: each for each in sources.list_domains(context, tenant, days, before_first)}
    said = sources.list_domains(context, tenant, days, end)
    resolved, todo = _items(context, tenant, first, end)
    return Report(
        title=f"{tenant.name}: mail from {first:%d %b} to {end:%d %b %Y}", text="", html="",
        tenant=tenant.slug, first=first, last=end, days=days,
        figures=_figures(flow.total, earlier.total), by_day=_by_day(context, tenant, first - timedelta(days=days), end),
        domains=domains, domains_left_out=max(0, shown.summary.subjects - len(shown.rows)) if shown.next else 0,
        providers=[_provider(row) for row in flow.providers],
        received=[_received(each, said_before.get(each.domain)) for each in said],
        resolved=[_work(item) for item in resolved], next=[_work(item) for item in todo[:_NEXT]], open=len(todo),
    )  # fmt: skip


def _domain(row: WallRow, days: int) -> ReportDomain:
    cell, pull = row.cells[0], row.heaviest
    start = cell.trend[-days - 1] if len(cell.trend) > days else None
    # Of the rounded values, so that the difference is the one of the numbers beside it.
    change = round(cell.value) - round(start) if start is not None and cell.value is not None else None
    return ReportDomain(
        name=row.name, start=start, end=cell.value, change=change, condition=cell.condition or "",
        factor=f"{pull.factor.replace('_', ' ')}, {pull.label}" if pull is not None and pull.points >= 1 else "",
        trend=list(cell.trend),
    )  # fmt: skip


def _figures(now: FlowRow, before: FlowRow) -> list[ReportFigure]:
    """Return what was delivered, bounced, delayed and complained about, beside the period before."""
    out = [
        ReportFigure(
            name="delivered", label="Messages delivered", count=now.counts.delivered, before=before.counts.delivered
        )
    ]
    for name, label, rate, rate_before in (
        ("bounces", "Permanent bounces", now.permanent, before.permanent),
        ("delays", "Delayed", now.delayed, before.delayed),
        ("complaints", "Complaints", now.complaints, before.complaints),
    ):
        better = None
        if rate is not None and rate_before is not None:
            apart = rate.low > rate_before.high or rate.high < rate_before.low
            better = rate.value < rate_before.value if apart else None
        out.append(
            ReportFigure(
                name=name, label=label, count=rate.count if rate else 0, before=rate_before.count if rate_before else 0,
                rate=rate, rate_before=rate_before, better=better,
            )
        )  # fmt: skip
    return out


def _by_day(context: Context, tenant: TenantAccess, first: date, last: date) -> list[ReportMailDay]:
    all_mail = show_days(context, tenant, FlowQuery(first=first, last=last)).series[0]
    return [
        ReportMailDay(day=first + timedelta(days=at), delivered=delivered, bounced=permanent + transient)
        for at, (delivered, permanent, transient) in enumerate(
            zip(all_mail.delivered, all_mail.permanent, all_mail.transient, strict=True)
        )
    ]


def _provider(row: FlowRow) -> ReportProvider:
    return ReportProvider(
        provider=row.provider, label=row.label or row.provider, delivered=row.counts.delivered,
        before=row.before.delivered, bounces=row.permanent, delays=row.delayed,
        complaints=row.complaints if row.reports_complaints else None, reports_complaints=row.reports_complaints,
    )  # fmt: skip


def _received(row: ReportedDomain, before: ReportedDomain | None) -> ReportReceived:
    return ReportReceived(
        domain=row.domain, ours=row.ours.messages, aligned=row.ours.messages - row.ours.neither,
        ours_before=before.ours.messages if before else 0,
        aligned_before=before.ours.messages - before.ours.neither if before else 0, unknown=row.unknown.messages,
        forwarded=row.forwarded.messages, not_ours=row.not_ours.messages, refused=row.not_ours.rejected,
    )  # fmt: skip


def _work(item: WorkItem) -> ReportWork:
    return ReportWork(
        title=item.title, text=item.text, level=item.level, since=item.since, resolved_at=item.resolved_at,
        remedy=item.remedy, record=item.record,
    )  # fmt: skip


def _items(context: Context, tenant: TenantAccess, first: date, last: date) -> tuple[list[WorkItem], list[WorkItem]]:
    """Return the items resolved in the period, and those that were open on its last day, the most urgent first."""
    resolved = [
        item
        for item in worklist.list_items(context, (tenant,), ("resolved",), None)
        if item.resolved_at is not None and first <= item.resolved_at.date() <= last and item.level != "info"
    ]
    if last < context.clock().date():
        lived = worklist.list_past(context, (tenant,), last)
        ended = {item.id for item in resolved}
        found = [item for item in lived if item.id not in ended]
    else:
        found = worklist.list_items(context, (tenant,), (), None)
    return resolved, [item for item in found if item.level != "info"]


_READING_HEADS = ("Domain", "Start", "End", "Change", "Condition", "Main factor")
_RECEIVED_HEADS = ("Domain", "Ours, aligned", "Before", "Unknown", "Forwarded", "Not ours (refused)")
_MAIL_HEADS = ("Provider", "Delivered", "Before", "Permanent bounces", "Delayed", "Complaints")


@dataclass(frozen=True, slots=True)
class Table:
    """A table of a report as it is read, for text, page and mail alike."""

    name: str
    title: str
    heads: tuple[str, ...]
    rows: list[tuple[str, ...]]
    right: tuple[int, ...]  # columns of numbers

    def lines(self) -> list[str]:
        """Return the table as lines of text under its title; none without rows."""
        if not self.rows:
            return []
        widths = [max(len(row[n]) for row in (self.heads, *self.rows)) for n in range(len(self.heads))]

        def line(row: tuple[str, ...]) -> str:
            padded = (row[n].rjust(w) if n in self.right else row[n].ljust(w) for n, w in enumerate(widths))
            return "  ".join(padded).rstrip()

        return ["", self.title, line(self.heads), *map(line, self.rows)]


def tables_of(report: Report) -> Mapping[str, Table]:
    """Return the tables by name: readings, mail, received."""
    days, left = report.days, report.domains_left_out
    some = f", the {_DOMAINS} lowest of {_DOMAINS + left:,} domains" if left else ""
    found = (
        Table(
            "readings", f"Readings (0 to 100){some}", _READING_HEADS, [_reading_cells(each) for each in report.domains],
            right=(1, 2, 3),
        ),
        Table(
            "mail", f"Mailbox providers, {days} days", _MAIL_HEADS, [_mail_cells(each) for each in report.providers],
            right=(1, 2),
        ),
        Table(
            "received", f"What receivers reported, {days} days", _RECEIVED_HEADS,
            [_received_cells(each) for each in report.received], right=(1, 2, 3, 4, 5),
        ),
    )  # fmt: skip
    return {table.name: table for table in found}


def _reading_cells(row: ReportDomain) -> tuple[str, ...]:
    return row.name, _number(row.start), _number(row.end), change_of(row), row.condition, row.factor


def change_of(row: ReportDomain) -> str:
    """Return the change of a reading in words; "new" where it had none before the period."""
    if row.change is not None:
        return f"{row.change:+d}" if row.change else "0"
    return "new" if row.start is None else ""


def _mail_cells(row: ReportProvider) -> tuple[str, ...]:
    """Return the cells of a provider: counts, and rates with what they were computed from."""
    complaints = _rate(row.complaints) if row.reports_complaints else "not reported"
    return (
        row.label, f"{row.delivered:,}", f"{row.before:,}", _rate(row.bounces), _rate(row.delays), complaints
    )  # fmt: skip


def _received_cells(row: ReportReceived) -> tuple[str, ...]:
    """Return the cells of a domain: shares with what they were computed from, and counts."""
    refused = f" ({row.refused:,})" if row.not_ours else ""
    return (
        row.domain, _aligned(row.aligned, row.ours), _aligned(row.aligned_before, row.ours_before), f"{row.unknown:,}",
        f"{row.forwarded:,}", f"{row.not_ours:,}{refused}",
    )  # fmt: skip


def _number(value: float | None) -> str:
    return "-" if value is None else f"{value:.0f}"


def _aligned(aligned: int, messages: int) -> str:
    return f"{100 * aligned / messages:.1f} % ({aligned:,} of {messages:,})" if messages else "-"


def _rate(rate: Rate | None) -> str:
    if rate is None:
        return "-"
    share = rate.value * 100
    digits = 0 if share == 0 else 2 if share < 1 else 1
    return f"{share:.{digits}f} % ({rate.count:,} of {rate.total:,})"


def summary_of(report: Report) -> str:
    """Return what was delivered, in a sentence."""
    delivered = report.figures[0]
    return (
        f"{delivered.count:,} messages delivered in {report.days} days, {delivered.before:,} in the {report.days} days "
        "before."
    )


def _text(report: Report, tenant: str, link: str) -> str:
    parts = [
        f"{tenant}: {summary_of(report)}", *(line for table in tables_of(report).values() for line in table.lines())
    ]  # fmt: skip
    parts += ["", "Resolved:", *(f"- {item.title}" for item in report.resolved)] if report.resolved else []
    parts += ["", "Next:" if report.next else "Nothing to do."]
    parts += [f"{n}. {item.title}. {item.remedy or item.text}" for n, item in enumerate(report.next, 1)]
    return "\n".join([*parts, "", link]) + "\n"
