"""A message as a tree of parts (RFC 5322, RFC 2045 to 2046), as far as returned mail and
reports need it, and as strangers send it.

Nothing here fails on malformed input: what cannot be understood stays text. Depth, parts and sizes are bounded. It is
our own because the standard library's parser, which does much more, takes longer than all the rest of reading a notice.
"""

import base64
import codecs
import quopri
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from email.utils import getaddresses

MAX_DEPTH = 12  # of multiparts within multiparts; notices nest three or four deep
MAX_PARTS = 200  # bounds the work for a message made of boundaries
MAX_HEADER = 256 * 1024  # octets
MAX_TEXT = 256 * 1024  # octets of one part that are decoded
_FIELD = re.compile(rb"([!-9;-~]+)[ \t]*:[ \t]*(.*)", re.DOTALL)
_FOLD = re.compile(rb"\r?\n(?=[ \t])")
_BLANK = re.compile(rb"\r?\n\r?\n")
_ENCODED_WORD = re.compile(r"=\?([!-~]{1,60}?)\?([bBqQ])\?([!->@-~]*)\?=")
_BETWEEN_WORDS = re.compile(r"(?<=\?=)[ \t\r\n]+(?==\?)")  # RFC 2047 §6.2: ignored between two encoded words
_PARAMETER = re.compile(r';\s*([\w!#$&.+^`|~-]+)(?:\*0?\*?)?\s*=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s;]*))')


@dataclass(slots=True)
class Entity:
    """One part: fields by lower-case name, each name's values in order; `body` as it was sent."""

    fields: dict[str, list[str]]
    body: bytes
    type: str = "text/plain"
    parameters: dict[str, str] = field(default_factory=dict)
    parts: "list[Entity]" = field(default_factory=list)

    def get(self, name: str) -> str:
        """Return a field's first value; empty when there is none."""
        values = self.fields.get(name)
        return values[0] if values else ""

    @property
    def disposition_parameters(self) -> dict[str, str]:
        """Return the parameters of Content-Disposition (RFC 2183) by lower-case name."""
        return _parameters(self.get("content-disposition"))

    def walk(self) -> "Iterator[Entity]":
        """Yield this part and all below it, in order."""
        yield self
        for part in self.parts:
            yield from part.walk()

    def octets(self, most: int) -> bytes:
        """Return the body, its transfer encoding taken off; at most `most` octets of it."""
        encoding = self.get("content-transfer-encoding").strip().lower()
        raw = self.body[: most * 2]
        if encoding == "base64":
            letters = re.sub(rb"[^A-Za-z0-9+/]", b"", raw)
            raw = base64.b64decode(letters[: len(letters) // 4 * 4] + _padded(letters))
        elif encoding == "quoted-printable":
            raw = quopri.decodestring(raw)
        return raw[:most]

    def text(self) -> str:
        """Return the body as text, its transfer encoding taken off; at most MAX_TEXT octets of it."""
        raw = self.octets(MAX_TEXT)
        try:
            return raw.decode("utf-8")
        except UnicodeDecodeError:
            pass
        try:
            return raw.decode(charset_of(self.parameters.get("charset", "latin-1")), "replace")
        except (LookupError, ValueError):
            return raw.decode("latin-1")


# Codecs that are no charsets of mail: quadratic, or made for source code and names.
_NO_CHARSETS = frozenset({"punycode", "idna", "unicode_escape", "raw_unicode_escape", "undefined", "mbcs", "oem"})


def charset_of(name: str) -> str:
    """Return the charset of a part; latin-1 for one that is unknown or no charset of mail."""
    try:
        found = codecs.lookup(name[:40].strip().lower())
    except (LookupError, ValueError):
        return "latin-1"
    return found.name if found.name.replace("-", "_") not in _NO_CHARSETS else "latin-1"


def _padded(letters: bytes) -> bytes:
    rest = letters[len(letters) // 4 * 4 :]
    return rest + b"=" * (4 - len(rest)) if len(rest) > 1 else b""


def parse_entity(raw: bytes) -> Entity:
    """Parse a message or a part."""
    return _parse(raw, 0, [0], "text/plain")


def parse_fields(raw: bytes) -> dict[str, list[str]]:
    """Fields of a header, unfolded, by lower-case name; lines that are none are left out."""
    fields: dict[str, list[str]] = {}
    if b"\n " in raw or b"\n\t" in raw:
        raw = _FOLD.sub(b"", raw)
    for line in raw.split(b"\n"):
        found = _FIELD.match(line)
        if found is not None:
            name, value = found.groups()
            text = value.decode("utf-8", "replace") if not value.isascii() else value.decode("ascii")
            fields.setdefault(name.decode("ascii").lower(), []).append(text.strip())
    return fields


def mailboxes(text: str) -> list[tuple[str, str]]:
    """Return name and address of each mailbox in a field such as To (RFC 5322 §3.4), both empty for what is none.

    Empty where comments or groups are nested so deep that no person wrote them.
    """
    try:
        return getaddresses([text])
    except RecursionError:
        return []


def words(value: str) -> str:
    """Decode the encoded words (RFC 2047) of a field's value. A broken one stays as it is."""
    if "=?" not in value:
        return value
    return _ENCODED_WORD.sub(_word, _BETWEEN_WORDS.sub("", value[:2000]))


def _word(found: re.Match[str]) -> str:
    charset, encoding, text = found.groups()
    try:
        if encoding in "bB":
            raw = base64.b64decode(text + "=" * (-len(text) % 4), validate=True)
        else:
            raw = quopri.decodestring(text.replace("_", " ").encode("ascii"), header=True)
        return raw.decode(charset_of(charset.partition("*")[0]), "replace")
    except (ValueError, LookupError):
        return found[0]


def _parse(raw: bytes, depth: int, count: list[int], usual: str) -> Entity:
    count[0] += 1
    if raw[:1] == b"\n" or raw[:2] == b"\r\n":
        head, body = b"", raw.lstrip(b"\r\n")
    else:
        blank = _BLANK.search(raw, 0, MAX_HEADER)
        head, body = (raw[: blank.start()], raw[blank.end() :]) if blank else (raw[:MAX_HEADER], b"")
    entity = Entity(parse_fields(head), body, usual)
    content_type = entity.get("content-type")
    if content_type:
        kind = content_type.partition(";")[0].strip().lower()
        if "/" in kind:
            entity.type = kind
        entity.parameters = _parameters(content_type)
    if depth >= MAX_DEPTH or count[0] >= MAX_PARTS:
        return entity
    if entity.type.startswith("multipart/") and entity.parameters.get("boundary"):
        below = "message/rfc822" if entity.type == "multipart/digest" else "text/plain"
        for part in _split(body, entity.parameters["boundary"]):
            if count[0] >= MAX_PARTS:
                break
            entity.parts.append(_parse(part, depth + 1, count, below))
    elif entity.type in ("message/rfc822", "message/global"):
        inner = body
        if entity.get("content-transfer-encoding").lower() in ("base64", "quoted-printable"):
            inner = entity.text().encode("utf-8", "replace")  # not allowed, but done
        entity.parts.append(_parse(inner, depth + 1, count, "text/plain"))
    return entity


def _parameters(value: str) -> dict[str, str]:
    return {
        name.lower(): (quoted.replace("\\", "") if quoted else plain)
        for name, quoted, plain in _PARAMETER.findall(value)
    }


def _split(body: bytes, boundary: str) -> list[bytes]:
    """Return the parts between boundary lines (RFC 2046 §5.1.1). The last may lack its end."""
    mark = b"--" + boundary.encode("utf-8", "replace")
    parts: list[bytes] = []
    start = -1
    at = 0 if body.startswith(mark) else body.find(b"\n" + mark) + 1 or -1
    while at >= 0 and len(parts) < MAX_PARTS:
        line = body.find(b"\n", at)
        line = len(body) if line < 0 else line
        rest = body[at + len(mark) : line].strip()
        if rest in (b"", b"--"):
            if start >= 0:
                parts.append(body[start : at - (2 if body[at - 2 : at] == b"\r\n" else 1)])
            start = line + 1
            if rest == b"--":
                return parts
        at = body.find(b"\n" + mark, max(line - 1, at)) + 1 or -1
    if start >= 0:
        parts.append(body[start:])
    return parts
