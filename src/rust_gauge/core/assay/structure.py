"""Checks of the parts: encodings, attachments, sizes, and what no mail program runs."""

import re
from collections.abc import Iterator

from rust_gauge.core.assay.attachments import content_of, differs, has_macros
from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.html import Html
from rust_gauge.core.assay.message import Message, Part

CLIPPED_AT = 100 * 1024  # octets of HTML: about where some mail programs stop and offer the rest
LARGE = 10 * 1024 * 1024  # octets of a message
# By the end of the file name: what runs when it is opened, what may hold such, what hides what it holds.
_LOOKED_AT = 4 * 2**20  # octets of an attachment
_RUNS = frozenset(
    ("app", "bat", "cmd", "com", "cpl", "dll", "exe", "hta", "jar", "js", "jse", "lnk", "msi", "ps1", "reg", "scr",
     "vb", "vbe", "vbs", "wsf")
)  # fmt: skip
_MACROS = frozenset(("docm", "dotm", "pptm", "potm", "xlsm", "xltm", "xlam"))
_HIDES = frozenset(("7z", "ace", "arj", "bz2", "cab", "gz", "img", "iso", "rar", "tar", "tgz", "vhd", "xz", "zip"))
_PAGES = frozenset(("htm", "html", "shtml", "svg", "xhtml"))
_OVERRIDES = re.compile("[\u202a-\u202e\u2066-\u2069]")


def check_structure(message: Message, page: Html | None) -> Iterator[Sighting]:
    """Yield what is wrong with parts and attachments."""
    if message.is_cut:
        yield Sighting("too-many-parts", Place(), {"count": len(message.parts)})
    if len(message.raw) > LARGE:
        yield Sighting("message-large", Place(), {"megabytes": f"{len(message.raw) / 2**20:.1f}"})
    multipart = message.root.type != "text/plain" or message.fields("Content-Transfer-Encoding")
    if multipart and not message.fields("MIME-Version"):
        yield Sighting("mime-version-missing", Place(Where.HEADER, "MIME-Version"))
    for part in message.parts:
        yield from _part(part)
    if message.html is not None and message.html_part is not None:
        part = message.html_part
        if len(message.html.encode("utf-8", "replace")) > CLIPPED_AT:
            yield Sighting("html-clipped", _in(part), {"kilobytes": len(message.html) // 1024})
        if message.text is None:
            yield Sighting("text-missing", _in(part))
        elif not message.text.strip():
            yield Sighting("text-empty", _in(message.text_part or part))
        yield from _active(page, part.number)
    if message.html is None and message.text is None:
        yield Sighting("nothing-to-read")


def _in(part: Part, text: str = "") -> Place:
    return Place(Where.PART, part.number, text=text)


def _part(part: Part) -> Iterator[Sighting]:
    if part.type.startswith("multipart/"):
        if not part.entity.parts:
            yield Sighting("part-no-boundary", _in(part))
        return
    if part.encoding in ("", "7bit") and not part.entity.body.isascii():
        yield Sighting("part-8bit", _in(part), {"part": part.number})
    elif part.type.startswith("text/") and not part.charset and not part.entity.octets(100_000).isascii():
        yield Sighting("charset-missing", _in(part), {"part": part.number})
    if not part.is_attachment:
        return
    name = part.file_name
    ending = name.lower().rpartition(".")[2] if "." in name else ""
    place, values = _in(part, name[:200]), {"name": name[:100], "ending": ending}
    if _OVERRIDES.search(name):
        yield Sighting("attachment-name-turned", place, {"name": ascii(name[:100])})
    octets = part.entity.octets(_LOOKED_AT)
    kind = content_of(octets)
    if ending in _RUNS:
        yield Sighting("attachment-runs", place, values)
    elif kind in ("a program", "a script"):
        yield Sighting("attachment-runs", place, {**values, "ending": kind.removeprefix("a ")})
    elif ending in _MACROS or has_macros(octets):
        yield Sighting("attachment-macros", place, values)
    elif ending in _HIDES:
        yield Sighting("attachment-archive", place, values)
    elif ending in _PAGES:
        yield Sighting("attachment-page", place, values)
    if what := differs(ending, kind):
        yield Sighting("attachment-type-differs", place, {**values, "what": what})
    if name.count(".") > 1 and ending in _RUNS | _HIDES | _PAGES and re.search(r"\.[a-z]{3,4}\.\w+$", name.lower()):
        yield Sighting("attachment-two-endings", place, values)


def _active(page: Html | None, part: str) -> Iterator[Sighting]:
    if page is None:
        return
    for element in page.elements:
        if element.tag == "script":
            yield Sighting("html-script", page.place(element, part))
        elif element.tag in ("form", "input", "button", "select", "textarea"):
            if element.tag == "form":
                yield Sighting("html-form", page.place(element, part))
        elif element.tag in ("iframe", "frame", "object", "embed", "applet"):
            yield Sighting("html-embedded", page.place(element, part), {"name": element.tag})
        elif element.tag == "meta" and (element.get("http-equiv") or "").lower() == "refresh":
            yield Sighting("html-refresh", page.place(element, part))
        elif element.tag == "link" and "stylesheet" in (element.get("rel") or "").lower():
            yield Sighting("html-style-sheet-link", page.place(element, part))
        elif element.tag == "base":
            yield Sighting("html-base", page.place(element, part))
        if any(str(name).startswith("on") for name in element.attrib):
            yield Sighting("html-handler", page.place(element, part))
