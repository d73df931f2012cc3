"""Relays: paths by which mail leaves, the records that they need, and what they allow."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime

RelayName = Annotated[str, StringConstraints(min_length=1, max_length=60, pattern=r"^[^\s/][^/\x00-\x1f]*$")]
_Label = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9_]([A-Za-z0-9_.-]{0,61}[A-Za-z0-9_])?$")]
_Name = Annotated[str, StringConstraints(max_length=253)]


class RelayHost(Model):
    """An address that mail leaves from, and its HELO name."""

    ip: str = Field(max_length=45, examples=["192.0.2.41"])
    helo: str = Field("", max_length=253, examples=["mta1.skerry.example"])


class RelayKey(Model):
    """A key that the relay signs with: a CNAME to the relay's own record, or a TXT record to copy."""

    selector: _Label
    type: Literal["CNAME", "TXT"] = "CNAME"
    value: str = Field("", max_length=4000, description="Target or record; may hold {domain} and {dashed}")


class RelayRecord(Model):
    """A host below the sending domain that belongs to the relay."""

    label: _Label = Field(examples=["bounce"])
    type: Literal["CNAME", "MX"] = "CNAME"
    value: _Name = Field(min_length=1, description="Target; may hold {domain} and {dashed}")
    priority: int = Field(10, ge=0, le=65535, description="For MX")
    spf: str = Field("", max_length=1000, description="SPF record of an MX host; empty: made from the include")


class RelayInbound(Model):
    """A host that receives mail for the domain."""

    priority: int = Field(10, ge=0, le=65535)
    host: _Name = Field(min_length=1)


class RelayLimit(Model):
    """Sending limits of the relay, of one region where they differ. Empty: not known."""

    region: str = Field("", max_length=60)
    per_second: int | None = Field(None, ge=0)
    per_hour: int | None = Field(None, ge=0)
    per_day: int | None = Field(None, ge=0, description="In any 24 hours")
    streams: list[Annotated[str, StringConstraints(min_length=1, max_length=60)]] = Field(
        default=[], max_length=50, description="Streams whose mail counts here; empty: all mail of the relay"
    )
    restricted: bool = Field(False, description="Only proven recipients may be mailed yet")
    hold_back: bool = Field(False, description="Clearance answers `later` for mail that would exceed a limit")


class RelayLines(Model):
    """The relay's own rates at which it warns and stops, as fractions. Empty: the defaults."""

    bounce_watch: float | None = Field(None, ge=0, le=1, examples=[0.05])
    bounce_stop: float | None = Field(None, ge=0, le=1, examples=[0.1])
    complaint_watch: float | None = Field(None, ge=0, le=1, examples=[0.001])
    complaint_stop: float | None = Field(None, ge=0, le=1, examples=[0.005])


class RelayDescription(Model):
    """The description of a relay: what it is, which records it needs, what it allows."""

    own: bool = Field(False, description="Own MTA; otherwise an external service")
    hosts: list[RelayHost] = Field(default=[], max_length=200)
    include: _Name = Field("", description="Target of the SPF include")
    networks: list[Annotated[str, StringConstraints(max_length=49)]] = Field(default=[], max_length=200)
    dkim: list[RelayKey] = Field(default=[], max_length=20)
    return_path: RelayRecord | None = None
    tracking: RelayRecord | None = None
    inbound: list[RelayInbound] = Field(default=[], max_length=20)
    limits: list[RelayLimit] = Field(default=[], max_length=50)
    lines: RelayLines = RelayLines()
    note: str = Field("", max_length=2000)


class LimitUse(Model):
    """How far one limit is used."""

    per: Literal["second", "hour", "day"]
    limit: int
    used: int = Field(description="In the last hour or 24 hours; per second the most of the last ten minutes")
    remaining: int
    reached_at: UtcTime | None = Field(
        description="When it is reached at the pace of the last hour; null: not within two days, or not foreseen"
    )
    free_at: UtcTime | None = Field(description="When a message may go again, where nothing remains")


class LimitState(Model):
    """The limits of a relay, or of one of its regions, as far as they are used."""

    region: str
    streams: list[str]
    restricted: bool
    hold_back: bool
    pace: int = Field(description="Messages in the last hour")
    uses: list[LimitUse]


class LimitHit(Model):
    """Replies of a provider, or of the relay itself, that name too much mail."""

    provider: str
    label: str
    by_relay: bool = Field(description="The relay's own server refused, not the provider's")
    replies: int
    first_at: UtcTime = Field(description="Hour of the first")
    last_at: UtcTime = Field(description="Hour of the newest")
    reply: str = Field(description="The newest")
    stated: int | None = Field(description="Messages that the reply says are allowed")
    stated_per: Literal["second", "hour", "day"] | None
    use: LimitUse | None = Field(description="How far what the reply states is used now; null where it states nothing")
    mail_then: int = Field(description="Messages to this provider in the hour of the first such reply")
    most_without: int = Field(description="Most messages to this provider in an hour without such a reply")


class UnprovenReply(Model):
    """A reply that says that a sender is not proven, and what to prove."""

    reply: str
    replies: int
    last_day: date
    address: str
    domain: str
    region: str
    remedy: str


class RelayUsage(Model):
    """How far a relay's limits are used, when they were hit, and what is not proven there."""

    relay: str
    at: UtcTime
    days: int = Field(description="Period of hits and unproven senders")
    limits: list[LimitState]
    hits: list[LimitHit]
    unproven: list[UnprovenReply]


class Relay(RelayDescription):
    """A relay of a tenant. One that appears only in events is not `described` yet."""

    name: str
    described: bool
    domains: list[str] = Field(default=[], description="Sending domains with a stream over this relay")
