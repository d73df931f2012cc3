"""A message as an assay looks at it: its fields in order, its parts with sizes and numbers, its text and its HTML.

Nothing fails on malformed input, and everything is bounded: depth, parts and how much of a part is decoded.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from rust_gauge.core.dkim import HeaderField, MailMessage, split_message
from rust_gauge.core.mime import MAX_PARTS, Entity, charset_of, parse_entity, words

MAX_MESSAGE = 40 * 1024 * 1024  # octets; a longer one is not examined
MAX_HTML = 2 * 1024 * 1024  # octets of HTML, and of text, that are examined; no mail program shows more


@dataclass(frozen=True, slots=True)
class Part:
    """One part. `number` counts from 1 at each depth, such as `1.2`; `size` is in octets as they were sent."""

    number: str
    entity: Entity
    size: int

    @property
    def type(self) -> str:
        """Return the media type in lower case."""
        return self.entity.type

    @property
    def charset(self) -> str:
        """Return the charset as it is stated; empty when it is not."""
        return self.entity.parameters.get("charset", "")

    @property
    def encoding(self) -> str:
        """Return the transfer encoding in lower case; empty when none is stated."""
        return self.entity.get("content-transfer-encoding").strip().lower()

    @property
    def disposition(self) -> str:
        """Return `attachment`, `inline` or what else is stated (RFC 2183), in lower case."""
        return self.entity.get("content-disposition").partition(";")[0].strip().lower()

    @property
    def file_name(self) -> str:
        """Return the file name, decoded; empty when there is none."""
        return words(self.entity.disposition_parameters.get("filename") or self.entity.parameters.get("name", ""))

    @property
    def is_attachment(self) -> bool:
        """Return whether mail programs list it instead of showing it."""
        if self.type.startswith("multipart/"):
            return False
        return self.disposition == "attachment" or bool(self.file_name and not self.entity.get("content-id"))


@dataclass(frozen=True)
class Message:
    """A message and what is read out of it. `text` and `html` are decoded, None where there is no such part."""

    raw: bytes

    @cached_property
    def mail(self) -> MailMessage:
        """Return the header fields with their octets, and the body."""
        return split_message(self.raw)

    @cached_property
    def root(self) -> Entity:
        """Return the tree of parts."""
        return parse_entity(self.raw)

    @cached_property
    def parts(self) -> tuple[Part, ...]:
        """Return all parts in order, without those within attached messages."""
        return tuple(_numbered(self.root, "1"))

    @property
    def is_cut(self) -> bool:
        """Return whether there are more parts than are looked at."""
        return len(self.parts) >= MAX_PARTS

    def fields(self, name: str) -> tuple[HeaderField, ...]:
        """Return the fields of this name, from the top down."""
        return self.mail.all(name)

    def value(self, name: str) -> str:
        """Return a field's first value, decoded; empty when there is none."""
        found = self.mail.all(name)
        return words(found[0].text) if found else ""

    @cached_property
    def text_part(self) -> Part | None:
        """Return the part that is shown as text."""
        return self._shown("text/plain")

    @cached_property
    def html_part(self) -> Part | None:
        """Return the part that is shown as HTML."""
        return self._shown("text/html")

    @cached_property
    def text(self) -> str | None:
        """Return the text, decoded."""
        return None if self.text_part is None else _decoded(self.text_part)

    @cached_property
    def html(self) -> str | None:
        """Return the HTML, decoded."""
        return None if self.html_part is None else _decoded(self.html_part)

    def _shown(self, kind: str) -> Part | None:
        return next((part for part in self.parts if part.type == kind and not part.is_attachment), None)


def _numbered(entity: Entity, number: str) -> Iterator[Part]:
    yield Part(number, entity, len(entity.body))
    if entity.type.startswith("multipart/"):
        for place, below in enumerate(entity.parts, 1):
            yield from _numbered(below, f"{number}.{place}")


def _decoded(part: Part) -> str:
    raw = part.entity.octets(MAX_HTML)
    for charset in (charset_of(part.charset) if part.charset else "utf-8", "utf-8", "latin-1"):
        try:
            return raw.decode(charset)
        except (UnicodeDecodeError, LookupError):
            continue
    return raw.decode("latin-1")
