"""What a message that came back detail: of which recipients of which message, and what became of it.

Delivery status notifications (RFC 3461 to 3464, 6522, 6533), complaints and failure reports (RFC 5965, 6591), bounces
that follow no standard, and replies that people's mailboxes send by themselves (RFC 3834), which count for nothing.
"""

import html
import re
from dataclasses import dataclass, field
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from enum import StrEnum
from typing import Any

from rust_gauge.core.errors import AddressError, InputError
from rust_gauge.core.mime import Entity, parse_entity, parse_fields, words
from rust_gauge.core.names import parse_address
from rust_gauge.core.notices.free_text import read_free_text
from rust_gauge.core.notices.senders import is_auto_reply, is_machine, looks_like_bounce
from rust_gauge.core.notices.verp import verp_recipient
from rust_gauge.core.replies import cut_reply

MAX_NOTICE = 25 * 1024 * 1024  # octets
_LOOKED_AT = 4 * 1024 * 1024  # octets; what follows is the returned message and its attachments
_MAX_RECIPIENTS = 20_000  # of one notice; those beyond are counted
_LONGEST = 2000  # characters of a diagnostic
_COMMENT = re.compile(r"[ \t]{0,8}\((?:[^()\\]|\\.){0,500}\)")
_UNITEXT = re.compile(r"\\x\{([0-9A-Fa-f]{2,6})\}")
_DELAYED_SUBJECT = re.compile(
    r"delay|not yet|still being|verzögert|retard|vertraagd|opóźni|zpožd|késl|försen", re.IGNORECASE
)
_STATUS_FIELD = re.compile(r"^[ \t>]{0,20}(?:final|original)-recipient[ \t]{0,8}:", re.IGNORECASE | re.MULTILINE)


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
    more: int = 0  # recipients beyond the limit, which were not read


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
    types = ("message/delivery-status", "message/global-delivery-status")
    status = [part for part in parts if part.type in types and id(part) not in own]
    feedback = _find(parts, own, "message/feedback-report")
    common: dict[str, Any] = {"notice_id": _message_id(message.get("message-id")), "at": _date(message.get("date"))}
    if feedback is not None:
        return _feedback(message, feedback, parts, common, sent_to)
    groups = [group for part in status for group in _groups(_decoded(part))]
    notice = _status(groups, parts, status, common, sent_to) if status else None
    if notice is None and not status and is_auto_reply(message):
        return Notice(NoticeKind.AUTO_REPLY, "RFC 3834", **common)
    text = _text_of(message, [part for part in parts if id(part) not in own])
    if notice is None:  # the machine-readable part is missing, mistyped, broken, or pasted as text
        pasted = _pasted(text, message, parts, own)
        if pasted and (status or is_machine(message, parts, pasted)):
            notice = _status(_groups(pasted.encode("utf-8", "replace")), parts, status, common, sent_to)
    if notice is not None:
        return notice
    read = _free(message, parts, common, sent_to, text, machine=bool(status) or is_machine(message, parts, text))
    if status and not read.recipients and not read.problem:
        return Notice(NoticeKind.OTHER, "RFC 3464", problem="the status has no recipient address", **common)
    return read


def _after(parts: list[Entity], *types: str) -> set[int]:
    """Parts that belong to an enclosed message, by identity: what it carries is not what this notice says."""
    return {id(below) for part in parts if part.type in types for below in part.walk() if below is not part}


def _find(parts: list[Entity], own: set[int], *types: str) -> Entity | None:
    return next((part for part in parts if part.type in types and id(part) not in own), None)


# Delivery status (RFC 3464)


def _groups(octets: bytes) -> list[dict[str, list[str]]]:
    """Return the groups of fields of a status, without those that have none."""
    pieces = re.split(rb"\r?\n[ \t]*(?:\r?\n[ \t]*)+", octets)
    return [fields for piece in pieces if piece.strip() and (fields := parse_fields(piece))]


def _pasted(text: str, message: Entity, parts: list[Entity], own: set[int]) -> str:
    """Return the fields of a status that lie in a text part, in a part of another type, or behind a wrong boundary."""
    texts = [text]
    texts += [part.text() for part in parts if id(part) not in own and not part.parts and part.type != "text/plain"]
    if message.type.startswith("multipart/") and not message.parts:
        texts.append(message.body[:_PASTED].decode("utf-8", "replace"))
    for each in texts:
        found = _STATUS_FIELD.search(each)
        if found is not None:
            begin = each.rfind("\n\n", 0, found.start()) + 1
            return re.sub(
                r"^[ \t]{0,20}>?[ \t]{0,20}(?=[A-Za-z-]{1,40}[ \t]{0,8}:)", "", each[begin:], flags=re.MULTILINE
            )
    return ""


_QUOTED_FIELD = re.compile(r"^[ \t]{0,20}>?[ \t]{0,20}(?=[A-Za-z-]{1,40}[ \t]{0,8}:)", re.MULTILINE)
_PASTED = 512 * 1024  # octets of a body without parts that are searched


def _status(
    groups: list[dict[str, list[str]]],
    parts: list[Entity],
    status: list[Entity],
    common: dict[str, Any],
    sent_to: str,
) -> Notice | None:
    """Return the notice that groups of fields make; None if none of them has a recipient."""
    named = ("final-recipient", "original-recipient")
    about = next((group for group in groups if not any(name in group for name in named)), {})
    rest = [group for group in groups if any(name in group for name in named)]
    original = _original(parts, status)
    verp = verp_of(sent_to, original)
    recipients = []
    for group in rest[:_MAX_RECIPIENTS]:
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
                cut_reply(diagnostic, _LONGEST),
                _typed(_first(group, "remote-mta"))[:255],
                _date(_first(group, "last-attempt-date")) or _date(_first(about, "arrival-date")),
            )
        )
    if not recipients:
        return None
    return Notice(
        NoticeKind.DELIVERY, "RFC 3464", tuple(recipients), reporter=_typed(_first(about, "reporting-mta"))[:255],
        more=max(0, len(rest) - _MAX_RECIPIENTS), **common, **original,
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


def _original(parts: list[Entity], status: list[Entity]) -> dict[str, Any]:
    """Read what the returned message, or its header, tells of itself."""
    fields: dict[str, list[str]] = {}
    for part in parts:
        if any(part is each for each in status):
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
    original = _original(parts, [feedback])
    mail_from = _from(_first(fields, "original-mail-from")) or original["of_mail_from"]
    named_by = [
        text for value in fields.get("original-rcpt-to", []) for text in re.split(r"[,;](?=\s*<?[^\s,;]+@)", value)
    ]
    recipients = [found for text in named_by[:_MAX_RECIPIENTS] if (found := _address(text))]
    verp = verp_of(sent_to, {"of_mail_from": mail_from})
    if verp and len(recipients) < 2:
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


# Bounces of no standard


def _text_of(message: Entity, parts: list[Entity]) -> str:
    """Return what a message says to people: its plain texts, or its HTML as text."""
    plain = [part.text() for part in parts if part.type == "text/plain" and part.body.strip() and not part.parts]
    text = "\n\n".join(each for each in plain if each.strip())
    if text.strip():
        return text
    markup = next((part.text() for part in parts if part.type == "text/html"), "")
    if not markup and message.type.startswith("multipart/") and not message.parts:  # behind a wrong boundary
        markup = message.body[:_PASTED].decode("utf-8", "replace")
    return _without_markup(markup)


def _without_markup(markup: str) -> str:
    markup = markup[:200_000]
    for tag in ("script", "style", "head"):
        markup = _without_element(markup, tag)
    markup = re.sub(r"<(?:br|/p|/div|/tr|/li|/td|/h\d|hr)[^>]{0,300}>", "\n", markup, flags=re.IGNORECASE)
    markup = re.sub(r"<(?![^<>@\s]{1,64}@)[^<>]{0,1000}>", " ", markup)
    return html.unescape(markup).replace("\xa0", " ")


def _without_element(markup: str, tag: str) -> str:
    """Return HTML without the first elements of a kind and what is in them."""
    kept, at, lower = [], 0, markup.lower()
    for _ in range(100):
        begin = lower.find(f"<{tag}", at)
        end = lower.find(f"</{tag}", begin) if begin >= 0 else -1
        if end < 0:
            break
        kept.append(markup[at:begin])
        at = end
    return " ".join([*kept, markup[at:]])


def _free(
    message: Entity, parts: list[Entity], common: dict[str, Any], sent_to: str, text: str, *, machine: bool
) -> Notice:
    """Read a bounce whose text has to be read as people read it."""
    failed = [found for value in message.fields.get("x-failed-recipients", []) for found in _addresses(value)]
    if not machine:
        problem = "its subject is that of a bounce, but a person sent it" if looks_like_bounce(message) else ""
        quiet = bool(message.get("in-reply-to")) or not message.get("from")
        return Notice(NoticeKind.OTHER, problem="" if quiet else problem, **common)
    if is_auto_reply(message):
        return Notice(NoticeKind.AUTO_REPLY, "RFC 3834", **common)
    found = read_free_text(text)
    original = _original(parts, [])
    if not original["of_message_id"] and found.header:
        original = _of(parse_fields(found.header.encode("utf-8", "replace")))
    verp = verp_of(sent_to, original)
    people = [verp] if verp else failed or [address for address, _ in found.recipients]
    replies = dict(found.recipients)
    subject = words(message.get("subject"))
    delayed = bool(
        re.search(
            r"delay|not yet|still being|verzögert|retard|vertraagd|opóźni|zpožd|késl|försen", subject, re.IGNORECASE
        )
    )
    action = "delayed" if delayed or found.delayed else "failed"
    people = list(dict.fromkeys(people))
    recipients = tuple(
        NoticeRecipient(each, action, diagnostic=cut_reply(replies.get(each) or found.reply, _LONGEST))
        for each in people[:_MAX_RECIPIENTS]
    )
    if not recipients:
        bounce = looks_like_bounce(message) or bool(found.reply)
        problem = (
            "it looks like a bounce, but has no recipient"
            if bounce
            else "a mail system sent it, and it has no recipient"
        )
        return Notice(NoticeKind.OTHER, problem=problem, **common, **original)
    return Notice(
        NoticeKind.DELIVERY, "none", recipients, more=max(0, len(people) - _MAX_RECIPIENTS), **common, **original
    )


def _addresses(value: str) -> list[str]:
    return [found for text in value.split(",")[:_MAX_RECIPIENTS] if (found := _from(text))]
