"""Failure reports (RFC 6591 in the form of RFC 5965): one message that did not pass, as its receiver saw it.

Receivers redact them (RFC 6590): a local part may be replaced by anything, or the message left out. What is stored of
one is what tells which mail failed and why; the message itself stays in the original.
"""

from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime

from rust_gauge.core.errors import IpAddressError
from rust_gauge.core.mime import Entity, parse_entity, parse_fields, words
from rust_gauge.core.names import parse_ip
from rust_gauge.core.reports.unpacking import SEND_AGAIN, ReportError

_FEEDBACK = "message/feedback-report"
_ORIGINALS = ("message/rfc822", "message/global", "text/rfc822-headers", "message/global-headers")


@dataclass(frozen=True, slots=True)
class FailureReport:
    """One failure report. `failure` is dkim, spf, dmarc, adsp, bodyhash, revoked or signature (RFC 6591 §3.1); `at` in
    Unix seconds, 0 where not told. What a receiver left out or redacted is empty.
    """

    reporter: str
    report_id: str
    domain: str
    at: int
    failure: str
    aligned: str
    delivery: str
    source_ip: str
    mail_from: str
    header_from: str
    dkim_domain: str
    selector: str
    dkim_identity: str
    spf_record: str
    results: str
    message_id: str
    subject: str
    incidents: int = 1
    redacted: bool = False


def is_failure_report(message: Entity) -> bool:
    """Return whether a message has a part for software as RFC 5965 wants it."""
    return any(part.type == _FEEDBACK for part in message.walk())


def read_failure_report(raw: bytes) -> FailureReport:
    """Read a message. ReportError if it is a complaint or another kind of feedback, or names no domain."""
    message = parse_entity(raw)
    part = next(part for part in message.walk() if part.type == _FEEDBACK)
    fields = parse_fields(part.octets(64 * 1024))
    kind = _first(fields, "feedback-type").lower()
    if kind != "auth-failure":
        raise ReportError(
            f"This is feedback of type {kind[:40] or '(none)'}, not a failure report (auth-failure)",
            remedy="Send complaints to a feed of kind mail",
        )
    original = _original(message)
    header_from = _domain(_first(original, "from"))
    domain = _domain(_first(fields, "reported-domain")) or header_from or _domain(_first(fields, "dkim-domain"))
    if not domain:
        raise ReportError("The failure report names no domain", remedy=SEND_AGAIN)
    mail_from = _first(fields, "original-mail-from").strip("<> ")
    agent = _domain(_first(fields, "reporting-mta").rpartition(";")[2]) or _domain(message.get("from"))
    incidents = _first(fields, "incidents")
    return FailureReport(
        agent,
        message.get("message-id").strip("<> ")[:255],
        domain,
        _seconds(_first(fields, "arrival-date")) or _seconds(_first(fields, "received-date")),
        _first(fields, "auth-failure").lower()[:20],
        _first(fields, "identity-alignment").lower()[:60],
        _first(fields, "delivery-result").lower()[:20],
        _ip(_first(fields, "source-ip")),
        mail_from[:320],
        header_from,
        _domain(_first(fields, "dkim-domain")),
        _first(fields, "dkim-selector").lower()[:63],
        _first(fields, "dkim-identity")[:320],
        _first(fields, "spf-dns")[:500],
        "; ".join(fields.get("authentication-results", []))[:1000],
        _first(original, "message-id").strip("<> ")[:255],
        words(_first(original, "subject"))[:255],
        int(incidents) if incidents.isascii() and incidents.isdigit() and 0 < len(incidents) < 9 else 1,
        not original or ("@" not in mail_from and bool(mail_from)),
    )


def _original(message: Entity) -> dict[str, list[str]]:
    for part in message.walk():
        if part.type in _ORIGINALS:
            return parse_fields(part.octets(256 * 1024).lstrip().replace(b"\r\n", b"\n").partition(b"\n\n")[0])
    return {}


def _first(fields: dict[str, list[str]], name: str) -> str:
    values = fields.get(name)
    return values[0].strip() if values else ""


def _domain(text: str) -> str:
    """Return the domain of an address or a name, from a field such as `Example <a@b.example>`."""
    inner = text.rpartition("<")[2].partition(">")[0] if "<" in text else text
    name = inner.rpartition("@")[2].strip().rstrip(".").lower()
    return name[:253] if "." in name and not any(c.isspace() for c in name) else ""


def _ip(text: str) -> str:
    try:
        return str(parse_ip(text.strip("[]")))
    except IpAddressError:  # redacted, or broken
        return ""


def _seconds(text: str) -> int:
    try:
        time = parsedate_to_datetime(text)
        return max(0, int((time if time.tzinfo else time.replace(tzinfo=UTC)).timestamp()))
    except (ValueError, TypeError, OverflowError, IndexError):
        return _from_iso(text)


def _from_iso(text: str) -> int:
    try:
        time = datetime.fromisoformat(text.strip())
        return max(0, int((time if time.tzinfo else time.replace(tzinfo=UTC)).timestamp()))
    except (ValueError, OverflowError):
        return 0
