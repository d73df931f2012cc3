"""Which constructs of HTML and CSS a message uses that not every family of mail programs supports, and where.

The table is `support.toml`: dated, by general families of programs, to be edited. Matching goes by the name of the
construct: an element, an attribute, an at-rule, a property with perhaps a kind of value, or a selector.
"""

import re
import tomllib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import tinycss2
from lxml import etree

from rust_gauge.core.assay.findings import MOST_PLACES, Place, Where
from rust_gauge.core.assay.html import Html, declarations, unmarked

_LONGEST_SHEET = 300_000  # characters of one style sheet that are looked at
_HARMLESS_POSITIONS = ("static", "relative", "inherit", "initial")
_NEGATIVE = re.compile(r"(?<![\w.)])-\d")
_SELECTORS = (
    (":hover", re.compile(r":hover\b")),
    (":checked", re.compile(r":checked\b")),
    (":nth-child", re.compile(r":nth-(?:child|of-type|last-child)")),
    ("::before", re.compile(r"::?(?:before|after)\b")),
    ("[attribute]", re.compile(r"\[[\w-]+")),
)


@dataclass(frozen=True, slots=True)
class Family:
    """A general kind of mail program. `short` is for the head of a column; `device` is desktop or phone."""

    key: str
    title: str
    short: str
    device: str


@dataclass(frozen=True, slots=True)
class Construct:
    """A construct, the families that do not support it (`no`, `part`), and what to use instead."""

    key: str
    title: str
    support: Mapping[str, str]
    instead: str


@dataclass(frozen=True, slots=True)
class Unsupported:
    """A construct that a message uses. `count` is how often; `places` has the first of them."""

    construct: Construct
    count: int
    places: tuple[Place, ...]


@cache
def support_table() -> tuple[str, Mapping[str, Family], Mapping[str, Construct]]:
    """Return the date of the table, its families and its constructs, by key."""
    document = tomllib.loads(Path(__file__).with_name("support.toml").read_text("utf-8"))
    families = {
        key: Family(key, each["title"], each["short"], each["device"]) for key, each in document["family"].items()
    }
    constructs = {
        key: Construct(key, each["title"], {k: each[k] for k in families if k in each}, each["instead"])
        for key, each in document["construct"].items()
    }
    return str(document["dated"]), families, constructs


def unsupported(page: Html, part: str = "") -> tuple[Unsupported, ...]:
    """Return the constructs that some family does not support, those first that most families lack."""
    _, _, constructs = support_table()
    found: dict[str, list[Place]] = {}
    for key, place in _used(page, part, constructs):
        if key in constructs:
            found.setdefault(key, []).append(place)
    out = [Unsupported(constructs[key], len(places), tuple(places[:MOST_PLACES])) for key, places in found.items()]
    return tuple(sorted(out, key=lambda each: (-_lacking(each.construct), each.construct.key)))


def _lacking(construct: Construct) -> float:
    return sum(1.0 if level == "no" else 0.5 for level in construct.support.values())


def _used(page: Html, part: str, constructs: Mapping[str, Construct]) -> Iterator[tuple[str, Place]]:
    for element in page.elements:
        name = str(element.tag)
        if name == "link" and "stylesheet" not in (element.get("rel") or "").lower():
            continue
        keys = [f"element {name}", *(f"attribute {each}" for each in element.attrib)]
        keys += _of_properties(declarations(element))
        if "!important" in (element.get("style") or "").lower():
            keys.append("property !important")
        known = [key for key in keys if key in constructs]
        place = page.place(element, part) if known else Place()
        yield from ((key, place) for key in known)
        if name == "style":
            yield from _of_sheet(element, page, part)


def _of_sheet(element: etree._Element, page: Html, part: str) -> Iterator[tuple[str, Place]]:
    start = page.place(element, part)

    def at(node: Any) -> Place:
        # A sheet begins on the line of its start tag.
        return Place(Where.PART, part, start.line + node.source_line - 1 if start.line else 0, 0, start.text)

    text = unmarked(element.text or "")[:_LONGEST_SHEET]
    rules = [(rule, 0) for rule in tinycss2.parse_stylesheet(text, skip_comments=True, skip_whitespace=True)]
    while rules:
        rule, depth = rules.pop(0)
        if rule.type == "at-rule":
            place = at(rule)
            yield f"at {rule.lower_at_keyword.removeprefix('-webkit-')}", place
            if rule.content is not None and rule.lower_at_keyword in ("media", "supports") and depth < 3:
                inner = tinycss2.parse_rule_list(rule.content, skip_comments=True, skip_whitespace=True)
                rules = [*((each, depth + 1) for each in inner), *rules]
        elif rule.type == "qualified-rule":
            selector = tinycss2.serialize(rule.prelude).strip()
            place = Place(Where.PART, part, at(rule).line, 0, selector[:200])
            for name, pattern in _SELECTORS:
                if pattern.search(selector):
                    yield f"selector {name}", place
            for key in _of_properties(_declared(rule.content)):
                yield key, place


def _declared(content: Any) -> Mapping[str, str]:
    return {
        each.lower_name: tinycss2.serialize(each.value).strip()
        for each in tinycss2.parse_blocks_contents(content, skip_comments=True, skip_whitespace=True)
        if each.type == "declaration"
    }


def _of_properties(declared: Mapping[str, str]) -> Iterator[str]:
    for name, text in declared.items():
        value = text.lower()
        if name == "display":
            yield f"property display:{value.removeprefix('inline-')}"
        elif name == "position":
            if value not in _HARMLESS_POSITIONS:
                yield "property position"
        elif name == "background":
            yield from (f"property background:{kind}" for kind in ("url", "gradient") if f"{kind}(" in value)
        elif name.startswith("margin"):
            if "auto" in value.split():
                yield "property margin:auto"
            if _NEGATIVE.search(value):
                yield "property margin:negative"
        elif name.startswith("padding"):
            yield "property padding"
        elif name.startswith(("animation", "transition")):
            yield f"property {name.partition('-')[0]}"
        else:
            yield f"property {name}"
        for function in ("calc", "var"):
            if f"{function}(" in value:
                yield f"property {function}()"
