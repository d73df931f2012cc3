"""What a receiver did to a copy: the way it took, what was verified, and what was changed on the way.

Of Authentication-Results (RFC 8601) only the topmost field counts: the provider that a seed is at put it there last;
anything below may come from anybody.
"""

import difflib
import re
from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime

from rust_gauge.core.assay.headers import parsed_date
from rust_gauge.core.dkim import MailMessage, split_message
from rust_gauge.core.mime import words

_MOST_HOPS, _MOST_CHANGES, _MOST_LINES = 40, 40, 4000
_LONGEST = 500  # characters of a value that is shown
_COMMENT = re.compile(r"\([^()]*\)")
_RESULT = re.compile(r"([a-z][a-z0-9-]{0,30})(?:/[0-9]+)?\s*=\s*([a-z]{1,20})", re.IGNORECASE)
_PROPERTY = re.compile(r"\b((?:smtp|header|body|policy)\.[a-z0-9-]+)\s*=\s*(\"[^\"]*\"|[^\s;\"]+)", re.IGNORECASE)
_BY = re.compile(r"\bby\s+([^\s;()]+)", re.IGNORECASE)
_FROM = re.compile(r"^\s*from\s+([^\s;()]+)", re.IGNORECASE)
_WITH = re.compile(r"\bwith\s+([A-Z0-9]+)", re.IGNORECASE)
# Added by every receiver, and by servers on the way.
_ADDED_ON_THE_WAY = frozenset(
    ("received", "return-path", "delivered-to", "x-original-to", "envelope-to", "authentication-results",
     "received-spf", "arc-seal", "arc-message-signature", "arc-authentication-results", "dkim-signature", "x-received")
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Hop:
    """One Received field (RFC 5321 §4.4), as its server wrote it. `seconds` since the hop before; negative where clocks
    differ, None where one of the times cannot be read."""

    from_host: str
    by_host: str
    protocol: str
    at: datetime | None
    seconds: float | None


@dataclass(frozen=True, slots=True)
class Verified:
    """One result that the receiver recorded (RFC 8601 §2.2), such as dkim, pass, header.d=news.d.example."""

    method: str
    result: str
    properties: str


@dataclass(frozen=True, slots=True)
class FieldChange:
    """What arrived otherwise than it was sent. `where` is the name of a header field, or `body`. Empty `before`: it was
    added; empty `after`: it was removed."""

    where: str
    before: str
    after: str


@dataclass(frozen=True, slots=True)
class Arrival:
    """What a receiver did to a copy."""

    hops: tuple[Hop, ...]
    verified: tuple[Verified, ...]
    changes: tuple[FieldChange, ...]


def read_arrival(sent: bytes, received: bytes) -> Arrival:
    """Compare a copy with what arrived. Never raises: what cannot be understood is left out."""
    before, after = split_message(sent), split_message(received)
    results = after.all("Authentication-Results")
    verified = _verified(results[0].text) if results else ()
    return Arrival(_hops(after), verified, tuple(_changes(before, after)[:_MOST_CHANGES]))


def _hops(message: MailMessage) -> tuple[Hop, ...]:
    hops: list[Hop] = []
    earlier: datetime | None = None
    for field in message.all("Received")[:_MOST_HOPS][::-1]:
        text, _, date = field.text.rpartition(";")
        at = parsed_date(date.strip())
        text = text or field.text
        found = [each.search(text) for each in (_FROM, _BY, _WITH)]
        names = [match[1][:253] if match else "" for match in found]
        seconds = (at - earlier).total_seconds() if at is not None and earlier is not None else None
        hops.append(Hop(names[0], names[1], names[2], at, seconds))
        earlier = at
    return tuple(hops)


def _verified(text: str) -> tuple[Verified, ...]:
    for _ in range(5):  # comments nest (RFC 5322 §3.2.2), though hardly ever deeper
        text, count = _COMMENT.subn(" ", text[:8000])
        if not count:
            break
    found = []
    for part in text.split(";")[1:]:  # the first part names the server
        match = _RESULT.match(part.strip())
        if match:
            properties = " ".join(f"{name}={value}" for name, value in _PROPERTY.findall(part))
            found.append(Verified(match[1].lower(), match[2].lower(), properties[:_LONGEST]))
    return tuple(found[:20])


def _changes(before: MailMessage, after: MailMessage) -> list[FieldChange]:
    changes: list[FieldChange] = []
    was, now = _values(before), _values(after)
    for name in dict.fromkeys((*was, *now)):
        if name.lower() in _ADDED_ON_THE_WAY or was.get(name) == now.get(name):
            continue
        changes.append(FieldChange(name, " | ".join(was.get(name, ())), " | ".join(now.get(name, ()))))
    changes += _body_changes(before.body, after.body)
    return changes


def _values(message: MailMessage) -> dict[str, list[str]]:
    values: dict[str, list[str]] = defaultdict(list)
    for field in message.fields:
        values[field.name.title()].append(words(field.text)[:_LONGEST])
    return values


def _body_changes(before: bytes, after: bytes) -> list[FieldChange]:
    """Compare lines as `relaxed` does (RFC 6376 §3.4.4): blanks at their ends, and empty lines at the end, do not
    count."""
    was, now = _lines(before), _lines(after)
    if was == now:
        return []
    if len(was) > _MOST_LINES or len(now) > _MOST_LINES:
        return [FieldChange("body", f"{len(was):,} lines", f"{len(now):,} lines, too many to compare")]
    found = []
    for tag, a, b, c, d in difflib.SequenceMatcher(None, was, now, autojunk=False).get_opcodes():
        if tag != "equal":
            old, new = (b"\n".join(lines).decode("utf-8", "replace")[:_LONGEST] for lines in (was[a:b], now[c:d]))
            found.append(FieldChange("body", old, new))
    return found


def _lines(body: bytes) -> list[bytes]:
    lines = [line.rstrip() for line in body.splitlines()]
    while lines and not lines[-1]:
        lines.pop()
    return lines
