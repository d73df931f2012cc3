"""Mail flow per mailbox provider."""

from datetime import date
from typing import Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.events import Event


class Rate(Model):
    """A fraction (0.001 is one in a thousand) with its 95 % interval."""

    value: float
    low: float
    high: float
    count: int
    total: int


class Counts(Model):
    """Events of a period by kind."""

    accepted: int
    delivered: int
    delayed: int
    bounced_permanent: int
    bounced_transient: int
    complained: int
    unsubscribed: int
    opened: int
    clicked: int
    withheld: int
    delayed_again: int = Field(0, description="Further delays of messages already counted as delayed")
    bounced_again: int = Field(0, description="The same bounce reported again, for example by log and notice")
    complained_again: int = 0
    unsubscribed_again: int = 0
    returned: int = Field(0, description="Bounced after acceptance by the provider")


class FlowRow(Model):
    """One provider's mail in the period. A rate is absent where there was no mail to compute it from."""

    provider: str = Field(description="Mailbox provider: registered domain of its MX, or (others)")
    label: str = Field(description="Name given by the tenant")
    counts: Counts
    permanent: Rate | None
    transient: Rate | None
    delayed: Rate | None
    complaints: Rate | None = Field(description="Absent if the provider sends no complaint reports")
    reports_complaints: bool
    unsubscribed: Rate | None = None
    seconds_p50: float | None = Field(None, description="Median time to delivery in seconds")
    seconds_p95: float | None = None
    before: Counts = Field(description="The same counts in the preceding period of the same length")


class CauseRow(Model):
    """How often a cause was found for bounces or delays, and how often it was permanent."""

    cause: str
    transient: int
    permanent: int


class Flow(Model):
    """Mail flow of a tenant, or of one of its domains, in a period of whole days (UTC, both ends included)."""

    tenant: str
    domain: str | None
    first_day: date
    last_day: date
    total: FlowRow
    providers: list[FlowRow]
    causes: list[CauseRow]


class CauseSeries(Model):
    """One cause at one provider, by day."""

    provider: str
    label: str
    cause: str
    bounced: int
    delayed: int
    before: int = Field(description="Bounces and delays of this cause in the preceding period of the same length")
    is_new: bool = Field(description="Not seen in the 28 days before")
    days: list[int] = Field(description="Bounces and delays by day")
    example: str = Field("", description="Example reply")


class Causes(Model):
    """Causes over time per provider, the most frequent first."""

    first_day: date
    last_day: date
    rows: list[CauseSeries]


class FlowSeries(Model):
    """One provider's mail by day. Every list has one number per day."""

    provider: str = Field(description="Mailbox provider: registered domain of its MX, (others), or (all)")
    label: str
    reports_complaints: bool
    delivered: list[int]
    attempted: list[int] = Field(description="Messages with a final result: delivered or bounced")
    permanent: list[int]
    transient: list[int]
    delayed: list[int]
    complained: list[int]
    unsubscribed: list[int]


class FlowDays(Model):
    """Mail flow by day: all mail first, then each provider."""

    first_day: date
    last_day: date
    series: list[FlowSeries]


class ReplyPattern(Model):
    """The fixed part of replies that differ only in numbers, ids, addresses and hosts."""

    id: int
    pattern: str
    example: str
    cause: str
    count: int
    providers: list[str]
    first_seen_at: UtcTime


class FlowNames(Model):
    """Properties by which mail can be filtered and compared."""

    streams: list[str]
    relays: list[str]
    ips: list[str]
    campaigns: list[str]
    tags: list[str]


class RateDifference(Model):
    """One rate of two sides and their difference: `high` and `low` are its 95 % interval."""

    name: str
    first: Rate | None
    second: Rate | None
    difference: float | None = None
    low: float | None = None
    high: float | None = None
    better: Literal["first", "second"] | None = Field(
        None, description="The better side; absent if it cannot be decided"
    )
    summary: str = Field(description="In words: which is better, or that there is not enough mail to decide")


class FlowComparison(Model):
    """Two parts of the mail compared."""

    first_day: date
    last_day: date
    first: str
    second: str
    rates: list[RateDifference]
    providers: dict[str, list[RateDifference]] = Field(description="The same by provider")


ShiftRate = Literal["permanent", "transient", "delayed", "unwanted", "complaints"]


class Shift(Model):
    """A sudden rise of a rate at one provider or relay."""

    id: int
    what: Literal["provider", "relay"]
    name: str
    label: str
    rate: ShiftRate = Field(description="`unwanted`: refusals because of reputation, blocklists or content")
    began_at: UtcTime = Field(description="Best estimate, to the hour")
    found_at: UtcTime
    ended_at: UtcTime | None = Field(description="Absent while ongoing")
    usual: float = Field(description="Rate of the four weeks before")
    seen: Rate = Field(description="Rate since it began")
    chance_years: float = Field(description="Without a real change, such a shift is reported once in so many years")
    summary: str


class ShiftPart(Model):
    """The share of one domain, stream, provider or relay in a shift."""

    what: Literal["domain", "stream", "provider", "relay"]
    name: str
    count: int
    total: int


class ShiftDetails(Model):
    """A shift with its causes and sources."""

    shift: Shift
    parts: list[ShiftPart]
    causes: list[CauseRow]
    events: dict[str, str | list[str]] = Field(description="Parameters of the events list that return all of them")
    examples: list[Event] = Field(description="Sample events, newest first")


class FlowSettings(Model):
    """How long events and placement runs are stored, and the rate of false shifts that is accepted."""

    keep_events_days: int = Field(400, ge=30, le=3650, description="Older events are deleted; counters stay")
    keep_placement_days: int = Field(365, ge=7, le=3650, description="Older placement runs are deleted")
    false_alarms_a_year: float = Field(1.0, gt=0, le=365, description="Across all series of the tenant")


class Provider(Model):
    """A mailbox provider under the name that this tenant uses."""

    provider: str
    label: str
    named: bool = Field(description="Whether the tenant has renamed it")


class ProviderChange(Model):
    """A tenant's own name for a provider. Empty: the default name."""

    label: str = Field(max_length=60, pattern=r"^[^\x00-\x1f\x7f]*$")
