"""Address checks, and the lists that addresses are checked against."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.suppression import AddressText

_Word = Annotated[str, StringConstraints(max_length=253, strip_whitespace=True, to_lower=True)]
Verdict = Literal["good", "doubtful", "bad", "unknown"]


class AddressWords(Model):
    """A tenant's own lists and settings for address checks."""

    roles: list[_Word] = Field(default=[], max_length=2000, description="Additional role local parts")
    people: list[_Word] = Field(default=[], max_length=2000, description="Built-in role names that are people here")
    throw_away: list[_Word] = Field(default=[], max_length=50_000, description="Disposable domains")
    parked: list[_Word] = Field(default=[], max_length=5000, description="Mail hosts that serve parked domains")
    probe: bool = Field(False, description="Ask the mail host by SMTP (RCPT, no message) if all other checks pass")
    probes_a_minute: int = Field(10, ge=1, le=600, description="By mailbox provider")


class AddressCheckRequest(Model):
    """Addresses to check. `probe` asks the mail hosts, if the settings allow it."""

    addresses: list[AddressText] = Field(min_length=1, max_length=500)
    probe: bool = False


class CheckFinding(Model):
    """One finding of an address check."""

    word: str
    weight: Literal["for", "doubt", "against", "open"]
    detail: str


class AddressCheck(Model):
    """An address, its findings, and the verdict."""

    address: str
    verdict: Verdict
    found: list[CheckFinding]
    suggestion: str = ""
    provider: str = ""
    checked_at: UtcTime


class MailLinks(Model):
    """The unsubscribe headers of a message for one recipient and stream (RFC 8058, RFC 2369)."""

    recipient: str
    list_unsubscribe: str = Field(description="Value of List-Unsubscribe")
    list_unsubscribe_post: str = Field(description="Value of List-Unsubscribe-Post")


class MailLinksRequest(Model):
    """Recipients to make unsubscribe headers for. Stream and domain are those of the message."""

    recipients: list[AddressText] = Field(min_length=1, max_length=10_000)
    stream: str = Field("", max_length=60, description="Empty: unsubscribes from all mail")
    domain: str = Field(max_length=253)


class UnsubscribeLine(Model):
    """An unsubscribe request: how it came, when, and how long it took to take effect."""

    address: str
    stream: str
    way: str = Field(description="post (one click), page, mailto, or event (from a feed)")
    asked_at: UtcTime
    in_force_at: UtcTime
    seconds: float
    mailed_after: UtcTime | None = Field(None, description="Received mail on this stream more than two days later")


class Unsubscribes(Model):
    """The latest unsubscribe requests, compared with the two days that mailbox providers allow (RFC 8058)."""

    days: int
    asked: int
    by_method: dict[str, int]
    slowest_seconds: float | None
    median_seconds: float | None
    late: int = Field(description="Took more than two days")
    mailed_after: int = Field(description="Of those shown: received mail more than two days later")
    lines: list[UnsubscribeLine]


class NewGate(Model):
    """A door for an MTA that asks about each recipient (Postfix policy delegation)."""

    name: str = Field(min_length=1, max_length=60)
    stream: str = Field("", max_length=60, description="Stream of the mail that uses this gate")
    relay: str = Field("", max_length=60)


class Gate(Model):
    """A gate. Its key is shown only when the gate is created."""

    id: int
    name: str
    stream: str
    relay: str
    created_at: UtcTime
    last_used_at: UtcTime | None


class MadeGate(Gate):
    """A gate with the key that the MTA sends as policy_context, shown only once, and a line for the MTA's
    configuration.
    """

    key: str
    line: str
