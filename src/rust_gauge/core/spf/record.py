"""The SPF record as a value (RFC 7208 §4.6.1, §5, §6 and the ABNF of §12), with every mistake and its column.

record    = version terms *SP
terms     = *( 1*SP ( directive / modifier ) )
directive = [ qualifier ] mechanism
mechanism = all / include / a / mx / ptr / ip4 / ip6 / exists
modifier  = redirect / explanation / unknown-modifier
"""

import ipaddress
import re
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property, lru_cache

from rust_gauge.core.spf.macros import MacroString, check_domain_spec, parse_macro_string
from rust_gauge.core.taglist import Problem

VERSION = "v=spf1"
Network = ipaddress.IPv4Network | ipaddress.IPv6Network

# modifier = name "=" macro-string; name = ALPHA *( ALPHA / DIGIT / "-" / "_" / "." )
_MODIFIER = re.compile(r"([A-Za-z][A-Za-z0-9\-_.]*)=(.*)\Z", re.DOTALL)
_MECHANISM = re.compile(r"([A-Za-z0-9]+)(?:([:/])(.*))?\Z", re.DOTALL)
# cidr-length without leading zeros (§12: ip4-cidr-length, ip6-cidr-length)
_CIDR = re.compile(r"(?:/(0|[1-9][0-9]?))?(?://(0|[1-9][0-9]{0,2}))?\Z")
_WORD = re.compile(r"[^ ]+")
_QNUM = r"(25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"  # §12: qnum
_PLAIN_IP4 = re.compile(rf"([+\-~?]?)ip4:{_QNUM}\.{_QNUM}\.{_QNUM}\.{_QNUM}(?:/(3[0-2]|[12][0-9]|[0-9]))?\Z")
_TAIL = re.compile(r"(?:/[^/.%{}]*)*\Z")
_NAMES = ("all", "include", "a", "mx", "ptr", "ip4", "ip6", "exists")
LOOKUP_MECHANISMS = frozenset({"include", "a", "mx", "ptr", "exists"})


class Qualifier(StrEnum):
    """What a match means (§4.6.2)."""

    PASS = "+"  # noqa: S105 - no password
    FAIL = "-"
    SOFTFAIL = "~"
    NEUTRAL = "?"


_QUALIFIERS = {str(qualifier): qualifier for qualifier in Qualifier}


@dataclass(frozen=True, slots=True)
class Directive:
    """One mechanism with its qualifier. `column` counts from 1; `explicit` tells whether the qualifier was written.

    `address` is that of ip4 and ip6 as a number, kept beside the prefix lengths because most evaluations only compare.
    """

    text: str
    column: int
    qualifier: Qualifier
    mechanism: str
    domain: MacroString | None = None
    address: int | None = None
    prefix4: int = 32
    prefix6: int = 128
    explicit: bool = False

    @property
    def network(self) -> Network | None:
        """The network of ip4 and ip6; host bits behind the prefix do not count (§5.6)."""
        if self.address is None:
            return None
        if self.mechanism == "ip4":
            return ipaddress.IPv4Network((self.address, self.prefix4), strict=False)
        return ipaddress.IPv6Network((self.address, self.prefix6), strict=False)


@dataclass(frozen=True, slots=True)
class Modifier:
    """`name=value`: redirect, exp, or one that nobody has defined yet and that is ignored (§6)."""

    text: str
    column: int
    name: str
    value: MacroString


@dataclass(frozen=True)
class SpfRecord:
    """A parsed record. `problems` is empty exactly when the syntax is right; else its result is permerror (§4.6)."""

    text: str
    terms: tuple[Directive | Modifier, ...]
    problems: tuple[Problem, ...]

    @cached_property
    def directives(self) -> tuple[Directive, ...]:
        """The mechanisms with their qualifiers, in their order."""
        return tuple(term for term in self.terms if isinstance(term, Directive))

    @cached_property
    def all(self) -> Directive | None:
        """The first `all`: nothing after it is ever looked at (§5.1)."""
        return next((term for term in self.directives if term.mechanism == "all"), None)

    @cached_property
    def explanation(self) -> Modifier | None:
        """`exp=`: where the text for a failure lies (§6.2)."""
        return next((t for t in self.terms if isinstance(t, Modifier) and t.name == "exp"), None)

    @cached_property
    def redirect(self) -> Modifier | None:
        """The `redirect=` modifier (§6.1), None without one."""
        return next((t for t in self.terms if isinstance(t, Modifier) and t.name == "redirect"), None)


def is_spf1(text: str) -> bool:
    """Return whether a TXT record is an SPF record: the version alone or before a space (§4.5), in any case."""
    head = text[: len(VERSION) + 1].lower()
    return head == VERSION or head == VERSION + " "


@lru_cache(maxsize=4096)  # the same records are evaluated for message after message
def parse_spf(text: str) -> SpfRecord:
    """Read a record for which `is_spf1` holds. Never raises: mistakes are in `problems`, good terms in `terms`."""
    terms: list[Directive | Modifier] = []
    problems: list[Problem] = []
    seen: set[str] = set()
    for match in _WORD.finditer(text, len(VERSION)):
        word, column = match.group(), match.start() + 1
        plain = _PLAIN_IP4.match(word)
        if plain:  # by far the most frequent term; nothing in it can be wrong
            terms.append(_plain_ip4(word, column, *plain.groups()))
            continue
        modifier = _MODIFIER.match(word)
        if modifier:
            term, found = _parse_modifier(word, column, *modifier.groups())
            if term.name in ("redirect", "exp"):
                if term.name in seen:  # §6: more than one of either is a syntax error
                    found = [*found, Problem(f"{term.name}= appears twice", column, len(word))]
                seen.add(term.name)
            terms.append(term)
            problems += found
            continue
        directive, found = _parse_directive(word, column)
        problems += found
        if directive is not None:
            terms.append(directive)
    return SpfRecord(text, tuple(terms), tuple(problems))


def _plain_ip4(word: str, column: int, sign: str, a: str, b: str, c: str, d: str, prefix: str | None) -> Directive:
    number = int(a) << 24 | int(b) << 16 | int(c) << 8 | int(d)
    qualifier = _QUALIFIERS[sign] if sign else Qualifier.PASS
    return Directive(word, column, qualifier, "ip4", None, number, int(prefix) if prefix else 32, 128, bool(sign))


def _parse_modifier(word: str, column: int, name: str, value: str) -> tuple[Modifier, list[Problem]]:
    at = column + len(name) + 1
    macro, problems = parse_macro_string(value, at)
    name = name.lower()
    if name in ("redirect", "exp") and not problems:
        problems = check_domain_spec(macro, at)
    return Modifier(word, column, name, macro), problems


def _parse_directive(word: str, column: int) -> tuple[Directive | None, list[Problem]]:
    explicit = word[0] in "+-~?"
    qualifier = Qualifier(word[0]) if explicit else Qualifier.PASS
    body, at = (word[1:], column + 1) if explicit else (word, column)
    match = _MECHANISM.match(body)
    name = match.group(1).lower() if match else ""
    if match is None or name not in _NAMES:
        return None, [Problem(f"{word[:60]} is not an SPF mechanism", column, len(word))]
    separator, rest = match.group(2), match.group(3) or ""
    at += len(name) + 1  # where the argument begins
    base = Directive(word, column, qualifier, name, explicit=explicit)
    if name == "all":
        return (None, [Problem("all takes no argument", column, len(word))]) if separator else (base, [])
    if name in ("ip4", "ip6"):
        return _with_network(base, separator, rest, at)
    if name in ("include", "exists"):
        if separator != ":":
            return None, [Problem(f"{name} needs a name after a colon", column, len(word))]
        return _with_domain(base, rest, at)
    if name == "ptr":
        if separator == "/":
            return None, [Problem("ptr takes no prefix length", column, len(word))]
        return _with_domain(base, rest, at) if separator else (base, [])
    return _with_domain_and_cidr(base, separator, rest, at)  # a, mx


def _with_domain(base: Directive, text: str, at: int) -> tuple[Directive | None, list[Problem]]:
    macro, problems = parse_macro_string(text, at)
    problems = problems or check_domain_spec(macro, at)
    if problems:
        return None, problems
    return replace(base, domain=macro), []


def _with_domain_and_cidr(
    base: Directive, separator: str | None, rest: str, at: int
) -> tuple[Directive | None, list[Problem]]:
    """Read `a` and `mx`: [ ":" domain-spec ] [ dual-cidr-length ]. A slash inside a macro's braces is a delimiter."""
    if separator == "/":
        domain_text, cidr_text = None, "/" + rest
    elif separator == ":":
        # A slash may stand inside a name (macro-literal) or a macro; only a tail of slashes and digits is a length.
        slash = _TAIL.search(rest).start()  # type: ignore[union-attr]  # it matches the empty end at least
        domain_text, cidr_text = rest[:slash], rest[slash:]
    else:
        return base, []
    cidr_column = at + len(domain_text) if domain_text is not None else at - 1
    cidr = _CIDR.match(cidr_text)
    if cidr is None or (cidr.group(1) and int(cidr.group(1)) > 32) or (cidr.group(2) and int(cidr.group(2)) > 128):
        return None, [Problem(f"{cidr_text} is not a valid prefix length", cidr_column, len(cidr_text))]
    directive, problems = (base, []) if domain_text is None else _with_domain(base, domain_text, at)
    if directive is None:
        return None, problems
    return replace(directive, prefix4=int(cidr.group(1) or 32), prefix6=int(cidr.group(2) or 128)), []


def _with_network(base: Directive, separator: str | None, text: str, at: int) -> tuple[Directive | None, list[Problem]]:
    if separator != ":" or not text:
        what = f"{base.mechanism} needs an address after a colon"
        return None, [Problem(what, base.column, len(base.text))]
    address_text, slash, prefix = text.partition("/")
    widest = 32 if base.mechanism == "ip4" else 128
    try:
        address = ipaddress.ip_address(address_text)
    except ValueError:
        address = None
    if address is None or "%" in address_text or address.max_prefixlen != widest:
        family = "IPv4" if widest == 32 else "IPv6"
        what = f"{address_text[:60] or 'nothing'} is not an {family} address"
        return None, [Problem(what, at, max(1, len(address_text)))]
    if slash and not (re.fullmatch(r"0|[1-9][0-9]{0,2}", prefix) and int(prefix) <= widest):
        return None, [Problem(f"/{prefix} is not a valid prefix length", at + len(address_text), len(prefix) + 1)]
    length = int(prefix) if slash else widest
    if widest == 32:
        return replace(base, address=int(address), prefix4=length), []
    return replace(base, address=int(address), prefix6=length), []
