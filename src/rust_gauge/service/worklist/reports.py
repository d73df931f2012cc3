"""A report for a period by mail: how each domain stood beside the period before, what was fixed, what is next.

The console shows the same for printing; here it goes to the people whom a tenant names, on Mondays or on the first.
"""

import base64
from datetime import date, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.readings import WallRow
from rust_gauge.contract.worklist import AlertSettings, Report, WorkItem
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.service.readings import wall
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import relay_of, send_mail
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.templates import render
from rust_gauge.service.worklist import items as worklist
from rust_gauge.service.worklist import report_charts
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import audits as store_settings
from rust_gauge.store import flow, jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

log = structlog.get_logger()
_SENT = "report_sent"
_HOUR = 6  # UTC
_DAYS = {"week": 7, "month": 30}
_NEXT = 3  # things to do; more is a worklist


def due_on(every: str, now: datetime) -> date | None:
    """The day of the report that is due by now: this week's Monday or the first of the month, from six o'clock on."""
    today = now.date()
    day = today - timedelta(days=today.weekday()) if every == "week" else today.replace(day=1)
    return None if not every or (day == today and now.hour < _HOUR) else day


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


def send_report(context: Context, tenant: TenantAccess, to: list[str], days: int) -> None:
    """Send it now. ServiceProblem `mail-not-sent` when nobody could be reached."""
    relay_of(context.settings)
    mail_from = context.settings.mail_from
    said = []
    for address in to:
        message = make_message(context, tenant, days)
        message["From"], message["To"] = f"Rust Gauge <{mail_from}>", address
        try:
            send_mail(context.settings, message, address)
        except MailNotSent as error:
            said.append(str(error))
    if len(said) == len(to):
        raise ServiceProblem("mail-not-sent", said[0], remedy="Check the relay and the addresses")
    log.info("report_sent", tenant=tenant.slug, people=len(to) - len(said))


def make_message(context: Context, tenant: TenantAccess, days: int) -> EmailMessage:
    """The message, as text and as HTML with its picture, without its addresses."""
    name = make_msgid(domain="rust-gauge")
    made, picture = _make(context, tenant, days, f"cid:{name[1:-1]}")
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


def get_report(context: Context, tenant: TenantAccess, days: int) -> Report:
    """The report to read or to keep as a file, with the picture inside."""
    made, picture = _make(context, tenant, days, "picture")
    inside = f"data:image/png;base64,{base64.b64encode(picture).decode()}"
    return made.model_copy(update={"html": made.html.replace('src="picture"', f'src="{inside}"')})


def _make(context: Context, tenant: TenantAccess, days: int, source: str) -> tuple[Report, bytes]:
    """The report with a picture that is found at `source`, and the picture."""
    now = context.clock()
    shown = wall.get_wall(context, (tenant,), min(2 * days, 190))
    rows = [row for row in shown.rows if any(value is not None for value in row.cells[0].trend)]
    first = now.date() - timedelta(days=days - 1)
    delivered = context.store.transaction(lambda c: flow.delivered_by(c, [tenant.id], 1, first, now.date()))
    fixed = [
        item
        for item in worklist.list_items(context, (tenant,), ("resolved",), None)
        if item.resolved_at is not None and item.resolved_at.date() >= first and item.level != "info"
    ]
    todo = [item for item in worklist.list_items(context, (tenant,), (), None) if item.level != "info"]
    base = context.settings.public_url or f"http://{context.settings.host}:{context.settings.port}"
    link = f"{base.rstrip('/')}/report?tenant={tenant.slug}&days={days}"
    charted = sorted(rows, key=lambda row: 101.0 if row.cells[0].value is None else row.cells[0].value)
    chart, height = report_charts.draw([_band(row, days) for row in charted], days)
    picture = {"source": source, "width": report_charts.WIDTH, "height": height} if rows else None
    made = Report(
        title=f"{tenant.name}: mail from {first:%d %b} to {now:%d %b %Y}",
        text=_text(tenant, sum(delivered.values()), rows, days, fixed, todo, link),
        html=render(
            "report.html",
            tenant=tenant.name,
            picture=picture,
            lines=_lines(rows, days),
            resolved=fixed,
            next=todo[:_NEXT],
            link=link,
        ),
    )
    return made, chart


def _band(row: WallRow, days: int) -> report_charts.Band:
    cell, (_, change) = row.cells[0], _change(row, days)
    return report_charts.Band(
        row.name, cell.trend, cell.condition or "", _signed(change)
    )  # fmt: skip


def _change(row: WallRow, days: int) -> tuple[float | None, float | None]:
    """The mean over the period, and how much more that is than in the period before."""

    def mean(values: list[float | None]) -> float | None:
        known = [value for value in values if value is not None]
        return sum(known) / len(known) if known else None

    trend = row.cells[0].trend
    now, before = mean(trend[-days:]), mean(trend[:-days])
    return now, None if now is None or before is None else now - before


def _signed(change: float | None) -> str:
    """Return the number with its sign; zero without one."""
    return "new" if change is None else f"{round(change, 1) + 0.0:+.1f}"


def _lines(rows: list[WallRow], days: int) -> list[tuple[str, str, str, str, str]]:
    """name, reading, condition, change, what weighs most."""
    out: list[tuple[str, str, str, str, str]] = []
    for row in rows:
        cell, (_, change) = row.cells[0], _change(row, days)
        pull = row.heaviest
        weighs = f"{pull.factor.replace('_', ' ')}, {pull.label}" if pull is not None and pull.points >= 1 else ""
        value = "-" if cell.value is None else f"{cell.value:.0f}"
        out.append((row.name, value, cell.condition or "", _signed(change), weighs))
    return out


def _text(
    tenant: TenantAccess,
    delivered: int,
    rows: list[WallRow],
    days: int,
    fixed: list[WorkItem],
    todo: list[WorkItem],
    link: str,
) -> str:
    parts = [f"{tenant.name}: {delivered:,} messages delivered in {days} days.", ""]
    parts += [
        f"{name:<40} {value:>3} {condition:<10} {change:>6}  {weighs}".rstrip()
        for name, value, condition, change, weighs in _lines(rows, days)
    ]
    parts += ["", "Resolved:", *(f"- {item.title}" for item in fixed)] if fixed else []
    parts += ["", "Next:" if todo else "Nothing to do."]
    parts += [f"{n}. {item.title}. {item.remedy or item.text}" for n, item in enumerate(todo[:_NEXT], 1)]
    return "\n".join([*parts, "", link]) + "\n"
