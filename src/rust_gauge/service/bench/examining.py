"""Examining caught messages: each once when it came in, by the workers, and again when somebody asks for it."""

from datetime import UTC, timedelta

import orjson
import structlog

from rust_gauge.contract.assays import Assay
from rust_gauge.contract.bench import CaughtMessage
from rust_gauge.core.assay import Examined, Message, Sending, parse_html
from rust_gauge.core.errors import InputError
from rust_gauge.documents.assays import REREAD, assay_document
from rust_gauge.service.assays.assays import WITHIN, examined
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import caught, trays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.caught import CaughtRow, ToExamine
from rust_gauge.store.trays import TrayRow

log = structlog.get_logger()
_PATIENCE = 20.0  # seconds for answers of others, while nobody waits for the assay
_CLAIM_FOR = timedelta(minutes=5)
_SERVED = "tenants whose messages were examined last"  # in the memory of the process


def examine_next(context: Context) -> bool:
    """Examine one message that waits. False when none does. Tenants take turns."""
    now = context.clock()
    last = context.memory.get(_SERVED)
    tenants = () if last is None else (last,)
    claim = context.store.transaction(lambda c: caught.claim_next(c, now, now - _CLAIM_FOR, tenants))
    if claim is None:
        return False
    context.memory[_SERVED] = claim.tenant_id
    try:
        tray = context.store.transaction(lambda c: trays.tray_by_id(c, claim.tray_id))
        if tray is not None:  # deleted since, and its messages with it
            examine_row(context, tray, claim, _PATIENCE)
    except (InputError, ServiceProblem) as error:
        log.info("message_not_examined", message=claim.id, error=str(error))
        context.store.transaction(lambda c: caught.set_state(c, claim.id, "failed"))
    return True


def examine_row(
    context: Context, tray: TrayRow, row: CaughtRow | ToExamine, within: float = WITHIN
) -> Examined:  # fmt: skip
    """Examine a message and store what was found. InputError when it cannot be examined."""
    raw = context.store.transaction(lambda c: caught.source_of(c, row.id))
    at = row.arrived_at.replace(tzinfo=UTC)
    done = examined(context, tray.tenant_id, raw, sending_of(tray, row), at, fresh=False, within=within)
    document = assay_document(done).model_dump(mode="json", exclude=set(REREAD))
    points = [[finding.rule, finding.points, finding.level.value] for finding in done.assay.findings]
    worst = None if done.assay.worst is None else done.assay.worst.value
    context.store.transaction(
        lambda c: caught.write_assay(c, row.id, done.assay.mark, worst, points, orjson.dumps(document))
    )
    return done


def sending_of(tray: TrayRow, row: CaughtRow | ToExamine) -> Sending:
    """Return how a message was sent, as far as it says something about real mail.

    Mail to the tray's address came from where it will come from. What an application hands in with the tray's password
    did not: the tray's settings may say from which address it will be sent.
    """
    if row.via == "address":
        return Sending(row.client_ip, row.helo, row.mail_from)
    return Sending(tray.sending_ip, "", row.mail_from)


def assay_of(context: Context, tenant: TenantAccess, tray: TrayRow, row: CaughtRow, *, again: bool = False) -> Assay:
    """Return the assay of a message; it is examined now if it was not, or if `again` says so.

    ServiceProblem `invalid-request` when the message cannot be examined.
    """
    stored, raw = context.store.transaction(lambda c: (caught.assay_of(c, row.id), caught.source_of(c, row.id)))
    if stored is None or again:
        try:
            return assay_document(examine_row(context, tray, row))
        except InputError as error:
            context.store.transaction(lambda c: caught.set_state(c, row.id, "failed"))
            raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    message = Message(raw)
    page = None if message.html is None else parse_html(message.html)
    read = {"text": message.text, "html": message.html, "visible_text": None if page is None else page.visible_text}
    return Assay.model_validate({**orjson.loads(stored), **read})


def shown(row: CaughtRow) -> CaughtMessage:
    """Return a message as lists show it."""
    return CaughtMessage.model_validate(
        {
            "id": row.id, "arrived_at": row.arrived_at, "via": row.via, "mail_from": row.mail_from,
            "recipients": row.recipients, "subject": row.subject, "header_from": row.header_from,
            "message_id": row.message_id, "series": row.series, "size": row.size, "client_ip": row.client_ip,
            "helo": row.helo, "tls": row.tls, "state": row.state, "mark": row.mark, "worst": row.worst,
        }
    )  # fmt: skip
