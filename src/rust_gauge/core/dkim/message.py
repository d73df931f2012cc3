"""A message as DKIM sees it (RFC 5322 §2, RFC 6376 §3.4): header fields in order with their octets, and the body.

Nothing is decoded: signatures are over octets. Lines that end in a bare LF, as files on disk have them, are given
the CRLF that they had on the wire, and `bare_lf` says so.
"""

import re
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

_FIELD = re.compile(rb"([!-9;-~]+)[ \t]*:")
_NEXT = re.compile(rb"\r\n(?![ \t])")


class HeaderField(NamedTuple):  # every message has dozens: a named tuple is made three times as fast
    """One field. `raw` is all of it, folds included, without the last CRLF."""

    name: str  # as written
    raw: bytes

    @property
    def value(self) -> bytes:
        """What stands behind the colon."""
        return self.raw.partition(b":")[2]

    @property
    def text(self) -> str:
        """The value on one line, for showing."""
        return " ".join(self.value.decode("utf-8", "backslashreplace").split())


@dataclass(frozen=True)
class MailMessage:
    """Fields from the top down, the body, and lines of the header that are no field."""

    fields: tuple[HeaderField, ...]
    body: bytes
    bare_lf: bool = False
    strays: tuple[str, ...] = ()

    def all(self, name: str) -> tuple[HeaderField, ...]:
        """Return the fields of this name, from the top down."""
        return self.by_name.get(name.lower(), ())

    @cached_property
    def by_name(self) -> dict[str, tuple[HeaderField, ...]]:
        """Fields from the top down, by their name in lower case."""
        found: dict[str, list[HeaderField]] = {}
        for field in self.fields:
            found.setdefault(field.name.lower(), []).append(field)
        return {name: tuple(fields) for name, fields in found.items()}


def split_message(raw: bytes) -> MailMessage:
    """Read a message. Never raises: lines that are not header fields are in `strays`."""
    bare = _has_bare_lf(raw)
    if bare:
        raw = raw.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")
    if raw.startswith(b"\r\n"):
        return MailMessage((), raw[2:], bare)
    head, _, body = raw.partition(b"\r\n\r\n")
    if head.endswith(b"\r\n"):
        head = head[:-2]
    fields: list[HeaderField] = []
    strays: list[str] = []
    for line in _NEXT.split(head):
        match = _FIELD.match(line)
        if match:
            fields.append(HeaderField(match.group(1).decode("ascii"), line))
        elif line:
            strays.append(line[:80].decode("utf-8", "replace"))
    return MailMessage(tuple(fields), body, bare, tuple(strays))


def _has_bare_lf(raw: bytes) -> bool:
    """Look at the ends of the first line, of the first line of the body, and of the last line: a file is written in
    one way, or was put together from two that are. Looking at every line would cost as much as hashing them."""
    first = raw.find(b"\n")
    if first < 0:
        return False
    body = raw.find(b"\n", max(raw.find(b"\r\n\r\n") + 4, first))
    return any(at >= 0 and raw[at - 1 : at] != b"\r" for at in (first, body, raw.rfind(b"\n")))
