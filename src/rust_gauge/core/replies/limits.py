"""What a reply says about a limit, and about a sender that is not proven yet: numbers, periods, names."""

import re
from dataclasses import dataclass

from rust_gauge.core.sending.limits import Period

_UNITS = {
    "second": Period.SECOND, "sec": Period.SECOND, "hour": Period.HOUR, "hr": Period.HOUR, "day": Period.DAY,
    "24h": Period.DAY, "hourly": Period.HOUR, "daily": Period.DAY,
}  # fmt: skip
_UNIT = r"(24[- ]hours?|24h|sec(?:ond)?s?|hours?|hrs?|days?)"
_COUNT = r"(\d{1,3}(?:[ ,.']\d{3})+|\d{1,9})"
_WHAT = r"(?:messages?|mails?|e-?mails?|recipients?|rcpts?|letters?)?"
_PER = re.compile(
    rf"{_COUNT}\s*{_WHAT}\s*(?:per|an?|/|each|every|in|within)\s*(?:the last\s*|an?\s*|one\s*|1\s*)?{_UNIT}",
    re.IGNORECASE,
)
_NAMED = re.compile(
    rf"(hourly|daily)\s+(?:\w+\s+){{0,3}}?(?:limit|quota|allowance|maximum|ceiling)\D{{0,20}}?{_COUNT}", re.IGNORECASE
)
_UNPROVEN = re.compile(
    r"\b(?:not|un|never|isn't|is not|are not|been not|not been|not yet)\s?-?(?:been\s)?(?:yet\s)?"
    r"(?:verified|proven|confirmed|validated|authori[sz]ed to send)\b",
    re.IGNORECASE,
)
_ADDRESS = re.compile(r"[A-Za-z0-9._%+-]+@[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+")
_DOMAIN = re.compile(r"\b(?:domain|identity|host)\s+[\"'<]?((?:[A-Za-z0-9-]+\.)+[A-Za-z]{2,})", re.IGNORECASE)
_REGION = re.compile(r"\bregion\s*[:=]?\s*[\"'(]?([A-Za-z][A-Za-z0-9_-]{1,40})", re.IGNORECASE)
_NO_REGION = ("is", "and", "for", "of", "the", "in", "not", "has")
_LONGEST = 2000  # characters that are read


@dataclass(frozen=True, slots=True)
class StatedLimit:
    """A limit as a reply states it."""

    messages: int
    per: Period


@dataclass(frozen=True, slots=True)
class Unproven:
    """What a reply says is not proven: an address or a domain, in a region if it names one. Either may be empty."""

    address: str
    domain: str
    region: str


def stated_limit(text: str) -> StatedLimit | None:
    """Return the limit that a reply states, such as "100 messages per hour"; None where it states none."""
    text = text[:_LONGEST]
    found = _PER.search(text)
    if found:
        unit = "24h" if found[2].startswith("24") else found[2].lower().rstrip("s")
        return _limit(found[1], _UNITS[unit])
    named = _NAMED.search(text)
    return _limit(named[2], _UNITS[named[1].lower()]) if named else None


def _limit(digits: str, per: Period) -> StatedLimit | None:
    messages = int(re.sub(r"\D", "", digits))
    return StatedLimit(messages, per) if messages else None


def unproven(text: str) -> Unproven | None:
    """Return what a reply says is not proven; None where it says nothing of that kind."""
    text = text[:_LONGEST]
    if not _UNPROVEN.search(text):
        return None
    address, domain, region = _ADDRESS.search(text), _DOMAIN.search(text), _REGION.search(text)
    where = region[1] if region and region[1].lower() not in _NO_REGION else ""
    return Unproven(address[0].lower() if address else "", domain[1].lower() if domain else "", where)
