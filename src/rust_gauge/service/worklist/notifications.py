"""Telling people of items: by mail and to chats, each try recorded, tried again, given up in the end. Webhooks are told
beside them.
"""

import json
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.worklist import AlertSettings, Told, WayToTell
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
from rust_gauge.store.worklist import ToldRow

log = structlog.get_logger()
_WORDS = {Tell.OPENED: "New", Tell.AGAIN: "Still", Tell.WORSE: "Worse", Tell.CLOSED: "Mended"}
_FILLED = ("title", "text", "level", "what", "tenant", "remedy", "link")
_LEVELS = tuple(Level)  # the worst first


def check_way(context: Context, number: int, way: WayToTell) -> None:
    """ServiceProblem for a way that can never be told by."""
    if way.kind == "mail":
        if not way.to:
            raise ServiceProblem("invalid-request", f"ways.{number}.to: name who is to get the mail")
        for address in way.to:
            try:
                parse_address(address)
            except AddressError as error:
                raise ServiceProblem("not-an-address", f"ways.{number}.to: {error}", remedy=error.remedy) from None
        return
    try:
        _caller(context).check(way.url)
    except HookAddressError as error:
        raise ServiceProblem("invalid-request", f"ways.{number}.url: {error}", remedy=error.remedy) from None
    try:
        json.loads(
            fill(way.template, dict.fromkeys(("title", "text", "level", "what", "tenant", "remedy", "link"), "x"))
        )
    except ValueError as error:
        raise ServiceProblem("invalid-request", f"ways.{number}.template: this is no JSON: {error}") from None


def fill(template: str, values: dict[str, str]) -> str:
    """A template with its words filled in, each written so that it may stand within a JSON text."""
    for name, value in values.items():
        template = template.replace("{" + name + "}", json.dumps(value, ensure_ascii=False)[1:-1])
    return template


def _caller(context: Context) -> HookCaller:
    settings = context.settings
    return HookCaller(frozenset(settings.webhook_hosts), context.resolver.reach, str(settings.tls_ca_file or ""))


def _link(settings: Settings, tenant: TenantAccess, id: int) -> str:
    base = settings.public_url or f"http://{settings.host}:{settings.port}"
    return f"{base.rstrip('/')}/worklist/{tenant.slug}/{id}"


def tell(
    unit: UnitOfWork, tenant: TenantAccess, id: int, item: Item, said: Tell, settings: AlertSettings
) -> None:  # fmt: skip
    """Write down who is to be told of an item; the worker tells them, after their quiet hours."""
    connection, now, trouble = unit.connection, unit.now, item.trouble
    values = {
        "title": trouble.title, "text": trouble.text, "level": str(trouble.level), "what": _WORDS[said],
        "tenant": tenant.name, "remedy": trouble.remedy, "link": _link(unit.settings, tenant, id),
    }  # fmt: skip
    data = {
        **values, "what": str(said), "id": id, "tenant": tenant.slug, "kind": trouble.kind, "name": trouble.name,
        "subject": trouble.subject, "mail": trouble.mail, "record": trouble.record,
    }  # fmt: skip
    webhooks.tell(connection, tenant.id, "worklist.closed" if said is Tell.CLOSED else "worklist.opened", data, now)
    for way in settings.ways:
        if _LEVELS.index(trouble.level) > _LEVELS.index(Level(way.least)):
            continue
        body = fill(way.template, values) if way.kind == "chat" else _mail_text(values, item, trouble.record)
        at = after_quiet(now, way)
        told = store.add_told(
            connection, tenant_id=tenant.id, item_id=id, way=way.model_dump(), what=str(said),
            title=f"{_WORDS[said]}: {trouble.title}"[:500], body=body, state="waiting", attempts=0, said="",
            made_at=now.replace(tzinfo=None), next_at=at.replace(tzinfo=None),
        )  # fmt: skip
        jobs.enqueue(connection, "told", tenant.id, told, now, at=at)


def after_quiet(now: datetime, way: WayToTell) -> datetime:
    """Now, or the end of the quiet hours that it lies in."""
    if not way.quiet_from or not way.quiet_to:
        return now
    first, last = (datetime.strptime(text, "%H:%M").time() for text in (way.quiet_from, way.quiet_to))
    if not in_quiet_hours(now.time(), first, last):
        return now
    end = datetime.combine(now.date(), last, UTC)
    return end if end > now else end + timedelta(days=1)


def _mail_text(values: dict[str, str], item: Item, record: str) -> str:
    parts = [f"{values['tenant']}: {values['title']}", values["text"]]
    if item.trouble.evidence:
        parts.append("\n".join(f"- {line}" for line in item.trouble.evidence))
    if values["remedy"]:
        parts.append(f"What to do: {values['remedy']}")
    if record:
        parts.append(f"Publish:\n{record}")
    if item.returns:
        parts.append(f"It came back {item.returns} times after it was closed.")
    return "\n\n".join([*parts, values["link"]]) + "\n"


def run_told(context: Context, job: Any) -> None:
    """The job: one try of one message."""
    row = context.store.transaction(lambda c: store.get_told(c, job.subject))
    if row is None or row.state != "waiting":
        return
    way = WayToTell.model_validate(row.way)
    taken, said = _send_mail(context, row, way) if way.kind == "mail" else _call_chat(context, row, way)
    now = context.clock()
    attempts = row.attempts + 1
    pause = pause_after(attempts)
    values: dict[str, Any] = {"attempts": attempts, "said": said[:500]}
    if taken or pause is None:
        state = "delivered" if taken else "dead"
        values |= {"state": state, "finished_at": now.replace(tzinfo=None), "next_at": None}
    else:
        values["next_at"] = (now + pause).replace(tzinfo=None)

    def write(connection: Connection) -> None:
        store.change_told(connection, row.id, **values)
        if values["next_at"] is not None:
            assert pause is not None
            jobs.enqueue(connection, "told", row.tenant_id, row.id, now, at=now + pause)

    context.store.transaction(write)
    log.info("told", way=way.name, taken=taken, attempts=attempts)


def _send_mail(context: Context, row: ToldRow, way: WayToTell) -> tuple[bool, str]:
    if not context.settings.mail_relays:
        return False, "No relay is set for messages of our own: mail_relays"
    mail_from = context.settings.mail_from
    refused = []
    for to in way.to:
        message = EmailMessage()
        message["From"], message["To"], message["Subject"] = f"Rust Gauge <{mail_from}>", to, row.title
        message["Date"], message["Message-ID"] = format_datetime(context.clock()), make_msgid(domain="rust-gauge")
        message["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence is to answer it
        message.set_content(row.body)
        try:
            send_mail(context.settings, message, to)
        except MailNotSent as error:
            refused.append(f"{to}: {error}")
    if refused and len(refused) == len(way.to):
        return False, "; ".join(refused)
    return True, "taken" + (f", but {'; '.join(refused)}" if refused else "")


def _call_chat(context: Context, row: ToldRow, way: WayToTell) -> tuple[bool, str]:
    answer = _caller(context).post(way.url, {}, row.body.encode(), context.resolver.answer_all)
    return answer.taken, answer.said or "nothing came back"


def list_told(context: Context, tenant: TenantAccess) -> list[Told]:
    """The newest messages and what became of them."""
    rows = context.store.transaction(lambda c: store.list_told(c, tenant.id))
    return [
        Told(
            id=row.id, way=row.way["name"], title=row.title, what=row.what, state=row.state, attempts=row.attempts,
            said=row.said, made_at=row.made_at, next_at=row.next_at, finished_at=row.finished_at,
        )
        for row in rows
    ]  # fmt: skip
