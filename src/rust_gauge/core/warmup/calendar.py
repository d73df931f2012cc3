"""Portions as a calendar: iCalendar (RFC 5545, and RFC 7986 for its name)."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

_MOST_OCTETS = 75  # of a line, without its end (§3.1)


@dataclass(frozen=True, slots=True)
class Entry:
    """One event: when it begins and how long it takes, what it says. `uid` names it for good."""

    uid: str
    at: datetime
    length: timedelta
    summary: str
    description: str


def to_icalendar(name: str, entries: Iterable[Entry], now: datetime) -> str:
    """Return a calendar with these events; its lines end with CRLF."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Rust Gauge//Warm-up//EN", f"NAME:{_text(name)}"]
    for entry in entries:
        lines += [
            "BEGIN:VEVENT", f"UID:{_text(entry.uid)}", f"DTSTAMP:{_time(now)}", f"DTSTART:{_time(entry.at)}",
            f"DTEND:{_time(entry.at + entry.length)}", f"SUMMARY:{_text(entry.summary)}",
            f"DESCRIPTION:{_text(entry.description)}", "END:VEVENT",
        ]  # fmt: skip
    return "".join(_folded(line) for line in [*lines, "END:VCALENDAR"])


def _time(at: datetime) -> str:
    return f"{at.astimezone(UTC):%Y%m%dT%H%M%SZ}"


def _text(value: str) -> str:
    """Escape a text (§3.3.11)."""
    for plain, escaped in (("\\", "\\\\"), (";", "\\;"), (",", "\\,"), ("\r\n", "\\n"), ("\n", "\\n"), ("\r", "\\n")):
        value = value.replace(plain, escaped)
    return value


def _folded(line: str) -> str:
    """Fold a line at 75 octets, never inside a character (§3.1)."""
    out, length = [], 0
    for character in line:
        octets = len(character.encode())
        if length + octets > _MOST_OCTETS:
            out.append("\r\n ")
            length = 1
        out.append(character)
        length += octets
    return "".join(out) + "\r\n"
