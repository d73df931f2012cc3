"""A report by return mail: what is sent to report@ the bench domain is answered with its assay, as text and HTML.

The answer goes to the envelope sender only, when SPF or DKIM authenticates it, and is on its way before the message is
accepted: whoever gets none finds the reason in the reply, and nothing bounces to a stranger. There are no loops: the
answer has the null return path and says that it is automatic (RFC 3834), and automatic mail is refused.
"""

import threading
from collections import deque
from datetime import datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime, make_msgid
from typing import Any

import structlog

from rust_gauge.contract.assays import Assay
from rust_gauge.core.assay import Examined, Message, Sending
from rust_gauge.core.errors import AddressError, InputError
from rust_gauge.core.mime import words
from rust_gauge.core.names import parse_address, registered_domain
from rust_gauge.core.spf import SpfResult
from rust_gauge.documents.assays import assay_document
from rust_gauge.gateways.bench_in import Delivery
from rust_gauge.gateways.mail_out import MailNotSent, send
from rust_gauge.service.assays.assays import examined
from rust_gauge.service.bench.catching import Arrival, catch
from rust_gauge.service.bench.conversations import conversation_of
from rust_gauge.service.bench.trays import TRAY_OCTETS
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.mail import relay_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.templates import render
from rust_gauge.store.trays import TrayRow

log = structlog.get_logger()
LOCAL_PART = "report"
MAX_REPORTED = min(10 * 2**20, TRAY_OCTETS)  # octets of a message that is answered
_OF_SENDER, _OF_DOMAIN, _OF_ALL = 20, 100, 2000  # reports in an hour
_HOUR = timedelta(hours=1)
_LONGEST_SUBJECT = 120
_MOST_PLACES = 5


class Limits:
    """How many reports went out in the last hour, by sender and domain and altogether."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._sent: dict[str, deque[datetime]] = {}

    def take(self, sender: str, now: datetime) -> bool:
        """Count a report to a sender. False when there were too many."""
        keys = ((sender.lower(), _OF_SENDER), (f"@{sender.rpartition('@')[2].lower()}", _OF_DOMAIN), ("", _OF_ALL))
        with self._lock:
            for key in [key for key, times in self._sent.items() if times[-1] <= now - _HOUR]:
                del self._sent[key]
            for key, most in keys:
                times = self._sent.get(key, deque())
                while times and times[0] <= now - _HOUR:
                    times.popleft()
                if len(times) >= most:
                    return False
            for key, _ in keys:
                self._sent.setdefault(key, deque()).append(now)
        return True


def answer(context: Context, delivery: Delivery, tray: TrayRow | None, limits: Limits) -> str:
    """Examine a message, send the report to its sender, and return the SMTP reply.

    With a tray, its tenant's lists and settings count, and the message is caught there.
    """
    why = _no_report(context, delivery)
    if why:
        return f"550 5.7.1 No report: {why}"
    sending = Sending(delivery.client_ip, delivery.helo, delivery.mail_from)
    now = context.clock()
    try:
        done = examined(context, tray.tenant_id if tray else None, delivery.raw, sending, now, fresh=False)
    except InputError as error:
        return f"550 5.6.0 No report: {error}".encode("ascii", "replace").decode()
    if not authenticates(done, delivery.mail_from):
        return f"550 5.7.1 No report: neither SPF nor DKIM authenticates {_ascii(delivery.mail_from)}"
    if not limits.take(delivery.mail_from, now):
        return "450 4.7.1 No report: too many in the last hour, try again later"
    try:
        host, port = relay_of(context.settings)
        message = make_report(assay_document(done), delivery, context.settings.bench_domain, now)
        send(host, port, message, "", delivery.mail_from, context.settings.bench_name)
    except (MailNotSent, ServiceProblem) as error:
        log.warning("report_not_sent", to=delivery.mail_from, error=str(error))
        return "451 4.4.0 The report could not be sent, try again later"
    log.info("report_sent", to=delivery.mail_from, mark=done.assay.mark)
    if tray is not None:
        reply = f"250 2.0.0 Answered, and caught in {tray.name}"
        arrival = Arrival("address", delivery.mail_from, delivery.recipients, conversation_of(delivery, reply))
        try:
            catch(context, tray, delivery.raw, arrival)
        except ServiceProblem as problem:
            return f"250 2.0.0 Answered; not caught: {_ascii(str(problem))}"
        return reply
    return "250 2.0.0 Answered"


def _no_report(context: Context, delivery: Delivery) -> str:
    """Return why a message is never answered, whoever sent it; empty where it may be."""
    if not delivery.mail_from:
        return "the message has the null return path"
    try:
        sender = parse_address(delivery.mail_from)
    except AddressError:
        return "the return path is not an address"
    if str(sender.domain) == context.settings.bench_domain:
        return "the message comes from the bench itself"
    message = Message(delivery.raw)
    said = message.value("Auto-Submitted").partition(";")[0].strip().lower()
    if said not in ("", "no"):
        return f"the message says that it is automatic (Auto-Submitted: {_ascii(said[:40])}, RFC 3834)"
    if message.fields("X-Loop"):
        return "the message was answered before (X-Loop)"
    return ""


def authenticates(done: Examined, mail_from: str) -> bool:
    """Return whether SPF passes for the sender's domain, or a signature of its organisation does."""
    found = done.authentication
    domain = mail_from.rpartition("@")[2].lower()
    if found is None:
        return False
    if found.spf is not None and found.spf.mail_from.result is SpfResult.PASS:
        return True
    return any(
        str(verdict.result) == "pass"
        and registered_domain(verdict.signature.domain.lower()) == registered_domain(domain)
        for verdict in found.signatures
    )


def make_report(assay: Assay, delivery: Delivery, domain: str, now: datetime) -> EmailMessage:
    """Return the answer: the mark and every finding as text and HTML, and the header that a receiver would write."""
    received = Message(delivery.raw)
    subject = " ".join(words(assay.subject).split())[:_LONGEST_SUBJECT] or "(no subject)"
    made = EmailMessage()
    made["From"] = f"Rust Gauge <{LOCAL_PART}@{domain}>"
    made["To"] = delivery.mail_from
    made["Subject"] = f"Mark {assay.mark:g} of 100: {subject}"
    made["Date"] = format_datetime(now)
    made["Message-ID"] = make_msgid(domain=domain)
    made["Auto-Submitted"] = "auto-replied"
    made["X-Loop"] = f"{LOCAL_PART}@{domain}"
    reference = received.value("Message-ID").strip()
    if reference.isascii() and reference.isprintable() and len(reference) < 300 and " " not in reference:
        made["In-Reply-To"] = made["References"] = reference
    values = _values(assay, delivery, subject)
    made.set_content(_text(values))
    made.add_alternative(render("assay.html", **values), subtype="html")
    return made


def _values(assay: Assay, delivery: Delivery, subject: str) -> dict[str, Any]:
    facts = [
        ("Subject", subject), ("From", assay.header_from), ("Envelope sender", delivery.mail_from),
        ("Client", f"{delivery.client_ip} as {delivery.helo}"),
        ("TLS", f"{delivery.tls}, {delivery.cipher}" if delivery.tls else "none"),
        ("Size", f"{assay.size:,} octets"), ("Rules dated", assay.rules_dated),
    ]  # fmt: skip
    return {
        "mark": f"{assay.mark:g}", "subject": subject, "facts": facts, "findings": assay.findings,
        "not_checked": assay.not_checked, "results": assay.results_header, "most": _MOST_PLACES,
        "taken": f"{round(100 - assay.mark, 1):g}",
    }  # fmt: skip


def _text(values: dict[str, Any]) -> str:
    lines = [f"Mark {values['mark']} of 100", ""]
    lines += [f"{name}: {value}" for name, value in values["facts"]]
    for finding in values["findings"]:
        times = f" ({finding.count} times)" if finding.count > 1 else ""
        lines += ["", f"{finding.level.upper()}  -{finding.points:g}  {finding.title}{times}"]
        lines += [f"    {place.name} {place.text}".rstrip() for place in finding.places[:_MOST_PLACES] if place.text]
        lines += [f"    {finding.effect}", f"    {finding.remedy}"]
    if not values["findings"]:
        lines += ["", "No findings."]
    if values["results"]:
        lines += ["", "A receiver would write:", values["results"]]
    lines += ["", *(f"Not checked: {each}" for each in values["not_checked"])]
    return "\n".join(lines) + "\n"


def _ascii(text: str) -> str:
    return text.encode("ascii", "replace").decode()[:200]
