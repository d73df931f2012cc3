"""Clearance: each address is `clear` or `held`, and why."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from rust_gauge.core.errors import AddressError
from rust_gauge.core.suppression.policy import Reason


@dataclass(frozen=True, slots=True)
class Entry:
    """A line of the suppression list, as far as the answer needs it. `until` None: no end."""

    reason: Reason
    since: datetime
    until: datetime | None
    detail: str


@dataclass(frozen=True, slots=True)
class Clearance:
    """The answer for one address, as it was asked about."""

    address: str
    held: bool
    reason: str = ""  # a Reason, or `no_address` where the text is none
    why: str = ""
    since: datetime | None = None
    until: datetime | None = None


def clear(address: str) -> Clearance:
    return Clearance(address, held=False)


def judge(address: str, entries: Iterable[Entry], now: datetime) -> Clearance:
    """`held` while any entry is in force, by the one that came first."""
    live = [entry for entry in entries if entry.until is None or entry.until > now]
    if not live:
        return clear(address)
    entry = min(live, key=lambda each: each.since)
    why = entry.reason.meaning + (f" ({entry.detail})" if entry.detail else "")
    return Clearance(address, True, entry.reason, why, entry.since, entry.until)


def no_address(text: str, error: AddressError) -> Clearance:
    """What cannot be an address cannot be mailed."""
    return Clearance(text, True, "no_address", error.why)
