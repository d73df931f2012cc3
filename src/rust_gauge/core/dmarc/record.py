"""The DMARC policy record (RFC 7489 §6.3, §6.4, and its successor DMARCbis, which brought `np`, `psd` and `t`) as a
value, with every mistake and its column."""

import re
from dataclasses import dataclass
from urllib.parse import unquote

from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.taglist import Problem, Tag, TagList, parse_tag_list

POLICIES = ("none", "quarantine", "reject")
# dmarc-version = "v" *WSP "=" *WSP %x44 %x4d %x41 %x52 %x43 %x31
_VERSION = re.compile(r"v[ \t]*=[ \t]*DMARC1[ \t]*(?:;|\Z)")
# dmarc-uri = URI [ "!" 1*DIGIT [ "k" / "m" / "g" / "t" ] ]
_SIZE = re.compile(r"!([0-9]+)([kmgt]?)\Z", re.IGNORECASE)
_CHOICES = {
    "p": POLICIES,
    "sp": POLICIES,
    "np": POLICIES,
    "adkim": ("r", "s"),
    "aspf": ("r", "s"),
    "t": ("y", "n"),
    "psd": ("y", "n", "u"),
}
# URI of RFC 3986 with the scheme mailto; a comma and an exclamation mark stand in it only as %2C and %21 (§6.2)
_URI = re.compile(r"mailto:(?:[A-Za-z0-9._~$&'()*+;=:@/?-]|%[0-9A-Fa-f]{2})+\Z", re.IGNORECASE)
_UNITS = {"": 1, "k": 2**10, "m": 2**20, "g": 2**30, "t": 2**40}
_ESCAPED = re.compile(r"\\(?=\s*;)")
MISSPELT_TAGS = {
    "policy": "p", "subdomain": "sp", "pc": "pct", "percent": "pct", "rau": "rua", "fua": "ruf", "rfu": "ruf",
    "dkim": "adkim", "spf": "aspf", "akdim": "adkim", "apsf": "aspf",
}  # fmt: skip
DMARC_TAGS = {*_CHOICES, "v", "pct", "fo", "rf", "ri", "rua", "ruf"}

OPTIONS_IGNORED = "options-ignored"  # fo= is invalid and has its default: the policy is read all the same (§6.3)
POLICY_NOT_SECOND = "policy-not-second"  # p= does not follow v=DMARC1, which some receivers mind (RFC 7489 §6.3)


@dataclass(frozen=True, slots=True)
class DmarcRecord:
    """A policy. `policy` is None if the record has none; `rua` and `ruf` hold the addresses that could be read."""

    text: str
    tags: TagList
    policy: str | None
    subdomain_policy: str | None  # what sp= says; without it the policy holds for subdomains too
    absent_policy: str | None  # what np= says of subdomains that do not exist; without it sp= or p= holds
    percent: int
    testing: bool  # t=y: apply the next milder policy (DMARCbis)
    suffix: str  # psd=: y for a public suffix, n for an organisational domain, u for neither told
    strict_dkim: bool  # adkim=s
    strict_spf: bool  # aspf=s
    failure_options: tuple[str, ...]  # fo=
    interval: int  # ri=, seconds
    rua: tuple[str, ...]
    ruf: tuple[str, ...]
    problems: tuple[Problem, ...]
    unknown: tuple[Problem, ...] = ()  # tags that nobody knows, which break nothing
    limits: tuple[tuple[str, int], ...] = ()  # (address, octets): the largest report that it takes (§6.2)


def is_dmarc1(text: str) -> bool:
    """Return whether a TXT record at `_dmarc` is a DMARC record at all; others are passed over (§6.6.3)."""
    return bool(_VERSION.match(text))


def read_policy(text: str) -> DmarcRecord:
    """Read a record for which `is_dmarc1` holds. Never raises: mistakes are in `problems`."""
    clean, problems = _without_escapes(text)
    tags = parse_tag_list(clean)
    problems += tags.problems
    unknown: list[Problem] = []
    for name, choices in _CHOICES.items():
        tag = tags.get(name)
        if tag and tag.value.lower() not in choices:
            problems.append(_value(tag, f"{name}= is {_or(choices)}, not {tag.value[:40] or 'empty'}"))
    for name, low, high in (("pct", 0, 100), ("ri", 0, 2**32 - 1)):
        tag = tags.get(name)
        if tag and not (re.fullmatch(r"[0-9]{1,10}", tag.value) and low <= int(tag.value) <= high):
            problems.append(_value(tag, f"{name}= is a number from {low} to {high}, not {tag.value[:40] or 'empty'}"))
    fo = tags.get("fo")
    if fo and not re.fullmatch(r"\s*[01dsDS]\s*(?::\s*[01dsDS]\s*)*", fo.value):
        what = f"fo= is 0, 1, d or s, separated by colons, not {fo.value[:40] or 'empty'}; the default 0 is used"
        problems.append(Problem(what, fo.value_column, max(1, len(fo.value)), OPTIONS_IGNORED))
        fo = None
    for tag in tags.tags:
        if tag.name in DMARC_TAGS:
            continue
        near = tag.name.lower() if tag.name.lower() in DMARC_TAGS else MISSPELT_TAGS.get(tag.name.lower())
        if near:
            problems.append(Problem(f"the tag {tag.name} is written {near}", tag.column, len(tag.name)))
        else:  # §6.3: unknown tags are ignored, so this breaks nothing
            unknown.append(Problem(f"unknown tag {tag.name[:30]}; it is ignored", tag.column, len(tag.name)))
    limits: dict[str, int] = {}
    rua, found = _addresses(tags.get("rua"), limits)
    ruf, found_ruf = _addresses(tags.get("ruf"), limits)
    problems += found + found_ruf
    policy_tag = tags.get("p")
    policy = policy_tag.value.lower() if policy_tag and policy_tag.value.lower() in POLICIES else None
    if policy_tag is None:
        problems.append(Problem("the tag p= with the policy is missing", 1, len("v=DMARC1")))
    elif len(tags.tags) > 1 and tags.tags[1] is not policy_tag:  # §6.4: p= follows the version
        length = 2 + len(policy_tag.value)
        problems.append(Problem("p= must follow v=DMARC1 directly", policy_tag.column, length, POLICY_NOT_SECOND))
    sub, absent = _policy(tags, "sp"), _policy(tags, "np")
    broken = policy is None or (tags.get("sp") and sub is None) or (tags.get("np") and absent is None)
    if broken:  # §6.6.3 step 6: with a usable rua= the record counts as p=none, without one as no record
        policy, sub, absent = ("none" if rua else None), None, None
    percent = tags.get("pct")
    usable = percent is not None and re.fullmatch(r"[0-9]{1,3}", percent.value) is not None
    return DmarcRecord(
        text,
        tags,
        policy,
        sub,
        absent,
        min(100, int(percent.value)) if percent is not None and usable else 100,
        _lower(tags, "t") == "y",
        _lower(tags, "psd") if _lower(tags, "psd") in ("y", "n") else "u",
        _lower(tags, "adkim") == "s",
        _lower(tags, "aspf") == "s",
        tuple(word.strip().lower() for word in fo.value.split(":")) if fo else ("0",),
        _interval(tags),
        rua,
        ruf,
        tuple(sorted(problems, key=lambda problem: problem.column)),
        tuple(unknown),
        tuple(limits.items()),
    )


def _policy(tags: TagList, name: str) -> str | None:
    value = _lower(tags, name)
    return value if value in POLICIES else None


def _lower(tags: TagList, name: str) -> str:
    tag = tags.get(name)
    return tag.value.lower() if tag else ""


def _interval(tags: TagList) -> int:
    tag = tags.get("ri")
    return int(tag.value) if tag and re.fullmatch(r"[0-9]{1,10}", tag.value) else 86_400


def _without_escapes(text: str) -> tuple[str, list[Problem]]:
    """Remove the quotes and backslashes that control panels leave in a record; each is reported."""
    problems = []
    chars = list(text)
    end = len(text.rstrip(" ;\r\n"))
    for match in re.finditer(r"[\r\n]+|\\[rn]", text):
        at_end = match.end() >= end
        if at_end or match.group().startswith("\\"):  # between tags receivers take it as a blank
            where = "at the end of" if at_end else "in"
            problems.append(Problem(f"a line break is {where} the record", match.start() + 1, len(match.group())))
        chars[match.start() : match.end()] = " " * len(match.group())
    for match in _ESCAPED.finditer(text):
        problems.append(Problem("a backslash is before the semicolon", match.start() + 1))
        chars[match.start()] = " "
    tail = len(text.rstrip(" ;")) - 1
    if tail > 0 and text[tail] in "\"'“”":
        problems.append(Problem("a quote is at the end of the record", tail + 1))
        chars[tail] = " "
    return "".join(chars), problems


def _addresses(tag: Tag | None, limits: dict[str, int]) -> tuple[tuple[str, ...], list[Problem]]:
    """Return the mail addresses of a `rua=` or `ruf=` list; each bad URI is a problem of its own (§6.2).

    Size limits are added to `limits`, in octets.
    """
    if tag is None:
        return (), []
    good: list[str] = []
    problems: list[Problem] = []
    at = tag.value_column
    for piece in tag.value.split(","):
        uri = piece.strip()
        column = at + len(piece) - len(piece.lstrip())
        at += len(piece) + 1
        if not uri:
            problems.append(Problem("an address is missing next to the comma", max(1, column - 1), 1))
            continue
        try:
            address, limit = _mailto(uri)
        except ValueError as error:
            problems.append(Problem(str(error), column, len(uri)))
            continue
        good.append(address)
        if limit is not None:
            limits[address] = limit
    return tuple(good), problems


def _mailto(uri: str) -> tuple[str, int | None]:
    """Return (address, size limit in octets) of a dmarc-uri (§6.4). ValueError says what is wrong with it."""
    scheme, colon, _ = uri.partition(":")
    shown = uri[:60]
    if not colon or scheme.lower() != "mailto":
        hint = ": mailto: is missing" if "@" in uri and not colon else ""
        raise ValueError(f"{shown} is not a mailto: URI{hint}")
    blank = re.search(r"\s", uri)
    if blank:
        raise ValueError(f"{shown} has a blank: a URI has none (RFC 3986)")
    size = _SIZE.search(uri)
    plain = _SIZE.sub("", uri)
    if "!" in plain:
        raise ValueError(f"{shown}: !{plain.partition('!')[2][:20]} is not a size limit such as !10m")
    if not _URI.match(plain):
        raise ValueError(f"{shown} is not a URI (RFC 3986): a character in it must be percent-encoded")
    try:
        address = str(parse_address(unquote(plain[len("mailto:") :].partition("?")[0])))
    except AddressError as error:
        raise ValueError(f"{error.what}: {error.why}") from None
    return address, int(size.group(1)[:20]) * _UNITS[size.group(2).lower()] if size else None


def _value(tag: Tag, what: str) -> Problem:
    return Problem(what, tag.value_column, max(1, len(tag.value)))


def _or(words: tuple[str, ...]) -> str:
    return ", ".join(words[:-1]) + " or " + words[-1]
