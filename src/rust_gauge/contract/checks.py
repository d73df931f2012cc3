"""Checks of addresses, and the lists that they are held against."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.suppression import AddressText

_Word = Annotated[str, StringConstraints(max_length=253, strip_whitespace=True, to_lower=True)]
Verdict = Literal["good", "doubtful", "bad", "unknown"]


class AddressWords(Model):
    """A tenant's own words and settings for checks."""

    roles: list[_Word] = Field(default=[], max_length=2000, description="Additional role local parts")
    people: list[_Word] = Field(default=[], max_length=2000, description="Built-in role names that are people here")
    throw_away: list[_Word] = Field(default=[], max_length=50_000, description="Disposable domains")
    parked: list[_Word] = Field(default=[], max_length=5000, description="Mail hosts that serve parked domains")
    probe: bool = Field(False, description="Ask the mail host by SMTP (RCPT, no message) if all other checks pass")
    probes_a_minute: int = Field(10, ge=1, le=600, description="By mailbox provider")


class AddressCheckRequest(Model):
    """Addresses to look at. `probe` asks mail hosts, if the settings allow it."""

    addresses: list[AddressText] = Field(min_length=1, max_length=500)
    probe: bool = False


class CheckFinding(Model):
    """One thing that was found."""

    word: str
    weight: Literal["for", "doubt", "against", "open"]
    detail: str


class AddressCheck(Model):
    """An address, what was found, and what it comes to."""

    address: str
    verdict: Verdict
    found: list[CheckFinding]
    suggestion: str = ""
    provider: str = ""
    checked_at: UtcTime


class MailLinks(Model):
    """What goes into a message for one recipient and stream (RFC 8058, RFC 2369)."""

    recipient: str
    list_unsubscribe: str = Field(description="Value of List-Unsubscribe")
    list_unsubscribe_post: str = Field(description="Value of List-Unsubscribe-Post")


class MailLinksRequest(Model):
    """For whom. The stream and domain are those that the message is sent on."""

    recipients: list[AddressText] = Field(min_length=1, max_length=10_000)
    stream: str = Field("", max_length=60, description="Empty: unsubscribes from all mail")
    domain: str = Field(max_length=253)


class UnsubscribeLine(Model):
    """Somebody unsubscribed: how, when, and how long it took until it was in force."""

    address: str
    stream: str
    way: str = Field(description="post (one click), page, mailto, or event (from a feed)")
    asked_at: UtcTime
    in_force_at: UtcTime
    seconds: float
    mailed_after: UtcTime | None = Field(None, description="Received mail on this stream more than two days later")


class Unsubscribes(Model):
    """The newest, and how they stand against the two days that mailbox providers allow (RFC 8058)."""

    days: int
    asked: int
    by_way: dict[str, int]
    slowest_seconds: float | None
    median_seconds: float | None
    late: int = Field(description="Took more than two days")
    mailed_after: int = Field(description="Of those shown: received mail more than two days later")
    lines: list[UnsubscribeLine]


class NewGate(Model):
    """A way in for an MTA that asks about each recipient (Postfix's policy delegation)."""

    name: str = Field(min_length=1, max_length=60)
    stream: str = Field("", max_length=60, description="Stream of the mail that uses this gate")
    relay: str = Field("", max_length=60)


class Gate(Model):
    """A gate. Its key is shown when it is made."""

    id: int
    name: str
    stream: str
    relay: str
    created_at: UtcTime
    last_used_at: UtcTime | None


class MadeGate(Gate):
    """With the key that the MTA sends as policy_context, shown this once, and a line for its configuration."""

    key: str
    line: str
