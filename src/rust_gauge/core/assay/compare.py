"""Two messages beside each other: what differs in what was sent, and which difference may account for each point.

A point of the mark comes from a rule, and a rule looks at certain things only. When one of those changed, it accounts
for the point; when several did, they cannot be told apart, and the comparison says so instead of choosing.
"""

import difflib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from rust_gauge.core.assay.examine import Examined
from rust_gauge.core.assay.html import MARK, Html, unmarked
from rust_gauge.core.assay.links import Link
from rust_gauge.core.assay.message import Message
from rust_gauge.core.mime import words

ADDRESS = "sending address"  # of `Side.path`
MOST_CHANGES = 40  # of one kind
_MOST_LINKS, _MOST_LINES = 500, 2000  # of a message that are compared
# Differ between any two messages, or are made on the way.
_OF_EACH = frozenset(
    ("date", "message-id", "received", "dkim-signature", "arc-seal", "arc-message-signature",
     "arc-authentication-results", "authentication-results", "received-spf", "return-path", "delivered-to",
     "content-type", "x-received")
)  # fmt: skip
# What some rules look at, and the others of their group.
_RULE_LOOKS_AT: dict[str, tuple[str, ...]] = {
    "text-differs": ("text", "html text"),
    "numbers-differ": ("text", "html text"),
    "links-differ": ("text", "links"),
    "links-only-in-html": ("text", "links"),
    "link-other-domain": ("links", "header"),
    "mime-version-missing": ("header", "parts"),
    "address-listed": ("listing",),
    "sender-unknown": ("header", "route"),
    "sender-new": ("header", "route"),
    "reading-low": ("header",),
    "text-like-complained": ("header", "text", "html text"),
    "language-differs": ("header", "text", "html text", "html structure"),
    "unsubscribe-dead": ("header",),
    "unsubscribe-without-form": ("header",),
    "line-too-long": ("header", "text", "html text", "html structure", "links", "parts", "size"),
}
_LOOKS_AT: dict[str, tuple[str, ...]] = {
    "authentication": ("header", "text", "html text", "html structure", "links", "parts", "authentication"),
    "headers": ("header", "route"),
    "sender": ("header", "links", "authentication", "route"),
    "links": ("links",),
    "content": ("html text", "html structure", "text", "header"),
    "structure": ("parts", "html structure", "html text", "text", "size"),
    "agreement": ("text", "html text", "links"),
}


@dataclass(frozen=True, slots=True)
class Change:
    """One difference. `kind` is header, text, html text, html structure, links, parts, size, route, listing or
    authentication; `before` or `after` is empty where something was added or removed."""

    kind: str
    what: str
    before: str = ""
    after: str = ""


@dataclass(frozen=True, slots=True)
class PointChange:
    """A rule whose points differ. `because` has the kinds of change that may account for it: one is the reason, several
    cannot be told apart; none: nothing differs that the rule looks at."""

    rule: str
    title: str
    before: float
    after: float
    because: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two messages. The points of `points` add up to the difference of the marks."""

    mark_before: float
    mark_after: float
    changes: tuple[Change, ...]
    points: tuple[PointChange, ...]


@dataclass(frozen=True, slots=True)
class Taken:
    """What one rule took off the mark of a message."""

    rule: str
    group: str
    title: str
    points: float


@dataclass(frozen=True, slots=True)
class Side:
    """A message as it is compared, with what its examination found, now or earlier.

    `results` has what was authenticated, by method; `path` how it travelled, such as the address it came from; both as
    texts. `listed` names the blocklists that had the address then.
    """

    message: Message
    page: Html | None
    links: tuple[Link, ...]
    mark: float
    taken: tuple[Taken, ...]
    results: Mapping[str, str] = field(default_factory=dict)
    path: Mapping[str, str] = field(default_factory=dict)
    listed: tuple[str, ...] = ()


def side_of(done: Examined) -> Side:
    """Return a message that was examined just now."""
    taken = tuple(Taken(each.rule, each.group, each.title, each.points) for each in done.assay.findings)
    return Side(done.message, done.page, done.links, done.assay.mark, taken, _results(done))


def compare(before: Examined, after: Examined) -> Comparison:
    """Compare two messages that were examined by the same rules."""
    return compare_sides(side_of(before), side_of(after))


def compare_sides(before: Side, after: Side) -> Comparison:
    """Compare two messages, with what was found when each of them was examined."""
    changes = tuple(_changes(before, after))
    kinds = tuple(dict.fromkeys(change.kind for change in changes))
    return Comparison(before.mark, after.mark, changes, tuple(_points(before, after, kinds)))


def _points(before: Side, after: Side, kinds: tuple[str, ...]) -> Iterator[PointChange]:
    old = {each.rule: each for each in before.taken}
    new = {each.rule: each for each in after.taken}
    for rule in dict.fromkeys((*old, *new)):
        was = old[rule].points if rule in old else 0.0
        is_now = new[rule].points if rule in new else 0.0
        if was == is_now and (rule in old) == (rule in new):
            continue
        finding = new.get(rule) or old[rule]
        looks_at = _RULE_LOOKS_AT.get(rule) or _LOOKS_AT.get(finding.group, kinds)
        because = tuple(kind for kind in looks_at if kind in kinds)
        if rule == "address-listed" and before.path.get(ADDRESS) != after.path.get(ADDRESS):
            because = ("route",)  # another address: whether it is listed comes with it
        yield PointChange(rule, finding.title, was, is_now, because)


def _changes(before: Side, after: Side) -> Iterator[Change]:
    yield from _header(before, after)
    for kind, old, new in (
        ("text", before.message.text, after.message.text),
        ("html text", _visible(before), _visible(after)),
    ):
        yield from _lines(kind, old or "", new or "")
    yield from _structure(before, after)
    yield from _links(before, after)
    yield from _parts(before, after)
    yield from _authentication(before, after)
    yield from _route(before, after)


def _header(before: Side, after: Side) -> Iterator[Change]:
    old, new = _fields(before), _fields(after)
    for name in dict.fromkeys((*old, *new)):
        if old.get(name) != new.get(name):
            yield Change("header", name, old.get(name, ""), new.get(name, ""))


def _fields(done: Side) -> dict[str, str]:
    found: dict[str, list[str]] = {}
    for one in done.message.mail.fields:
        if one.name.lower() not in _OF_EACH:
            found.setdefault(one.name.title(), []).append(words(one.text)[:500])
    return {name: " | ".join(values) for name, values in found.items()}


def _visible(done: Side) -> str:
    return "" if done.page is None else done.page.visible_text


def _lines(kind: str, old: str, new: str) -> Iterator[Change]:
    was = [line.strip() for line in old.splitlines() if line.strip()]
    now = [line.strip() for line in new.splitlines() if line.strip()]
    matcher = difflib.SequenceMatcher(None, was[:_MOST_LINES], now[:_MOST_LINES], autojunk=False)
    count = 0
    for tag, a, b, c, d in matcher.get_opcodes():
        if tag == "equal":
            continue
        count += 1
        if count > MOST_CHANGES:
            yield Change(kind, "more lines differ")
            return
        yield Change(kind, "lines", "\n".join(was[a:b])[:500], "\n".join(now[c:d])[:500])


def _structure(before: Side, after: Side) -> Iterator[Change]:
    old, new = _tags(before), _tags(after)
    for name in sorted(set(old) | set(new)):
        if old[name] != new[name]:
            yield Change("html structure", f"<{name}>", str(old[name] or ""), str(new[name] or ""))

    was, now = _attributes(before), _attributes(after)
    for text in list((was - now).keys() | (now - was).keys())[:MOST_CHANGES]:
        yield Change("html structure", "attribute or style", text if was[text] > now[text] else "",
                     text if now[text] > was[text] else "")  # fmt: skip


def _attributes(done: Side) -> Counter[str]:
    """Return attributes, without those that links compare, and the texts of style elements."""
    found: Counter[str] = Counter()
    for element in () if done.page is None else done.page.elements:
        for name, value in element.attrib.items():
            if name not in ("href", "src", MARK):
                found[f"<{element.tag!s} {name!s}={value!r}>"[:200]] += 1
        if element.tag == "style":
            found[f"<style> {unmarked(element.text or '').strip()}"[:500]] += 1
    return found


def _tags(done: Side) -> Counter[str]:
    return Counter() if done.page is None else Counter(str(element.tag) for element in done.page.elements)


def _links(before: Side, after: Side) -> Iterator[Change]:
    old = [(link.kind, link.text, link.url) for link in before.links[:_MOST_LINKS]]
    new = [(link.kind, link.text, link.url) for link in after.links[:_MOST_LINKS]]
    matcher = difflib.SequenceMatcher(None, old, new, autojunk=False)
    count = 0
    for tag, a, b, c, d in matcher.get_opcodes():
        if tag == "equal":
            continue
        for at in range(max(b - a, d - c)):
            count += 1
            if count > MOST_CHANGES:
                yield Change("links", "more links differ")
                return
            was = old[a + at] if a + at < b else None
            now = new[c + at] if c + at < d else None
            shown = now or was
            assert shown is not None, "one of the two is longer"
            yield Change("links", f"{shown[0]} {shown[1][:80]!r}", was[2] if was else "", now[2] if now else "")


def _parts(before: Side, after: Side) -> Iterator[Change]:
    old, new = _listed(before), _listed(after)
    for number in dict.fromkeys((*old, *new)):
        if old.get(number) != new.get(number):
            yield Change("parts", f"part {number}", old.get(number, ""), new.get(number, ""))
    sizes = len(before.message.raw), len(after.message.raw)
    if abs(sizes[0] - sizes[1]) > 0.1 * max(sizes):
        yield Change("size", "octets", f"{sizes[0]:,}", f"{sizes[1]:,}")


def _listed(done: Side) -> dict[str, str]:
    return {
        part.number: " ".join(text for text in (part.type, part.charset, part.encoding, part.file_name) if text)
        for part in done.message.parts
    }


def _authentication(before: Side, after: Side) -> Iterator[Change]:
    yield from _differing("authentication", before.results, after.results)


def _differing(kind: str, old: Mapping[str, str], new: Mapping[str, str]) -> Iterator[Change]:
    for name in dict.fromkeys((*old, *new)):
        if old.get(name) != new.get(name):
            yield Change(kind, name, old.get(name, ""), new.get(name, ""))


def _results(done: Examined) -> dict[str, str]:
    found = done.authentication
    if found is None:
        return {}
    return result_texts(
        [(str(v.result), v.signature.domain, v.signature.selector) for v in found.signatures],
        None if found.spf is None else (str(found.spf.mail_from.result), found.spf.mail_from_domain),
        found.dmarc[0].result if found.dmarc else None,
    )


def result_texts(
    signatures: Sequence[tuple[str, str, str]], spf: tuple[str, str] | None, dmarc: str | None
) -> dict[str, str]:
    """Return `Side.results`: signatures as (result, domain, selector), SPF as (result, domain); None: not evaluated."""
    return {
        "DKIM": ", ".join(f"{result} d={domain} s={selector}" for result, domain, selector in signatures) or "none",
        "SPF": "not evaluated" if spf is None else " ".join(spf),
        "DMARC": "not evaluated" if dmarc is None else dmarc,
    }


def _route(before: Side, after: Side) -> Iterator[Change]:
    old, new = (_hops(done) for done in (before, after))
    if old != new:
        yield Change("route", "Received", "\n".join(old), "\n".join(new))
    yield from _differing("route", before.path, after.path)
    if before.listed != after.listed:
        yield Change("listing", "address on blocklists", ", ".join(before.listed), ", ".join(after.listed))


def _hops(done: Side) -> list[str]:
    """Return who took the message over, in order, without times and ids."""
    return [field.text.partition(" id ")[0].partition(";")[0][:200] for field in done.message.fields("Received")][::-1]
