"""Proving domains (by a record or a message to postmaster or abuse) and addresses (by a message to them).

Codes and links are kept as digests only, hold for a day and allow few tries. A proof by record is looked at every
day, and lost when a server of the zone says that the record is gone; a server that does not answer proves nothing.
"""

import hashlib
import secrets
from collections.abc import Collection
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.contract.proofs import NewProof, Proof, Sender
from rust_gauge.core.dns import ask
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.gateways.mail_out import MailNotSent
from rust_gauge.service.domains.domains import domain_name
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import relay_of, send_mail
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import audits as store_audits
from rust_gauge.store import domains as store_domains
from rust_gauge.store import proofs as store_proofs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.proofs import ProofRow

log = structlog.get_logger()
_VALID = timedelta(hours=24)  # long enough for a colleague in another time zone
_TRIES = 5  # wrong codes, after which a new one is needed: guessing must stay hopeless
A_DAY = 50  # messages of one tenant
_NOT_PROVEN = "not verified: publish its record, or request a code to postmaster"
_PAUSE = timedelta(minutes=1)  # between two messages for the same proof
_AGAIN = timedelta(days=1)  # between two looks at a record
_LETTERS = "23456789ABCDEFGHJKLMNPQRSTUVWXYZ"  # without those that look alike


def record_name(domain: str) -> str:
    return f"_rustgauge.{domain}"


def start_proof(context: Context, tenant: TenantAccess, new: NewProof) -> Proof:
    """Start a proof. ServiceProblem for an invalid subject, too many messages, or a relay that does not accept it."""
    if new.method == "record":
        return _start_record(context, tenant, domain_name(new.subject))
    if new.method == "mail":
        try:
            address = parse_address(new.subject)
        except AddressError as error:
            raise ServiceProblem("not-an-address", str(error), remedy=error.remedy) from None
        return _start_mail(context, tenant, "address", str(address), "mail", str(address), new.relay)
    domain = domain_name(new.subject)
    return _start_mail(context, tenant, "domain", domain, new.method, f"{new.method}@{domain}", new.relay)


def _start_record(context: Context, tenant: TenantAccess, domain: str) -> Proof:
    return get_proof(
        context, tenant, keep_record_proof(context, tenant, domain, f"rustgauge-proof={secrets.token_hex(16)}")
    )


def keep_record_proof(context: Context, tenant: TenantAccess, domain: str, token: str) -> int:
    """Wait for this record from now on, unless one is waited for already. Returns the proof's id."""
    now = context.clock()

    def write(connection: Any) -> int:
        known = store_proofs.find_proof(connection, tenant.id, "domain", domain, "record")
        if known is not None:
            return int(known.id)
        values = _fresh(tenant, "domain", domain, "record", now) | {"token": token}
        id = store_proofs.put_proof(connection, **values)
        for row in store_domains.list_domains(connection, tenant.id, name=domain):
            store_domains.update_domain(connection, row.id, plan={**row.plan, "proof": token})
        return id

    return context.store.transaction(write)


def _fresh(tenant: TenantAccess, kind: str, subject: str, method: str, now: Any) -> dict[str, Any]:
    return {"tenant_id": tenant.id, "kind": kind, "subject": subject, "method": method, "sent_to": "", "token": "",
            "state": "waiting", "tries": 0, "sends": 0, "created_at": now, "code_digest": None, "link_digest": None,
            "expires_at": None, "verified_at": None, "checked_at": None, "lost_at": None, "sent_at": None}  # fmt: skip


def _start_mail(
    context: Context, tenant: TenantAccess, kind: str, subject: str, method: str, to: str, relay: str
) -> Proof:
    relay_of(context.settings, relay)  # known before anything is kept
    now = context.clock()
    code = "".join(secrets.choice(_LETTERS) for _ in range(8))
    link = secrets.token_urlsafe(32)

    def write(connection: Any) -> int:
        known = store_proofs.find_proof(connection, tenant.id, kind, subject, method)
        if known is not None and known.sent_at is not None and now - known.sent_at.replace(tzinfo=UTC) < _PAUSE:
            raise ServiceProblem(
                "too-many-attempts",
                f"A message went to {to} less than a minute ago",
                remedy="Wait for the message, or try again in a minute",
            )
        if store_proofs.sent_since(connection, tenant.id, now - timedelta(days=1)) >= A_DAY:
            raise ServiceProblem(
                "too-many-attempts",
                f"{A_DAY} messages have been sent today, the daily limit",
                remedy="Try again tomorrow",
            )
        values = _fresh(tenant, kind, subject, method, now) | {
            "sent_to": to, "sends": (known.sends if known is not None else 0) + 1, "sent_at": now,
            "code_digest": _digest(tenant, code), "link_digest": hashlib.sha256(link.encode()).digest(),
            "expires_at": now + _VALID,
        }  # fmt: skip
        return store_proofs.put_proof(connection, **values)

    id = context.store.transaction(write)
    try:
        message = _message(context, tenant, subject, to, code, link)
        send_mail(context.settings, message, to, relay)
    except MailNotSent as error:
        context.store.transaction(lambda c: store_proofs.change_proof(c, id, state="expired", expires_at=now))
        raise ServiceProblem("mail-not-sent", str(error), remedy=error.remedy) from None
    return get_proof(context, tenant, id)


def _digest(tenant: TenantAccess, code: str) -> bytes:
    return hashlib.sha256(f"{tenant.id}:{code}".encode()).digest()


def _message(context: Context, tenant: TenantAccess, subject: str, to: str, code: str, link: str) -> EmailMessage:
    message = EmailMessage()
    message["From"] = f"Rust Gauge <{context.settings.mail_from}>"
    message["To"] = to
    message["Subject"] = f"Confirm {subject}: code {code}"
    message["Date"] = format_datetime(context.clock())
    message["Message-ID"] = make_msgid(domain=context.settings.mail_from.rpartition("@")[2])
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(
        f"{tenant.name} has registered {subject} as a sender of its mail.\n\n"
        f"To confirm, enter this code:\n\n    {code}\n\n"
        f"or open this page:\n\n    {context.settings.base_url}/confirm/{link}\n\n"
        "Both are valid for 24 hours. If you did not expect this message, ignore it.\n"
    )
    return message


def check_record(context: Context, tenant: TenantAccess, id: int) -> Proof:
    """Re-check the record now."""
    row = _row(context, tenant, id)
    if row.method != "record":
        raise ServiceProblem(
            "invalid-request", "This proof is waiting for its code", remedy="Submit the code of the message"
        )
    look(context, row)
    return get_proof(context, tenant, id)


def look(context: Context, row: ProofRow) -> None:
    """Return whether the record is there: proven when it is, lost when it was and a server says that it is gone."""
    answer = context.resolver.run(ask(record_name(row.subject), "TXT"), fresh=True)
    now = context.clock()
    values: dict[str, Any] = {"checked_at": now}
    if any(text.text.strip() == row.token for text in answer.texts):
        values |= {
            "state": "verified",
            "verified_at": row.verified_at if row.state == "verified" else now,
            "lost_at": None,
        }
    elif not answer.failed and row.state == "verified":
        values |= {"state": "lost", "lost_at": now}
    context.store.transaction(lambda c: _keep(c, row, values, now))


def _keep(connection: Any, row: ProofRow, values: dict[str, Any], now: Any) -> None:
    store_proofs.change_proof(connection, row.id, **values)
    state = values.get("state", row.state)
    if state == row.state:
        return
    log.info("proof_changed", proof=row.id, subject=row.subject, state=state)
    if state in ("verified", "lost"):
        told = {"proof": row.id, "kind": row.kind, "subject": row.subject, "method": row.method}
        webhooks.tell(connection, row.tenant_id, f"proof.{state}", told, now)
    domain = row.subject.rpartition("@")[2]
    for watched in store_domains.list_domains(connection, row.tenant_id, name=domain):
        words = {
            "verified": f"{row.subject} is verified",
            "lost": f"{row.subject} is no longer verified: its record is gone",
        }
        entry = {"tenant_id": row.tenant_id, "domain_id": watched.id, "audit_id": 0, "happened_at": now,
                 "kind": "proof", "title": words[state][:500], "document": {"proof": row.id}}  # fmt: skip
        store_audits.add_history(connection, [entry])


def look_at_due(context: Context) -> None:
    """Re-check the records that proved domains: the worker does this from time to time."""
    rows = context.store.transaction(lambda c: store_proofs.due(c, context.clock() - _AGAIN))
    for row in rows:
        look(context, row)


def confirm_proof(context: Context, tenant: TenantAccess, id: int, code: str) -> Proof:
    """The code of the message. ServiceProblem `wrong-code` tells how many attempts left."""
    now = context.clock()
    given = "".join(code.split()).replace("-", "").upper()

    def write(connection: Any) -> str:
        row = store_proofs.get_proof(connection, tenant.id, id, lock=True)
        if row is None:
            return "not-found"
        if row.state == "verified":
            return ""
        if row.code_digest is None or row.expires_at is None or row.expires_at.replace(tzinfo=UTC) < now:
            return "This code has expired. Codes are valid for 24 hours; request a new one"
        if row.tries >= _TRIES:
            return "Too many wrong codes"
        if not secrets.compare_digest(bytes(row.code_digest), _digest(tenant, given)):
            store_proofs.change_proof(connection, id, tries=row.tries + 1)
            left = _TRIES - row.tries - 1
            return f"Wrong code; {left} {'attempt' if left == 1 else 'attempts'} left"
        _prove(connection, row, now)
        return ""

    said = context.store.transaction(write)
    if said == "not-found":
        raise _no_proof(tenant, id)
    if said:
        raise ServiceProblem("wrong-code", said, remedy="Request another message")
    return get_proof(context, tenant, id)


def _prove(connection: Any, row: ProofRow, now: Any) -> None:
    values = {"state": "verified", "verified_at": now, "checked_at": now, "code_digest": None, "link_digest": None}
    _keep(connection, row, values, now)


def subject_of_link(context: Context, link: str) -> str | None:
    """Return what a link would prove; None if it is not valid (any more)."""
    digest = hashlib.sha256(link.encode()).digest()
    row = context.store.transaction(lambda c: store_proofs.proof_of_link(c, digest))
    return row.subject if row is not None and _is_good(row, context.clock()) else None


def _is_good(row: store_proofs.ProofRow, now: datetime) -> bool:
    """Return whether a link can still be used."""
    return row.state == "waiting" and row.expires_at is not None and row.expires_at.replace(tzinfo=UTC) >= now


def confirm_link(context: Context, link: str) -> str | None:
    """Prove what a link stands for; None when it is not good (any more)."""
    digest, now = hashlib.sha256(link.encode()).digest(), context.clock()

    def read(connection: Any) -> str | None:
        row = store_proofs.proof_of_link(connection, digest)
        if row is None or not _is_good(row, now):
            return None
        _prove(connection, row, now)
        return str(row.subject)

    return context.store.transaction(read)


def get_proof(context: Context, tenant: TenantAccess, id: int) -> Proof:
    return _shown(context, _row(context, tenant, id))


def list_proofs(context: Context, tenant: TenantAccess) -> list[Proof]:
    return [_shown(context, row) for row in context.store.transaction(lambda c: store_proofs.list_proofs(c, tenant.id))]


def _row(context: Context, tenant: TenantAccess, id: int) -> ProofRow:
    row = context.store.transaction(lambda c: store_proofs.get_proof(c, tenant.id, id))
    if row is None:
        raise _no_proof(tenant, id)
    return row


def _no_proof(tenant: TenantAccess, id: int) -> ServiceProblem:
    return ServiceProblem("not-found", f"{tenant.name} has no proof {id}", remedy="List the proofs to find its id")


def _shown(context: Context, row: ProofRow) -> Proof:
    waiting = row.state == "waiting" and row.expires_at is not None
    over = waiting and (not _is_good(row, context.clock()) or row.tries >= _TRIES)
    return Proof(
        id=row.id, kind=row.kind, subject=row.subject, method=row.method, state="expired" if over else row.state,
        record_name=record_name(row.subject) if row.method == "record" else "", record=row.token, sent_to=row.sent_to,
        tries_left=max(0, _TRIES - row.tries), created_at=row.created_at, expires_at=row.expires_at,
        verified_at=row.verified_at, checked_at=row.checked_at, lost_at=row.lost_at,
    )  # fmt: skip


def list_senders(context: Context, tenant: TenantAccess) -> list[Sender]:
    """Every domain that mail is sent as, stream by stream: verified or not, aligned or not."""
    return context.store.transaction(lambda c: senders_of(c, tenant.id))


def lacks_of(
    connection: Connection, tenant_id: int, domain_ids: Collection[int] | None = None
) -> dict[tuple[str, str], Sender]:
    """Return each (domain, stream) that is not verified or not aligned, of all domains or of these.

    (domain, "") is for streams that nobody described.
    """
    out: dict[tuple[str, str], Sender] = {}
    for sender in senders_of(connection, tenant_id, domain_ids):
        if not sender.verified or sender.aligned is False:
            out[sender.domain, sender.stream] = sender
        if not sender.verified:
            unknown = Sender(
                domain=sender.domain, stream="", relays=[], verified=False, aligned=None, summary=_NOT_PROVEN
            )
            out.setdefault((sender.domain, ""), unknown)
    return out


def senders_of(connection: Connection, tenant_id: int, domain_ids: Collection[int] | None = None) -> list[Sender]:
    out = []
    for domain in store_domains.senders(connection, tenant_id, domain_ids):
        by_name: dict[str, list[str]] = {}
        for name, found in zip(domain.audited or (), domain.results or (), strict=True):
            by_name.setdefault(name, []).append(found)  # one for each relay of the stream
        covered = bool(domain.verified)
        for stream in domain.streams or [{"name": "", "relay": ""}]:
            results = by_name.get(stream["name"])
            aligned = None if results is None else all(result == "pass" for result in results)
            lacks = [] if covered else [_NOT_PROVEN]
            lacks += ["not aligned: neither SPF nor DKIM authenticates the domain in From"] if aligned is False else []
            relays = list(dict.fromkeys(n for n in [stream.get("relay", ""), *stream.get("relays", [])] if n))
            out.append(
                Sender(domain=domain.name, stream=stream["name"], relays=relays, verified=covered, aligned=aligned,
                       summary="; ".join(lacks))
            )  # fmt: skip
    return out
