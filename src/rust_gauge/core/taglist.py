"""Tag lists (RFC 6376 §3.2), the syntax that DKIM keys and DMARC records share: `v=DKIM1; k=rsa; p=...`.

Parses as far as it can and reports every mistake with its column, so that one slip hides no other.

    tag-list  = tag-spec *( ";" tag-spec ) [ ";" ]
    tag-spec  = [FWS] tag-name [FWS] "=" [FWS] tag-value [FWS]
    tag-name  = ALPHA *ALNUMPUNC          ALNUMPUNC = ALPHA / DIGIT / "_"
    tag-value = [ tval *( 1*(WSP / FWS) tval ) ]     tval = 1*VALCHAR   VALCHAR = %x21-3A / %x3C-7E
"""

import re
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

_MAX_PROBLEMS = 50  # of one list; nobody reads more
_NAME = re.compile(r"[A-Za-z][A-Za-z0-9_]*\Z")
_BLANK = " \t\r\n"
_PLAIN = re.compile(r"[\x20-\x7e\t\r\n]*\Z")
_BAD_VALUE = re.compile(r"[^\x20-\x3a\x3c-\x7e\t\r\n]")


@dataclass(frozen=True, slots=True)
class Problem:
    """A mistake in a record's text: what it is, and where. Columns count from 1."""

    what: str
    column: int
    length: int = 1
    kind: str = ""  # for problems that are distinguished by more than their text


class Tag(NamedTuple):  # every message has a dozen: a named tuple is made three times as fast
    """One `name=value`. `column` and `value_column` count from 1 in the record's text."""

    name: str
    value: str
    column: int
    value_column: int


@dataclass(frozen=True)
class TagList:
    """The tags that could be read, first of each name first, and what could not."""

    tags: tuple[Tag, ...]
    problems: tuple[Problem, ...]

    def get(self, name: str) -> Tag | None:
        """Return the first tag of this name (names are case-sensitive, RFC 6376 §3.2)."""
        return self.by_name.get(name)

    @cached_property
    def by_name(self) -> dict[str, Tag]:
        """The tags by their name."""
        return {tag.name: tag for tag in self.tags}


def parse_tag_list(text: str) -> TagList:
    """Read a tag list. Never raises: what is wrong is in `problems`."""
    return _read_plain(text) or read_carefully(text)


def _read_plain(text: str) -> TagList | None:
    """Read a list without any mistake, as nearly all are; None when there is one, whichever it is."""
    if not _PLAIN.match(text):
        return None
    tags: dict[str, Tag] = {}
    pieces = text.split(";")
    if not pieces[-1].strip(_BLANK):  # one trailing semicolon is allowed
        pieces.pop()
    at = 1
    for piece in pieces:
        raw_name, equals, raw_value = piece.partition("=")
        from_name, from_value = raw_name.lstrip(_BLANK), raw_value.lstrip(_BLANK)
        name = from_name.rstrip(_BLANK)
        if not equals or name in tags or not name.isidentifier() or name[0] == "_":
            return None
        end = at + len(raw_name)
        value_column = end + 1 + (len(raw_value) - len(from_value) if from_value else 0)
        tags[name] = Tag(name, from_value.rstrip(_BLANK), end - len(from_name), value_column)
        at += len(piece) + 1
    return TagList(tuple(tags.values()), ()) if tags else None


def read_carefully(text: str) -> TagList:
    """Read a list tag by tag, with each mistake where it is. The fast path must have the same result."""
    tags: list[Tag] = []
    problems: list[Problem] = []
    seen: set[str] = set()
    start = 0
    pieces = text.split(";")
    for index, piece in enumerate(pieces):
        if len(problems) >= _MAX_PROBLEMS:
            problems.append(Problem("the rest is not read: there are too many mistakes", start + 1))
            break
        at = start
        start += len(piece) + 1
        body = piece.strip(_BLANK)
        column = at + len(piece) - len(piece.lstrip(_BLANK)) + 1
        if not body:
            if index < len(pieces) - 1:  # one trailing semicolon is allowed
                problems.append(Problem("two semicolons in a row", at + 1, max(1, len(piece))))
            continue
        raw_name, equals, raw_value = body.partition("=")
        name = raw_name.rstrip(_BLANK)
        if not equals:
            problems.append(Problem(f"{_short(body)} is not a tag: it has no =", column, len(body)))
            continue
        if not _NAME.match(name):
            problems.append(Problem(f"{_short(name)!r} is not a tag name", column, max(1, len(name))))
            continue
        value = raw_value.strip(_BLANK)
        value_column = column + len(raw_name) + 1 + len(raw_value) - len(raw_value.lstrip(_BLANK))
        if name in seen:
            problems.append(Problem(f"the tag {name} appears twice", column, len(body)))
            continue
        seen.add(name)
        bad = _BAD_VALUE.search(value)
        if bad:
            problems.append(
                Problem(f"{bad.group()!r} is not allowed in a tag value", value_column + bad.start(), len(bad.group()))
            )
        tags.append(Tag(name, value, column, value_column))
    return TagList(tuple(tags), tuple(problems))


def _short(text: str) -> str:
    return text if len(text) <= 40 else text[:40] + "…"
