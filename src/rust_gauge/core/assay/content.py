"""Checks of what people read: hidden text, images, tricks with characters, templates, words, accessibility."""

import re
from collections.abc import Collection, Iterator

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.headers import mixed_scripts
from rust_gauge.core.assay.html import Html, contrast
from rust_gauge.core.assay.language import language_of
from rust_gauge.core.assay.message import Message

FEW_WORDS = 20  # beside images
_PREHEADER = 250  # characters of hidden text that stand first: the line that message lists show
_HIDDEN = 20  # characters of hidden text that are worth a finding
_SMALL = 10.0  # pixels
_CONTRAST = 4.5  # WCAG 2.2 §1.4.3, for text of usual size
_INVISIBLE = re.compile("(?<=\\w)[\u200b\u2060\ufeff\u00ad\u034f\u180e](?=\\w)")
_TURNED = re.compile("[\u202a-\u202e\u2066-\u2069]")
# How template languages usually write a variable or a condition.
_VARIABLE = re.compile(
    r"\{\{[^{}\n]{1,80}\}\}|\{%[^%\n]{1,80}%\}|\$\{[\w.]{1,60}\}|<%=?[^%\n]{1,80}%>|%%[\w.]{1,40}%%"
    r"|\[\[[\w. ]{1,40}\]\]|\{(?:first|last|full|user|given)_?name\}|%\((?:\w{1,40})\)s",
    re.I,
)
_EMPTY_NAME = re.compile(
    r"\b(?:dear|hello|hi)\s+(?:null|none|undefined|nan|\(null\))\b|^(?:dear|hello|hi)\s*,", re.I | re.M
)
_REASON = re.compile(
    r"you (?:are receiving|receive|received|get) this|because you|you (?:have )?(?:signed up|subscribed|registered)|"
    r"unsubscribe|manage (?:your )?(?:preferences|subscription)",
    re.I,
)
_POSTAL = re.compile(
    r"\b\d{1,5}[a-z]?,? [A-Z][\w'. -]{2,40}"
    r"|\b[A-Z][\w'.-]+ (?:street|road|lane|quay|square|avenue|st|rd|str)\b\.? ?\d*"
    r"|\bP\.?\s?O\.? ?box\b|\b[A-Z]{1,2}\d[A-Z\d]? ?\d[A-Z]{2}\b|\b\d{4,5} [A-Z][a-z]+",
    re.I,
)


def check_content(message: Message, page: Html | None, words: Collection[str]) -> Iterator[Sighting]:
    """Yield what is wrong with what people read. `words` are weak signs, in lower case."""
    text = page.visible_text if page is not None else (message.text or "")
    part = message.html_part or message.text_part
    number = part.number if part is not None else ""
    yield from _characters(message, text, number)
    yield from _template(message, text, number)
    yield from _words(message, text, number, words)
    if message.fields("List-Unsubscribe") and text:
        if not _REASON.search(text):
            yield Sighting("reason-missing", Place(Where.PART, number))
        if not _POSTAL.search(text):
            yield Sighting("postal-address-missing", Place(Where.PART, number))
    yield from _language(message, page, text, number)
    if page is not None:
        yield from _hidden(page, number)
        yield from _images(page, text, number)
        yield from _accessible(page, number)


def _characters(message: Message, text: str, number: str) -> Iterator[Sighting]:
    subject = message.value("Subject")
    for where, what in (
        (Place(Where.HEADER, "Subject", text=subject[:200]), subject),
        (Place(Where.PART, number), text),
    ):
        if found := _TURNED.search(what):
            yield Sighting("text-turned", where, {"code": f"U+{ord(found[0]):04X}"})
        if found := _INVISIBLE.search(what):
            around = what[max(0, found.start() - 15) : found.end() + 15]
            place = Place(where.where, where.name, text=ascii(around))
            yield Sighting("text-invisible-characters", place, {"code": f"U+{ord(found[0]):04X}"})
        for word in re.findall(r"[^\W\d_]{3,40}", what[:200_000]):
            if not word.isascii() and (scripts := mixed_scripts(word)):
                values = {"word": word, "scripts": " and ".join(scripts)}
                yield Sighting("text-mixed-scripts", Place(where.where, where.name, text=word), values)
                break


def _template(message: Message, text: str, number: str) -> Iterator[Sighting]:
    subject = message.value("Subject")
    for what, place in ((subject, Place(Where.HEADER, "Subject")), (text, Place(Where.PART, number))):
        for found in _VARIABLE.finditer(what):
            yield Sighting("template-variable", Place(place.where, place.name, text=found[0]), {"variable": found[0]})
        if found_name := _EMPTY_NAME.search(what):
            said = " ".join(found_name[0].split())
            yield Sighting("template-empty-name", Place(place.where, place.name, text=said), {"text": said})


def _words(message: Message, text: str, number: str, words: Collection[str]) -> Iterator[Sighting]:
    said = f"{message.value('Subject')}\n{text}".lower()
    found = sorted(word for word in words if word in said and re.search(rf"\b{re.escape(word)}\b", said))
    for word in found:
        yield Sighting("weak-words", Place(Where.PART, number, text=word), {"words": ", ".join(found[:10])})


def _hidden(page: Html, number: str) -> Iterator[Sighting]:
    seen = 0
    for at, run in enumerate(page.runs):
        if not run.look.hidden:
            same = run.look.background is not None and contrast(run.look.colour, run.look.background) < 1.1
            if same and len(run.text) >= _HIDDEN:
                yield Sighting("text-same-colour", page.place(run.element, number), {"text": run.text[:80]})
        elif run.look.hidden != "not shown":
            first = at == seen and len(run.text) <= _PREHEADER  # all before it was hidden, too
            if len(run.text) >= _HIDDEN and not first:
                values = {"how": run.look.hidden, "text": run.text[:80]}
                yield Sighting("text-hidden", page.place(run.element, number), values)
            seen += 1
        else:
            seen += 1


def _images(page: Html, text: str, number: str) -> Iterator[Sighting]:
    images = [image for image in page.named("img") if not _is_dot(image.get("width"), image.get("height"))]
    count = len(text.split())
    if images and count < FEW_WORDS:
        yield Sighting("images-without-text", page.place(images[0], number), {"images": len(images), "words": count})
    for image in images:
        if image.get("alt") is None:
            yield Sighting("image-alt-missing", page.place(image, number))
        if not image.get("width"):
            yield Sighting("image-width-missing", page.place(image, number))


def _is_dot(width: str | None, height: str | None) -> bool:
    """Return whether an image is there to be counted, not to be seen."""
    return (width or "").strip("px ") in ("0", "1") and (height or "").strip("px ") in ("0", "1")


def _language(message: Message, page: Html | None, text: str, number: str) -> Iterator[Sighting]:
    root = page.named("html") if page is not None else []
    stated = (root[0].get("lang") or root[0].get("xml:lang") or "") if root else ""
    stated = str(stated) or message.value("Content-Language").partition(",")[0]
    declared = stated.strip().lower().partition("-")[0]
    actual = language_of(text)
    if declared and actual and declared not in actual:
        place = page.place(root[0], number) if page is not None and root else Place(Where.HEADER, "Content-Language")
        yield Sighting("language-differs", place, {"declared": declared[:20], "actual": " or ".join(sorted(actual))})


def _accessible(page: Html, number: str) -> Iterator[Sighting]:
    root = page.named("html")
    if root and not (root[0].get("lang") or root[0].get("xml:lang")):
        yield Sighting("html-lang-missing", page.place(root[0], number))
    for table in page.named("table"):
        if table.get("role") not in ("presentation", "none") and table.find(".//th") is None:
            yield Sighting("table-role-missing", page.place(table, number))
    for run in page.runs:
        if run.look.hidden or len(run.text) < 3:
            continue
        if run.look.size < _SMALL:
            yield Sighting("font-small", page.place(run.element, number), {"size": f"{run.look.size:g}"})
        if run.look.background is not None:
            ratio = contrast(run.look.colour, run.look.background)
            if 1.1 <= ratio < _CONTRAST:
                values = {"ratio": f"{ratio:.1f}", "text": run.text[:60]}
                yield Sighting("contrast-low", page.place(run.element, number), values)
