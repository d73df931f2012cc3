"""HTML of a message: its tree, where each element stands in the source, what of its text people can see, its styles.

lxml builds the tree as browsers do, linearly and whatever it is given; each start tag is marked with its place before,
as the tree would know the line only. Styles are those of elements themselves (tinycss2), with what they inherit.
"""

import re
from bisect import bisect_right
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import tinycss2
from lxml import etree, html
from tinycss2.color3 import parse_color

from rust_gauge.core.assay.findings import Place, Where

MOST_ELEMENTS = 50_000  # that are looked at
MARK = "rg-at"  # the attribute that holds a start tag's place
_LONGEST_STYLE = 4000  # characters of one element
_TAG = re.compile(r"<[A-Za-z][A-Za-z0-9:-]*(?=[\s/>])")
_MARKED = re.compile(rf' {MARK}="\d+"')
_NO_TEXT = ("script", "style", "head", "title", "template", "noscript", "select", "textarea")
_BLOCKS = frozenset(
    ("address", "article", "blockquote", "br", "center", "dd", "div", "dl", "dt", "h1", "h2", "h3", "h4", "h5", "h6",
     "hr", "li", "ol", "p", "pre", "section", "table", "td", "th", "tr", "ul")
)  # fmt: skip
_LENGTH = re.compile(r"(\d+(?:\.\d+)?)\s*(px|pt|em|rem|%)?")
_PX = {"": 1.0, "px": 1.0, "pt": 4 / 3}
Colour = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Look:
    """How text is shown: its colour, what is behind it, its size in pixels, and why it cannot be seen."""

    colour: Colour = (0.0, 0.0, 0.0)
    background: Colour | None = (1.0, 1.0, 1.0)  # None: an image, or what cannot be known
    size: float = 16.0
    hidden: str = ""


@dataclass(frozen=True, slots=True)
class Run:
    """A piece of text as it stands in one element, white space collapsed."""

    text: str
    element: etree._Element
    look: Look


@dataclass
class Html:
    """A parsed document. Elements are lxml's."""

    source: str
    root: etree._Element
    _starts: list[int] = field(default_factory=list)

    @cached_property
    def elements(self) -> list[etree._Element]:
        """Return the elements in document order, comments left out."""
        out: list[etree._Element] = []
        for element in self.root.iter(etree.Element):
            if isinstance(element.tag, str):
                out.append(element)
            if len(out) >= MOST_ELEMENTS:
                break
        return out

    def named(self, *names: str) -> list[etree._Element]:
        """Return the elements of these names."""
        return [element for element in self.elements if element.tag in names]

    def place(self, element: etree._Element, part: str = "") -> Place:
        """Return where an element's start tag stands in the source."""
        at = element.get(MARK)
        if at is None or not at.isdigit():  # an element that the source implies
            return Place(Where.PART, part)
        return self.place_of(int(at), part)

    def place_of(self, at: int, part: str = "", length: int = 200) -> Place:
        """Return the place of an offset into the source."""
        if not self._starts:
            self._starts = [0, *(found.end() for found in re.finditer("\n", self.source))]
        line = bisect_right(self._starts, at)
        end = self.source.find(">", at)
        text = self.source[at : min(at + length, end + 1 if end >= 0 else at + length)]
        return Place(Where.PART, part, line, at - self._starts[line - 1] + 1, " ".join(text.split())[:length])

    @cached_property
    def runs(self) -> tuple[Run, ...]:
        """Return the pieces of text in order, also those that are hidden."""
        return tuple(_runs(self.root))

    @cached_property
    def visible_text(self) -> str:
        """Return what people can read, a line for each block."""
        return _joined([run for run in self.runs if not run.look.hidden])


def parse_html(source: str) -> Html:
    """Parse a document, or what is taken for one. Never raises."""
    marked = _TAG.sub(lambda found: f'{found[0]} {MARK}="{found.start()}"', source.replace("\0", ""))
    parser = html.HTMLParser(encoding="utf-8", no_network=True, huge_tree=False)
    try:
        root = html.document_fromstring(marked.encode("utf-8", "replace"), parser=parser)
    except (etree.ParserError, etree.XMLSyntaxError, ValueError, AssertionError):  # nothing but white space or comments
        root = html.document_fromstring("<html><body></body></html>")
    return Html(source, root)


def unmarked(text: str) -> str:
    """Return a text of the tree without the marks of places."""
    return _MARKED.sub("", text)


def declarations(element: etree._Element) -> Mapping[str, str]:
    """Return the declarations of an element's own style, by property in lower case."""
    return _declared((element.get("style") or "")[:_LONGEST_STYLE])


@lru_cache(4096)  # a message repeats the same styles in every cell
def _declared(text: str) -> Mapping[str, str]:
    return {
        each.lower_name: tinycss2.serialize(each.value).strip()
        for each in tinycss2.parse_blocks_contents(text, skip_comments=True, skip_whitespace=True)
        if each.type == "declaration"
    }


@lru_cache(1024)
def colour_of(text: str) -> Colour | None:
    """Return a colour as red, green and blue from 0 to 1; None when it is none, or can be seen through."""
    found = parse_color(text.strip())
    if found is None or isinstance(found, str) or found.alpha < 1:
        return None
    return (found.red, found.green, found.blue)


def pixels(text: str, inherited: float) -> float | None:
    """Return a font size in pixels; None when it is not known."""
    found = _LENGTH.match(text.strip())
    if found is None:
        return None
    number, unit = float(found[1]), found[2] or ""
    if unit in ("em", "%"):
        return inherited * number / (100 if unit == "%" else 1)
    return number * (16.0 if unit == "rem" else _PX[unit])


def contrast(one: Colour, other: Colour) -> float:
    """Return the contrast of two colours, 1 to 21 (WCAG 2.2 §1.4.3)."""
    bright, dark = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (bright + 0.05) / (dark + 0.05)


def _luminance(colour: Colour) -> float:
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in colour]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def _runs(root: etree._Element) -> Iterator[Run]:
    """Walk the tree without recursion: a document may be as deep as it is long."""
    looks: dict[etree._Element, Look] = {}
    count = 0
    for event, element in etree.iterwalk(root, events=("start", "end")):
        parent = element.getparent()
        outer = looks.get(parent, Look()) if parent is not None else Look()
        if event == "start":
            count += 1
            if count > MOST_ELEMENTS:
                return
            if not isinstance(element.tag, str):
                continue
            look = looks[element] = _look(element, outer)
            if element.text and element.tag not in _NO_TEXT and (text := " ".join(element.text.split())):
                yield Run(text, element, look)
        else:
            looks.pop(element, None)
            tail = element.tail if parent is not None and parent.tag not in _NO_TEXT else None
            if tail and parent is not None and (text := " ".join(unmarked(tail).split())):
                yield Run(text, parent, outer)


def _look(element: etree._Element, outer: Look) -> Look:
    style = declarations(element)
    look = outer
    if element.tag in _NO_TEXT:
        return replace(look, hidden="not shown")
    colour = colour_of(style.get("color", "") or (element.get("color") or "" if element.tag == "font" else ""))
    if colour is not None:
        look = replace(look, colour=colour)
    behind = style.get("background-color") or style.get("background") or element.get("bgcolor") or ""
    if behind and behind not in ("transparent", "none", "inherit"):
        look = replace(look, background=colour_of(behind))
    elif element.get("background") or "background-image" in style:
        look = replace(look, background=None)
    if "font-size" in style:
        size = pixels(style["font-size"], outer.size)
        look = replace(look, size=outer.size if size is None else size)
    return replace(look, hidden=outer.hidden or _why_hidden(element, style, look))


def _why_hidden(element: etree._Element, style: Mapping[str, str], look: Look) -> str:
    if element.get("hidden") is not None or style.get("display", "").startswith("none"):
        return "display: none"
    if style.get("visibility", "").startswith("hidden"):
        return "visibility: hidden"
    if look.size < 2:
        return f"a font size of {look.size:g} px"
    if style.get("opacity", "1").strip() in ("0", "0.0", ".0", "0%"):
        return "opacity: 0"
    if style.get("max-height", "").strip() in ("0", "0px") and style.get("overflow", "").startswith("hidden"):
        return "a height of 0"
    return ""


def _joined(runs: list[Run]) -> str:
    out: list[str] = []
    before: etree._Element | None = None
    for run in runs:
        block = _block_of(run.element)
        if out:
            out.append(" " if block is before else "\n")
        out.append(run.text)
        before = block
    return re.sub(r" +([.,;:!?)])", r"\1", "".join(out))


def _block_of(element: etree._Element) -> etree._Element:
    while element.tag not in _BLOCKS and (parent := element.getparent()) is not None:
        element = parent
    return element
