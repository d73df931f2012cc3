"""Reports by mail: on Mondays or on the first, to the people whom a tenant names, or now."""

from datetime import date, datetime
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.client_reports import Report
from rust_gauge.contract.worklist import AlertSettings
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.service.client_reports.pictures import WIDTH, Band, draw
from rust_gauge.service.client_reports.report import change_of, get_report, link_to, lowest_first, summary_of, tables_of
from rust_gauge.service.client_reports.styles import look_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import relay_of, send_mail
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.templates import render
from rust_gauge.service.worklist import items as worklist
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

log = structlog.get_logger()
_SENT = "report_sent"
_HOUR = 6  # UTC
_DAYS = {"week": 7, "month": 30}


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


def send_now(context: Context, tenant: TenantAccess, days: int, last: date | None) -> None:
    """Send it to the addresses of the alert settings. ServiceProblem `invalid-request` where there are none."""
    to = worklist.get_settings(context, tenant).report_to
    if not to:
        raise ServiceProblem("invalid-request", "No report recipients", remedy="Set report_to in the alert settings")
    send_report(context, tenant, to, days, last)


def send_report(context: Context, tenant: TenantAccess, to: list[str], days: int, last: date | None = None) -> None:
    """Send it now. ServiceProblem `mail-not-sent` when nobody could be reached."""
    relay_of(context.settings)
    mail_from = context.settings.mail_from
    report, said = get_report(context, tenant, days, last), []
    for address in to:
        message = make_message(context, tenant, report, last)
        message["From"], message["To"] = f"Rust Gauge <{mail_from}>", address
        try:
            send_mail(context.settings, message, address)
        except MailNotSent as error:
            said.append(str(error))
    if len(said) == len(to):
        raise ServiceProblem("mail-not-sent", said[0], remedy="Check the relay and the addresses")
    log.info("report_sent", tenant=tenant.slug, people=len(to) - len(said))


def make_message(context: Context, tenant: TenantAccess, report: Report, last: date | None = None) -> EmailMessage:
    """The message, as text and as HTML with its pictures, without its addresses.

    Mail programs show no SVG, and few style sheets: it has a picture and a template of its own.
    """
    style, logo = context.store.transaction(lambda c: look_of(c, tenant.id))
    message = EmailMessage()
    message["Subject"] = report.title
    message["Date"], message["Message-ID"] = format_datetime(context.clock()), make_msgid(domain="rust-gauge")
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834
    message.set_content(report.text)
    bands = [
        Band(each.name, each.trend, each.condition, change_of(each)) for each in lowest_first(report.domains)
    ]  # fmt: skip
    chart, height = draw(bands, report.days)
    pictures = {"readings": (chart, WIDTH, height)} if bands else {}
    if logo is not None:
        pictures["logo"] = (logo.png, *logo.shown)
    names = {name: make_msgid(domain="rust-gauge") for name in pictures}
    shown = {
        name: {"source": f"cid:{names[name][1:-1]}", "width": width, "height": height}
        for name, (_, width, height) in pictures.items()
    }
    html_part = EmailMessage()
    html = render(
        "report_mail.html", tenant=tenant.name, style=style, summary=summary_of(report), pictures=shown,
        tables=[table for table in tables_of(report).values() if table.rows], resolved=report.resolved,
        next=report.next, link=link_to(context, tenant, report.days, last),
    )  # fmt: skip
    html_part.set_content(html, subtype="html")
    del html_part["MIME-Version"]  # the whole message has it
    for name, (octets, _, _) in pictures.items():
        html_part.add_related(
            octets, "image", "png", cid=names[name], filename=f"{name}.png", disposition="inline"
        )  # fmt: skip
    message.make_alternative()
    message.attach(html_part)
    return message
