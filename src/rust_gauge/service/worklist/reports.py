"""A report for a period by mail: how each domain stood beside the period before, what was fixed, what is next.

The console shows the same for printing; here it goes to the people whom a tenant names, on Mondays or on the first.
"""

import base64
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.flow import FlowRow, Rate
from rust_gauge.contract.readings import WallRow
from rust_gauge.contract.receiver_reports import ReportedDomain, SourceMail
from rust_gauge.contract.worklist import AlertSettings, Report, WorkItem
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.service.mailflow.flow import FlowQuery, get_flow
from rust_gauge.service.readings import wall
from rust_gauge.service.receiver_reports import sources
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import relay_of, send_mail
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.templates import render
from rust_gauge.service.worklist import items as worklist
from rust_gauge.service.worklist import report_charts
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

log = structlog.get_logger()
_SENT = "report_sent"
_HOUR = 6  # UTC
_DAYS = {"week": 7, "month": 30}
_DOMAINS = 200  # that a report shows: the others stand higher
_NEXT = 3  # things to do; more is a worklist


def due_on(every: str, now: datetime) -> date | None:
    """Return the day of the report that is due now: today from six o'clock UTC on, if it is a Monday or the first.

    A report whose day has passed is not sent late: its period would no longer be the one that its readers expect.
    """
    today = now.date()
    its_day = today.weekday() == 0 if every == "week" else today.day == 1
    return today if every and its_day and now.hour >= _HOUR else None


def ask_for_due(context: Context) -> None:
    """Enqueue reports that are due."""
    now = context.clock()

    def write(connection: Connection) -> None:
        for tenant_id, document in store_settings.all_settings(connection, worklist.SETTING).items():
            settings = AlertSettings.model_validate(document)
            day = due_on(settings.report_every, now)
            sent = store_settings.get_setting(connection, tenant_id, _SENT) or {}
            if day is not None and settings.report_to and sent.get("day", "") < str(day):
                jobs.enqueue(connection, "report", tenant_id, 0, now)

    context.store.transaction(write)


def run_report(context: Context, job: Job) -> None:
    """The job. A relay that does not take it is tried again, as any job is."""
    now = context.clock()
    tenant = context.store.transaction(lambda c: store_accounts.tenant_of(c, job.tenant_id))
    if tenant is None:
        return
    settings = worklist.get_settings(context, tenant)
    day = due_on(settings.report_every, now)
    if day is None or not settings.report_to:
        return
    send_report(context, tenant, settings.report_to, _DAYS[settings.report_every])
    context.store.transaction(lambda c: store_settings.put_setting(c, tenant.id, _SENT, {"day": str(day)}, now))


def send_report(context: Context, tenant: TenantAccess, to: list[str], days: int, last: date | None = None) -> None:
    """Send it now. ServiceProblem `mail-not-sent` when nobody could be reached."""
    relay_of(context.settings)
    mail_from = context.settings.mail_from
    said = []
    for address in to:
        message = make_message(context, tenant, days, last)
        message["From"], message["To"] = f"Rust Gauge <{mail_from}>", address
        try:
            send_mail(context.settings, message, address)
        except MailNotSent as error:
            said.append(str(error))
    if len(said) == len(to):
        raise ServiceProblem("mail-not-sent", said[0], remedy="Check the relay and the addresses")
    log.info("report_sent", tenant=tenant.slug, people=len(to) - len(said))


def make_message(context: Context, tenant: TenantAccess, days: int, last: date | None = None) -> EmailMessage:
    """The message, as text and as HTML with its picture, without its addresses."""
    name = make_msgid(domain="rust-gauge")
    made, picture = _make(context, tenant, days, last, f"cid:{name[1:-1]}")
    message = EmailMessage()
    message["Subject"] = made.title
    message["Date"], message["Message-ID"] = format_datetime(context.clock()), make_msgid(domain="rust-gauge")
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834
    message.set_content(made.text)
    html_part = EmailMessage()
    html_part.set_content(made.html, subtype="html")
    del html_part["MIME-Version"]  # the whole message has it
    html_part.add_related(picture, "image", "png", cid=name, filename="readings.png", disposition="inline")
    message.make_alternative()
    message.attach(html_part)
    return message


def get_report(context: Context, tenant: TenantAccess, days: int, last: date | None = None) -> Report:
    """The report to read or to keep as a file, with the picture inside."""
    made, picture = _make(context, tenant, days, last, "picture")
    inside = f"data:image/png;base64,{base64.b64encode(picture).decode()}"
    return made.model_copy(update={"html": made.html.replace('src="picture"', f'src="{inside}"')})


def _make(context: Context, tenant: TenantAccess, days: int, last: date | None, source: str) -> tuple[Report, bytes]:
    """Return the report with a picture that is found at `source`, and the picture."""
    first, end = period_of(context, days, last)
    query = wall.WallQuery(min(2 * days, 190), last=end, order="worst", limit=_DOMAINS)
    shown = wall.get_wall(context, (tenant,), query)
    rows = [
        row
        for row in sorted(shown.rows, key=lambda row: row.name)
        if any(value is not None for value in row.cells[0].trend)
    ]
    flow = get_flow(context, tenant, FlowQuery(first=first, last=end))
    resolved, todo = _items(context, tenant, first, end)
    link = f"{context.settings.base_url}/report?tenant={tenant.slug}&days={days}"
    if last is not None:
        link += f"&last={last}"
    charted = sorted(rows, key=lambda row: 101.0 if row.cells[0].value is None else row.cells[0].value)
    chart, height = report_charts.draw([_band(row, days) for row in charted], days)
    picture = {"source": source, "width": report_charts.WIDTH, "height": height} if rows else None
    some = f", the {_DOMAINS} lowest of {shown.summary.subjects:,} domains" if shown.next else ""
    readings = _Table(
        f"Readings (0 to 100){some}", _READING_HEADS, [_reading(row, days) for row in rows], right=(1, 2, 3)
    )
    mail = _Table(f"Mailbox providers, {days} days", _MAIL_HEADS, [_mail(row) for row in flow.providers], right=(1, 2))
    before_first = first - timedelta(days=1)
    earlier = {each.domain: each for each in sources.list_domains(context, tenant, days, before_first)}
    said = [_reported(each, earlier.get(each.domain)) for each in sources.list_domains(context, tenant, days, end)]
    reported = _Table(f"What receivers reported, {days} days", _REPORTED_HEADS, said, right=(1, 2, 3, 4, 5))
    counts, before = flow.total.counts.delivered, flow.total.before.delivered
    summary = f"{counts:,} messages delivered in {days} days, {before:,} in the {days} days before."
    made = Report(
        title=f"{tenant.name}: mail from {first:%d %b} to {end:%d %b %Y}",
        text=_text(f"{tenant.name}: {summary}", [readings, mail, reported], resolved, todo, link),
        html=render(
            "report.html",
            tenant=tenant.name,
            summary=summary,
            picture=picture,
            tables=[table for table in (readings, mail, reported) if table.rows],
            resolved=resolved,
            next=todo[:_NEXT],
            link=link,
        ),
    )
    return made, chart


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
_REPORTED_HEADS = ("Domain", "Ours, aligned", "Before", "Unknown", "Forwarded", "Not ours, of it refused")
_MAIL_HEADS = ("Provider", "Delivered", "Before", "Permanent bounces", "Delayed", "Complaints")


@dataclass(frozen=True, slots=True)
class _Table:
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


def _band(row: WallRow, days: int) -> report_charts.Band:
    cell = row.cells[0]
    return report_charts.Band(row.name, cell.trend, cell.condition or "", _reading(row, days)[3])


def _reading(row: WallRow, days: int) -> tuple[str, ...]:
    """Return the cells of a domain: the reading before the first day, on the last one, and the difference."""
    cell, pull = row.cells[0], row.heaviest
    start = cell.trend[-days - 1] if len(cell.trend) > days else None
    change = "new" if start is None else ""
    if start is not None and cell.value is not None:
        # Of the rounded values, so that the difference is the one of the numbers beside it.
        change = f"{round(cell.value) - round(start):+d}".replace("+0", "0")
    factor = f"{pull.factor.replace('_', ' ')}, {pull.label}" if pull is not None and pull.points >= 1 else ""
    return row.name, _number(start), _number(cell.value), change, cell.condition or "", factor


def _number(value: float | None) -> str:
    return "-" if value is None else f"{value:.0f}"


def _mail(row: FlowRow) -> tuple[str, ...]:
    """Return the cells of a provider: counts, and rates with what they were computed from."""
    complaints = _rate(row.complaints) if row.reports_complaints else "not reported"
    return (
        row.label or row.provider, f"{row.counts.delivered:,}", f"{row.before.delivered:,}", _rate(row.permanent),
        _rate(row.delayed), complaints,
    )  # fmt: skip


def _reported(row: ReportedDomain, before: ReportedDomain | None) -> tuple[str, ...]:
    """Return the cells of a domain: shares with what they were computed from, and counts."""
    refused = f" ({row.not_ours.rejected:,})" if row.not_ours.messages else ""
    return (
        row.domain, _aligned(row.ours), _aligned(before.ours) if before else "-", f"{row.unknown.messages:,}",
        f"{row.forwarded.messages:,}", f"{row.not_ours.messages:,}{refused}",
    )  # fmt: skip


def _aligned(mail: SourceMail) -> str:
    if not mail.messages:
        return "-"
    aligned = mail.messages - mail.neither
    return f"{100 * aligned / mail.messages:.1f} % ({aligned:,} of {mail.messages:,})"


def _rate(rate: Rate | None) -> str:
    if rate is None:
        return "-"
    share = rate.value * 100
    digits = 0 if share == 0 else 2 if share < 1 else 1
    return f"{share:.{digits}f} % ({rate.count:,} of {rate.total:,})"


def _text(summary: str, tables: list[_Table], resolved: list[WorkItem], todo: list[WorkItem], link: str) -> str:
    parts = [summary, *(line for table in tables for line in table.lines())]
    parts += ["", "Resolved:", *(f"- {item.title}" for item in resolved)] if resolved else []
    parts += ["", "Next:" if todo else "Nothing to do."]
    parts += [f"{n}. {item.title}. {item.remedy or item.text}" for n, item in enumerate(todo[:_NEXT], 1)]
    return "\n".join([*parts, "", link]) + "\n"
