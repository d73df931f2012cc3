"""Do the text part and the HTML say the same? Compared by links, numbers and words (RFC 2046 §5.1.4)."""

import re
from collections import Counter
from collections.abc import Iterator

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.html import Html
from rust_gauge.core.assay.links import Link
from rust_gauge.core.assay.message import Message

ALIKE = 0.6  # of the words of each side that the other has, too
_LEAST = 15  # words from which on they are compared
_NUMBER = re.compile(r"(?<![\w/=])\d[\d.,:/-]*\d|(?<![\w/=])\d(?!\w)")
_WORD = re.compile(r"[^\W\d_]{3,}")
_URL = re.compile(r"https?://\S+|\[image[^\]]*\]", re.I)


def check_agreement(message: Message, page: Html | None, links: tuple[Link, ...]) -> Iterator[Sighting]:
    """Yield what only one of the two says. Nothing where one of them is missing."""
    if page is None or not (message.text or "").strip() or message.text_part is None or message.html_part is None:
        return
    text, html = _URL.sub(" ", message.text or ""), _URL.sub(" ", page.visible_text)
    place = Place(Where.PART, message.text_part.number)
    there, here = Counter(_WORD.findall(html.lower())), Counter(_WORD.findall(text.lower()))
    if sum(there.values()) >= _LEAST and sum(here.values()) >= 1:
        common = sum((there & here).values())
        share = common / max(sum(there.values()), sum(here.values()))
        if share < ALIKE:
            only = [word for word, _ in (there - here).most_common(8)]
            yield Sighting("text-differs", place, {"share": f"{share:.0%}", "words": ", ".join(only)})
    numbers = _only(set(_NUMBER.findall(html)), set(_NUMBER.findall(text)))
    if numbers:
        yield Sighting("numbers-differ", place, {"numbers": numbers})
    targets = {link.url.rstrip("/") for link in links if link.kind == "link" and link.scheme in ("http", "https")}
    written = {link.url.rstrip("/") for link in links if link.kind == "text"}
    if targets and written and not targets & written:
        yield Sighting("links-differ", place, {"only": ", ".join(sorted(targets)[:3])[:200]})
    elif targets and not written:
        yield Sighting("links-only-in-html", place, {"count": len(targets)})


def _only(html: set[str], text: set[str]) -> str:
    parts = []
    for name, found in (("HTML", html - text), ("text", text - html)):
        if found:
            parts.append(f"only in the {name}: {', '.join(sorted(found)[:6])}")
    return "; ".join(parts)
