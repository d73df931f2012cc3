"""What a message that came back detail: of which recipients of which message, and what became of it.

Delivery status notifications (RFC 3461 to 3464, 6522, 6533), complaints and failure reports (RFC 5965, 6591), bounces
that follow no standard, and replies that people's mailboxes send by themselves (RFC 3834), which count for nothing.
"""

import re
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from enum import StrEnum
from typing import Any

from rust_gauge.core.errors import AddressError, InputError
from rust_gauge.core.names import parse_address
from rust_gauge.core.notices.entity import Entity, parse_entity, parse_fields, words
from rust_gauge.core.notices.free_text import read_free_text
from rust_gauge.core.notices.verp import verp_recipient

MAX_NOTICE = 25 * 1024 * 1024  # octets
_LOOKED_AT = 4 * 1024 * 1024  # octets; what follows is the returned message and its attachments
_MAX_RECIPIENTS = 500  # of one notice
_LONGEST = 2000  # characters of a diagnostic
_COMMENT = re.compile(r"\s*\((?:[^()\\]|\\.)*\)")
_UNITEXT = re.compile(r"\\x\{([0-9A-Fa-f]{2,6})\}")
_AUTO_SUBJECTS = (
    "auto(?:matic)?[- ]?(?:reply|response|antwort)", "out of (?:the )?office", "away from", "abwesenheit",
    "on (?:vacation|holiday|leave)", "automatische antwort", "r[eé]ponse automatique", "absence",
    "respuesta autom[aá]tica", "fuera de la oficina", "risposta automatica", "automatisch antwoord", "autosvar",
)  # fmt: skip
_BOUNCE_SUBJECTS = (
    "un-?deliver", "deliver(?:y|ies)[^a-z]{0,3}(?:status|fail|problem|error|has failed|incomplete|delayed)",
    "delivery[^a-z]{0,3}(?:notification|report|to|of|has)", "returned mail", "mail (?:delivery|system error|returned)",
    "failure notice", "could not (?:be )?deliver", "message (?:not|you sent|undeliver)", "non-?delivery", "bounced?",
    "not delivered", "nicht zugestellt", "unzustellbar", "zustellung", "non remis", "[eé]chec", "no entregado",
    "mancato recapito", "onbestelbaar", "delayed",
)  # fmt: skip
_AUTO_SUBJECT = re.compile(rf"\s*(?:{'|'.join(_AUTO_SUBJECTS)})", re.IGNORECASE)
_BOUNCE_SUBJECT = re.compile("|".join(_BOUNCE_SUBJECTS), re.IGNORECASE)
_DAEMON = re.compile(r"(?:mailer-?daemon|post-?master|mail delivery|bounce|mdaemon|maildelivery)", re.IGNORECASE)


class NoticeError(InputError):
    """A message that is not read: too large."""


class NoticeKind(StrEnum):
    """What a message is."""

    DELIVERY = "delivery"  # what became of a message, with recipients
    COMPLAINT = "complaint"
    AUTHENTICATION = "authentication"  # a failure report (RFC 6591): somebody's mail did not pass
    NOT_SPAM = "not_spam"  # a report that says the opposite of a complaint
    AUTO_REPLY = "auto_reply"
    OTHER = "other"  # mail of people, or something we do not know


@dataclass(frozen=True, slots=True)
class NoticeRecipient:
    """What became of a message for one recipient. `action` of RFC 3464 §2.3.3; `status` an enhanced code or empty."""

    recipient: str
    action: str = "failed"
    status: str = ""
    diagnostic: str = ""
    remote_host: str = ""
    at: datetime | None = None


@dataclass(frozen=True, slots=True)
class Notice:
    """A notice. `standard` names the format that it follows; `of_*` speak of the message that it is about."""

    kind: NoticeKind
    standard: str = ""
    recipients: tuple[NoticeRecipient, ...] = ()
    notice_id: str = ""
    at: datetime | None = None
    of_message_id: str = ""
    of_from: str = ""
    of_mail_from: str = ""
    of_subject: str = ""
    of_fields: dict[str, str] = field(default_factory=dict)
    feedback_type: str = ""
    source_ip: str = ""
    reporter: str = ""
    problem: str = ""  # why it is `other` although it looked like more


def read_notice(raw: bytes, sent_to: str = "") -> Notice:
    """Read what a message says. `sent_to` is the envelope recipient that it came to, for VERP.

    NoticeError when it is too large.
    """
    if len(raw) > MAX_NOTICE:
        size = f"{len(raw) // 2**20} MB"
        raise NoticeError(
            f"The message has {size}; {MAX_NOTICE // 2**20} MB is the limit", remedy="Notices are never that large"
        )
    message = parse_entity(raw[:_LOOKED_AT])
    parts = list(message.walk())
    own = _after(parts, "message/rfc822", "message/global")
    status = _find(parts, own, "message/delivery-status", "message/global-delivery-status")
    feedback = _find(parts, own, "message/feedback-report")
    common: dict[str, Any] = {"notice_id": _message_id(message.get("message-id")), "at": _date(message.get("date"))}
    if feedback is not None:
        return _feedback(message, feedback, parts, common, sent_to)
    if status is not None:
        return _status(message, status, parts, common, sent_to)
    if _is_auto_reply(message):
        return Notice(NoticeKind.AUTO_REPLY, "RFC 3834", **common)
    return _free(message, parts, common, sent_to)


def _after(parts: list[Entity], *types: str) -> set[int]:
    """Parts that belong to an enclosed message, by identity: what it carries is not what this notice says."""
    return {id(below) for part in parts if part.type in types for below in part.walk() if below is not part}


def _find(parts: list[Entity], own: set[int], *types: str) -> Entity | None:
    return next((part for part in parts if part.type in types and id(part) not in own), None)


# Delivery status (RFC 3464)


def _status(message: Entity, status: Entity, parts: list[Entity], common: dict[str, Any], sent_to: str) -> Notice:
    groups = [parse_fields(group) for group in re.split(rb"\r?\n[ \t]*\r?\n", _decoded(status)) if group.strip()]
    about = groups[0] if groups else {}
    rest = groups[1:]
    if "final-recipient" in about or "original-recipient" in about:  # some leave out the group of the message
        rest, about = groups, {}
    original = _original(parts, status)
    verp = verp_of(sent_to, original)
    recipients = []
    for group in rest[:_MAX_RECIPIENTS]:
        if "final-recipient" not in group and "original-recipient" not in group:
            continue
        recipient = _address(_first(group, "original-recipient")) or _address(_first(group, "final-recipient"))
        if verp and len(rest) == 1:
            recipient = verp  # what we mailed; forwarding may have changed the rest
        if not recipient:
            continue
        action = _COMMENT.sub("", _first(group, "action")).strip().lower()
        diagnostic = _typed(_first(group, "diagnostic-code"))
        code = _COMMENT.sub("", _first(group, "status")).strip().split(" ")[0]
        recipients.append(
            NoticeRecipient(
                recipient,
                action if action in ("failed", "delayed", "delivered", "relayed", "expanded") else _action_of(code),
                code if re.fullmatch(r"[245]\.\d{1,3}\.\d{1,3}", code) else "",
                diagnostic[:_LONGEST],
                _typed(_first(group, "remote-mta"))[:255],
                _date(_first(group, "last-attempt-date")) or _date(_first(about, "arrival-date")),
            )
        )
    if not recipients:
        return Notice(
            NoticeKind.OTHER, "RFC 3464", problem="the status has no recipient address", **common,
        )  # fmt: skip
    return Notice(
        NoticeKind.DELIVERY, "RFC 3464", tuple(recipients), reporter=_typed(_first(about, "reporting-mta"))[:255],
        **common, **original,
    )  # fmt: skip


def _decoded(part: Entity) -> bytes:
    if part.parts:  # a message/... that was parsed as a message of its own
        return part.body
    encoding = part.get("content-transfer-encoding").strip().lower()
    return part.text().encode("utf-8", "replace") if encoding in ("base64", "quoted-printable") else part.body


def _first(fields: dict[str, list[str]], name: str) -> str:
    values = fields.get(name)
    return values[0] if values else ""


def _action_of(code: str) -> str:
    return {"2": "delivered", "4": "delayed"}.get(code[:1], "failed")


def _typed(value: str) -> str:
    """Return a value behind its type: `smtp; 550 no` gives `550 no` (RFC 3464 §2.1.2)."""
    kind, semicolon, rest = value.partition(";")
    return (rest if semicolon and re.fullmatch(r"[\w-]+", kind.strip()) else value).strip()


def _address(value: str) -> str:
    """Return the mailbox in a typed value; `utf-8` addresses may be in unitext (RFC 6533 §3). Empty if it is none."""
    text = _COMMENT.sub("", _typed(value)).strip().strip("<>")
    if "\\x{" in text:
        text = _UNITEXT.sub(lambda found: chr(min(int(found[1], 16), 0x10FFFF)), text)
    if "+" in text and re.search(r"\+[0-9A-F]{2}", text) and value.partition(";")[0].strip().lower() == "rfc822":
        text = re.sub(r"\+(2B|3D|20)", lambda found: chr(int(found[1], 16)), text)  # xtext (RFC 3461 §4)
    try:
        return str(parse_address(text))
    except AddressError:
        return ""


def _date(value: str) -> datetime | None:
    """Return a date of RFC 5322 in UTC; None for anything else."""
    if not value:
        return None
    try:
        date = parsedate_to_datetime(_COMMENT.sub("", value)[:100])
        return (date.replace(tzinfo=UTC) if date.tzinfo is None else date).astimezone(UTC)
    except (ValueError, TypeError, IndexError, OverflowError):
        return None


def _message_id(value: str) -> str:
    found = re.search(r"<([^<>\s]+)>", value)
    return (found.group(1) if found else value.strip())[:255]


_KEPT = 40  # fields of the original message that mappings may look at


def _original(parts: list[Entity], status: Entity | None) -> dict[str, Any]:
    """Read what the returned message, or its header, tells of itself."""
    fields: dict[str, list[str]] = {}
    for part in parts:
        if part is status:
            continue
        if part.type in ("message/rfc822", "message/global") and part.parts:
            fields = part.parts[0].fields
        elif part.type in ("text/rfc822-headers", "message/global-headers", "text/rfc822"):
            fields = parse_fields(_decoded(part))
        if fields:
            break
    return _of(fields)


def _of(fields: dict[str, list[str]]) -> dict[str, Any]:
    return {
        "of_message_id": _message_id(_first(fields, "message-id")),
        "of_from": _from(_first(fields, "from")),
        "of_mail_from": _from(_first(fields, "return-path")),
        "of_subject": words(_first(fields, "subject"))[:255],
        "of_fields": {name: values[0][:500] for name, values in list(fields.items())[:_KEPT]},
    }


def _from(value: str) -> str:
    try:
        return str(parse_address(words(value)))
    except AddressError:
        return ""


def verp_of(sent_to: str, original: dict[str, Any]) -> str:
    """Return the recipient that the return path was made for."""
    return verp_recipient(sent_to) or verp_recipient(original.get("of_mail_from", ""))


# Feedback (RFC 5965, RFC 6591)


def _feedback(message: Entity, feedback: Entity, parts: list[Entity], common: dict[str, Any], sent_to: str) -> Notice:
    fields = parse_fields(_decoded(feedback))
    kind = _COMMENT.sub("", _first(fields, "feedback-type")).strip().lower() or "abuse"
    original = _original(parts, feedback)
    mail_from = _from(_first(fields, "original-mail-from")) or original["of_mail_from"]
    recipients = [found for value in fields.get("original-rcpt-to", [])[:_MAX_RECIPIENTS] if (found := _address(value))]
    verp = verp_of(sent_to, {"of_mail_from": mail_from})
    if verp:
        recipients = [verp]
    if not recipients:
        to = _from(original["of_fields"].get("to", ""))
        recipients = [to] if to else []
    at = _date(_first(fields, "arrival-date")) or _date(_first(fields, "received-date"))
    what = {"auth-failure": NoticeKind.AUTHENTICATION, "not-spam": NoticeKind.NOT_SPAM}.get(kind, NoticeKind.COMPLAINT)
    named = tuple(NoticeRecipient(fromkey, "reported", at=at) for fromkey in dict.fromkeys(recipients))
    problem = "" if named or what is not NoticeKind.COMPLAINT else "the report does not name the recipient"
    ip = _first(fields, "source-ip").strip()
    merged = {**original, "of_mail_from": mail_from}
    return Notice(
        what, "RFC 6591" if what is NoticeKind.AUTHENTICATION else "RFC 5965", named, feedback_type=kind[:40],
        source_ip=ip if re.fullmatch(r"[0-9A-Fa-f:.]{3,45}", ip) else "",
        reporter=_first(fields, "user-agent")[:255], problem=problem, **common, **merged,
    )  # fmt: skip


# Replies that nobody wrote, and bounces of no standard


def _is_auto_reply(message: Entity) -> bool:
    """RFC 3834 §5, and what was usual before it."""
    submitted = _COMMENT.sub("", message.get("auto-submitted")).strip().lower().partition(";")[0].strip()
    subject = words(message.get("subject"))
    if submitted == "auto-replied":
        return not (_DAEMON.search(message.get("from")) and _BOUNCE_SUBJECT.search(subject))
    if message.get("x-autoreply") or message.get("x-autorespond") or message.get("x-auto-response-suppress") == "OOF":
        return True
    if message.get("precedence").strip().lower() == "auto_reply":
        return True
    return bool(_AUTO_SUBJECT.match(subject))


def _free(message: Entity, parts: list[Entity], common: dict[str, Any], sent_to: str) -> Notice:
    """Read a bounce whose text has to be read as people read it."""
    subject = words(message.get("subject"))
    failed = [found for value in message.fields.get("x-failed-recipients", []) for found in _addresses(value)]
    looks = bool(_DAEMON.search(message.get("from"))) or message.get("return-path").strip() == "<>"
    if not failed and not (looks or _BOUNCE_SUBJECT.search(subject)):
        return Notice(NoticeKind.OTHER, **common)
    text = next((part.text() for part in parts if part.type == "text/plain" and part.body.strip()), "")
    if not text:
        html = next((part.text() for part in parts if part.type == "text/html"), "")
        text = re.sub(r"<(?:br|/p|/div|/tr)[^>]{0,200}>", "\n", html[:200_000], flags=re.IGNORECASE)
        text = re.sub(r"<[^@<>]{0,500}>", " ", text)
    found = read_free_text(text)
    original = _original(parts, None)
    if not original["of_message_id"] and found.header:
        original = _of(parse_fields(found.header.encode("utf-8", "replace")))
    verp = verp_of(sent_to, original)
    people = [verp] if verp else failed or [address for address, _ in found.recipients]
    replies = dict(found.recipients)
    delayed = bool(re.search(r"delay|not yet|still being", subject, re.IGNORECASE))
    action = "delayed" if delayed or found.delayed else "failed"
    recipients = tuple(
        NoticeRecipient(fromkey, action, diagnostic=(replies.get(fromkey) or found.reply)[:_LONGEST])
        for fromkey in list(dict.fromkeys(people))[:_MAX_RECIPIENTS]
    )
    if not recipients:
        problem = "it looks like a bounce, but has no recipient"
        return Notice(NoticeKind.OTHER, problem=problem, **common, **original)
    return Notice(NoticeKind.DELIVERY, "none", recipients, **common, **original)


def _addresses(value: str) -> list[str]:
    return [found for text in value.split(",")[:_MAX_RECIPIENTS] if (found := _from(text))]
