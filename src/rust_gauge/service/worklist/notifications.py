"""Notifications about items, by mail and to chats: each attempt is recorded, retried, and given up in the end. Webhooks
are called in addition.
"""

import json
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.worklist import AlertChannel, AlertSettings, Notification
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.webhooks import pause_after
from rust_gauge.core.worklist import Item, Level, Tell, in_quiet_hours
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.gateways.webhook import HookAddressError, HookCaller
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import send_mail
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import jobs
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess

log = structlog.get_logger()
_WORDS = {Tell.OPENED: "New", Tell.AGAIN: "Still open", Tell.WORSE: "Worse", Tell.RESOLVED: "Resolved"}
_FILLED = ("title", "text", "level", "what", "tenant", "remedy", "link")
_LEVELS = tuple(Level)  # the worst first


def check_channel(context: Context, number: int, channel: AlertChannel) -> None:
    """Check a channel. ServiceProblem for one that can never be reached."""
    if channel.kind == "mail":
        if not channel.to:
            raise ServiceProblem("invalid-request", f"channels.{number}.to: at least one address is required")
        for address in channel.to:
            try:
                parse_address(address)
            except AddressError as error:
                raise ServiceProblem("not-an-address", f"channels.{number}.to: {error}", remedy=error.remedy) from None
        return
    try:
        _caller(context).check(channel.url)
    except HookAddressError as error:
        raise ServiceProblem("invalid-request", f"channels.{number}.url: {error}", remedy=error.remedy) from None
    try:
        json.loads(
            fill(channel.template, dict.fromkeys(("title", "text", "level", "what", "tenant", "remedy", "link"), "x"))
        )
    except ValueError as error:
        raise ServiceProblem("invalid-request", f"channels.{number}.template: not valid JSON: {error}") from None


def fill(template: str, values: dict[str, str]) -> str:
    """A template with its words filled in, each written so that it may stand within a JSON text."""
    for name, value in values.items():
        template = template.replace("{" + name + "}", json.dumps(value, ensure_ascii=False)[1:-1])
    return template


def _caller(context: Context) -> HookCaller:
    settings = context.settings
    return HookCaller(frozenset(settings.webhook_hosts), context.resolver.reach, str(settings.tls_ca_file or ""))


def _link(settings: Settings, tenant: TenantAccess, id: int) -> str:
    return f"{settings.base_url}/worklist/{tenant.slug}/{id}"


def tell(
    unit: UnitOfWork, tenant: TenantAccess, id: int, item: Item, summary: Tell, settings: AlertSettings
) -> None:  # fmt: skip
    """Store the notifications about an item; the worker sends them, after quiet hours."""
    connection, now, incident = unit.connection, unit.now, item.incident
    values = {
        "title": incident.title, "text": incident.text, "level": str(incident.level), "what": _WORDS[summary],
        "tenant": tenant.name, "remedy": incident.remedy, "link": _link(unit.settings, tenant, id),
    }  # fmt: skip
    data = {
        **values, "what": str(summary), "id": id, "tenant": tenant.slug, "kind": incident.kind, "name": incident.name,
        "subject": incident.subject, "mail": incident.mail, "record": incident.record,
    }  # fmt: skip
    webhooks.tell(
        connection, tenant.id, "worklist.resolved" if summary is Tell.RESOLVED else "worklist.opened", data, now
    )
    for channel in settings.channels:
        if _LEVELS.index(incident.level) > _LEVELS.index(Level(channel.min_level)):
            continue
        body = fill(channel.template, values) if channel.kind == "chat" else _mail_text(values, item, incident.record)
        at = after_quiet(now, channel)
        told = store.add_notification(
            connection, tenant_id=tenant.id, item_id=id, channel=channel.model_dump(), what=str(summary),
            title=f"{_WORDS[summary]}: {incident.title}"[:500], body=body, state="waiting", attempts=0, response="",
            made_at=now.replace(tzinfo=None), next_at=at.replace(tzinfo=None),
        )  # fmt: skip
        jobs.enqueue(connection, "notification", tenant.id, told, now, at=at)


def after_quiet(now: datetime, channel: AlertChannel) -> datetime:
    """Now, or the end of the quiet hours that it lies in."""
    if not channel.quiet_from or not channel.quiet_to:
        return now
    first, last = (datetime.strptime(text, "%H:%M").time() for text in (channel.quiet_from, channel.quiet_to))
    if not in_quiet_hours(now.time(), first, last):
        return now
    end = datetime.combine(now.date(), last, UTC)
    return end if end > now else end + timedelta(days=1)


def _mail_text(values: dict[str, str], item: Item, record: str) -> str:
    parts = [f"{values['tenant']}: {values['title']}", values["text"]]
    if item.incident.evidence:
        parts.append("\n".join(f"- {line}" for line in item.incident.evidence))
    if values["remedy"]:
        parts.append(f"Remedy: {values['remedy']}")
    if record:
        parts.append(f"Publish:\n{record}")
    if item.returns:
        parts.append(f"It returned {item.returns} times after it was resolved.")
    return "\n\n".join([*parts, values["link"]]) + "\n"


def run_notification(context: Context, job: Any) -> None:
    """The job: one try of one message."""
    row = context.store.transaction(lambda c: store.get_notification(c, job.subject))
    if row is None or row.state != "waiting":
        return
    channel = AlertChannel.model_validate(row.channel)
    if channel.kind == "mail":
        taken, summary = _send_mail(context, row.title, row.body, channel)
    else:
        taken, summary = _call_chat(context, row.body, channel)
    now = context.clock()
    attempts = row.attempts + 1
    pause = pause_after(attempts)
    values: dict[str, Any] = {"attempts": attempts, "response": summary[:500]}
    if taken or pause is None:
        state = "delivered" if taken else "dead"
        values |= {"state": state, "finished_at": now.replace(tzinfo=None), "next_at": None}
    else:
        values["next_at"] = (now + pause).replace(tzinfo=None)

    def write(connection: Connection) -> None:
        store.change_notification(connection, row.id, **values)
        if values["next_at"] is not None:
            assert pause is not None
            jobs.enqueue(connection, "notification", row.tenant_id, row.id, now, at=now + pause)

    context.store.transaction(write)
    log.info("told", channel=channel.name, taken=taken, attempts=attempts)


def send_test(context: Context, tenant: TenantAccess, channel: AlertChannel) -> tuple[bool, str]:
    """Send a message that says that it is a test. Return whether it was taken, and the answer."""
    values = {
        "title": f"Test of the alert channel {channel.name}", "level": channel.min_level, "what": "Test",
        "text": "Notifications about items reach you here.", "tenant": tenant.name, "remedy": "",
        "link": f"{context.settings.base_url}/worklist?tenant={tenant.slug}",
    }  # fmt: skip
    if channel.kind == "chat":
        return _call_chat(context, fill(channel.template, values), channel)
    text = f"{tenant.name}: {values['title']}\n\n{values['text']}\n\n{values['link']}\n"
    return _send_mail(context, f"Test: {tenant.name}", text, channel)


def _send_mail(context: Context, title: str, body: str, channel: AlertChannel) -> tuple[bool, str]:
    if not context.settings.mail_relays:
        return False, "No relay is configured for outgoing messages: mail_relays"
    mail_from = context.settings.mail_from
    refused = []
    for to in channel.to:
        message = EmailMessage()
        message["From"], message["To"], message["Subject"] = f"Rust Gauge <{mail_from}>", to, title
        message["Date"], message["Message-ID"] = format_datetime(context.clock()), make_msgid(domain="rust-gauge")
        message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence is to answer it
        message.set_content(body)
        try:
            send_mail(context.settings, message, to)
        except MailNotSent as error:
            refused.append(f"{to}: {error}")
    if refused and len(refused) == len(channel.to):
        return False, "; ".join(refused)
    return True, "taken" + (f", but {'; '.join(refused)}" if refused else "")


def _call_chat(context: Context, body: str, channel: AlertChannel) -> tuple[bool, str]:
    answer = _caller(context).post(channel.url, {}, body.encode(), context.resolver.answer_all)
    return answer.taken, answer.summary or "no response"


def list_notifications(context: Context, tenant: TenantAccess) -> list[Notification]:
    """The newest messages and what became of them."""
    rows = context.store.transaction(lambda c: store.list_notifications(c, tenant.id))
    return [
        Notification(
            id=row.id,
            channel=row.channel["name"],
            title=row.title,
            what=row.what,
            state=row.state,
            attempts=row.attempts,
            response=row.response,
            made_at=row.made_at,
            next_at=row.next_at,
            finished_at=row.finished_at,
        )
        for row in rows
    ]
