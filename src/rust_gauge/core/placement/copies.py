"""Copies of a message for seeds: each goes to one seed and carries a mark by which it is found again.

What belongs to the route of a message, and to whom it went, is made for each copy; the rest stays as it is.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from email.utils import format_datetime, formataddr

from rust_gauge.core.dkim import split_message
from rust_gauge.core.errors import InputError

MARK_FIELD = "Placement-Mark"
MAX_COPIED = 10 * 2**20  # octets of a message that is sent as copies
_MARK = re.compile(r"[a-z0-9]{20}")
_FIELD_NAME = re.compile(r"[!-9;-~]{1,80}")  # RFC 5322 §2.2
_LINE_END = re.compile(r"[\r\n\0]")
# Made for each copy, or true only of the route that the message took before.
_MADE_ANEW = frozenset(
    ("date", "from", "sender", "to", "cc", "bcc", "message-id", "return-path", "received", "delivered-to",
     "x-original-to", "envelope-to", "dkim-signature", "arc-seal", "arc-message-signature",
     "arc-authentication-results", "authentication-results", "received-spf", MARK_FIELD.lower())
)  # fmt: skip
# What a message has besides: everything else is its sender's own choice.
_ORDINARY = frozenset(
    ("subject", "reply-to", "mime-version", "content-type", "content-transfer-encoding", "content-disposition",
     "content-language", "content-id", "list-unsubscribe", "list-unsubscribe-post", "list-id", "list-help",
     "auto-submitted", "in-reply-to", "references", "organization")
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class ExtraField:
    """A header field that copies get; it takes the place of fields of that name. InputError for one that cannot be."""

    name: str
    value: str

    def __post_init__(self) -> None:
        if not _FIELD_NAME.fullmatch(self.name):
            raise InputError(f"{self.name!r} is not the name of a header field", remedy="Write it without a colon")
        if self.name.lower() in _MADE_ANEW:
            raise InputError(f"{self.name} is made for each copy", remedy="Leave it out")
        if _LINE_END.search(self.value) or len(self.value.encode()) > 900:
            raise InputError(
                f"The value of {self.name} cannot be sent", why="it has a line end, or more than 900 octets",
                remedy="Write it on one line",
            )  # fmt: skip


@dataclass(frozen=True, slots=True)
class CopyPlan:
    """How copies of one message are made. An empty `from_address` keeps the From of the message.

    `keep_custom`: fields that are the sender's own choice, such as X-Template, stay; otherwise they are left out.
    """

    from_name: str = ""
    from_address: str = ""
    keep_custom: bool = True
    extra: Sequence[ExtraField] = ()


def new_mark(random: bytes) -> str:
    """Return a mark from at least 10 random octets: 20 characters that survive every transport."""
    if len(random) < 10:
        raise ValueError("a mark needs 10 random octets")
    return random[:10].hex()


def is_mark(text: str) -> bool:
    """Return whether a text can be a mark."""
    return _MARK.fullmatch(text) is not None


def make_copy(raw: bytes, plan: CopyPlan, *, mark: str, to: str, domain: str, now: datetime) -> bytes:
    """Return a message as it is sent to one seed, with CRLF. `domain` is that of its Message-ID.

    InputError for a message that is too long, or has no header or no From that could stay.
    """
    if len(raw) > MAX_COPIED:
        raise InputError(
            f"The message has {len(raw) / 2**20:.0f} MB", why=f"at most {MAX_COPIED / 2**20:.0f} MB are sent as copies"
        )
    message = split_message(raw)
    if not message.fields:
        raise InputError("This is not a message", why="it has no header", remedy="Hand in the complete source")
    if plan.from_address:
        sender = f"From: {formataddr((plan.from_name, plan.from_address))}".encode()
    else:
        first = next(iter(message.all("From")), None)
        if first is None:
            raise InputError("The message has no From", remedy="Add one, or set a From address at the outlet")
        sender = first.raw
    replaced = {field.name.lower() for field in plan.extra}
    kept = [
        field.raw
        for field in message.fields
        if (name := field.name.lower()) not in _MADE_ANEW
        and name not in replaced
        and (plan.keep_custom or name in _ORDINARY)
    ]
    lines = [
        f"Date: {format_datetime(now)}".encode(), sender, f"To: {to}".encode(),
        f"Message-ID: <{mark}@{domain}>".encode(), f"{MARK_FIELD}: {mark}".encode(), *kept,
        *(f"{field.name}: {field.value}".encode() for field in plan.extra),
    ]  # fmt: skip
    return b"\r\n".join(lines) + b"\r\n\r\n" + message.body
