"""Rules of a tenant's own: a pattern that must be in a place of the message, or must not. Bounded as others are."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import regex

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.html import Html
from rust_gauge.core.assay.message import Message
from rust_gauge.core.assay.rules import AssayRule
from rust_gauge.core.audit import Level
from rust_gauge.core.errors import InputError
from rust_gauge.core.patterns import check_pattern

PLACES = ("subject", "text", "html", "header")
GROUP = "own"
_NAME = re.compile(r"own-[a-z0-9][a-z0-9-]{0,39}")
_PATIENCE = 0.1  # seconds for one rule
_MOST_TEXT = 200_000  # characters that are looked through
_MOST_PATTERN = 500


@dataclass(frozen=True, slots=True)
class OwnRule:
    """A rule of a tenant. It applies where the pattern is found; with `absent`, where it is not.

    `where`: subject, text (what people read), html (the source), or header (the field of that name, by its values).
    """

    key: str
    where: str
    pattern: str
    level: str
    points: float
    title: str
    header: str = ""
    absent: bool = False
    remedy: str = ""

    def compiled(self) -> "regex.Pattern[str]":
        """Return the pattern. InputError when the rule cannot work."""
        if not _NAME.fullmatch(self.key):
            what = f"{self.key[:60]!r} is not the name of an own rule"
            raise InputError(what, remedy="Write own- and a-z, 0-9, hyphens", field="rule")
        if self.where == "header" and not self.header:
            raise InputError(f"{self.key} names no header field", remedy="Set header", field="header")
        try:
            if len(self.pattern) > _MOST_PATTERN:
                raise ValueError(f"it has {len(self.pattern)} characters; the limit is {_MOST_PATTERN}")
            check_pattern(self.pattern)
            return regex.compile(self.pattern, regex.IGNORECASE | regex.VERSION0)
        except (regex.error, ValueError, OverflowError, RecursionError) as error:
            raise InputError(f"The pattern of {self.key} is not valid", why=str(error)[:200], field="pattern") from None

    def as_rule(self) -> AssayRule:
        """Return how it counts."""
        title, remedy = (text.replace("{", "{{").replace("}", "}}") for text in (self.title, self.remedy))
        return AssayRule(self.key, GROUP, Level(self.level), self.points, title, "A rule of your own.", remedy)


def check_own(message: Message, page: Html | None, rules: Sequence[OwnRule]) -> tuple[list[Sighting], list[str]]:
    """Return where rules apply, and those that took too long."""
    sightings: list[Sighting] = []
    late: list[str] = []
    for rule in rules:
        try:
            sightings += _sightings(rule, message, page)
        except TimeoutError:
            late.append(f"The rule {rule.key}: its pattern took too long")
    return sightings, late


def _sightings(rule: OwnRule, message: Message, page: Html | None) -> Iterator[Sighting]:
    pattern, found = rule.compiled(), False
    for place, text in _texts(rule, message, page):
        hit = pattern.search(text[:_MOST_TEXT], timeout=_PATIENCE)
        if hit is not None:
            found = True
            if not rule.absent:
                yield Sighting(rule.key, Place(place.where, place.name, text=hit[0][:200]))
    if rule.absent and not found:
        yield Sighting(rule.key)


def _texts(rule: OwnRule, message: Message, page: Html | None) -> Iterator[tuple[Place, str]]:
    if rule.where == "header":
        for each in message.fields(rule.header):
            yield Place(Where.HEADER, each.name), each.text
    elif rule.where == "subject":
        yield Place(Where.HEADER, "Subject"), message.value("Subject")
    elif rule.where == "html":
        if message.html_part is not None:
            yield Place(Where.PART, message.html_part.number), message.html or ""
    else:
        part = message.html_part or message.text_part
        read = page.visible_text if page is not None else (message.text or "")
        yield Place(Where.PART, part.number if part else ""), read
