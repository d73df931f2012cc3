"""Readings: the wall, series, explanations, forecasts, annotations and settings."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Day, Model, UtcTime

Condition = Literal["sound", "tarnished", "corroded", "seized"]
Subject = Literal["domain", "stream", "relay", "ip"]
Unit = Literal["rate", "times", "doublings", "faults"]
FactorName = Literal[
    "complaints", "invalid_addresses", "refusals", "listings", "authentication", "delays", "held", "unsubscribes",
    "engagement", "volume", "record_faults", "placement", "alignment",
]  # fmt: skip


class Pull(Model):
    """How much one factor at one provider pulls a reading down, and the measure behind it with its 80 % interval.
    `unit`: `rate` is a fraction of the mail; `times` says how many times as many opens the median sender has (where
    that is not known, the subject itself had at best); `doublings` compares the last week's mail with a usual week;
    `faults` counts the faults of the audit in force. `count` of
    `total` is what was seen in the last `days` days; `measure` is an estimate in which recent mail counts more and
    the sender's past counts too, so the two differ.
    """

    factor: FactorName
    provider: str
    label: str
    points: float
    unit: Unit = "rate"
    measure: float
    low: float
    high: float
    watch: float
    stop: float
    count: int | None = Field(None, description="Events of the last `days` days; absent for volume and record faults")
    total: int | None = Field(
        None,
        description="Messages of the same days that they are counted against; of placement, test copies; of alignment, "
        "messages that receivers reported on",
    )
    days: int = Field(7, description="Period of `count` and `total`, up to the day of the reading")
    elsewhere: bool = Field(
        False,
        description="This provider reports nothing of it: measure and counts are of the subject's other providers",
    )
    measured: bool = Field(True, description="False if the measure is no longer known: on the wall of an earlier day")
    kinds: list[str] = Field([], description="Event kinds that it counts; none for the audit and for held addresses")
    causes: list[str] = Field([], description="Their causes; empty: every cause")


class Reading(Model):
    """One day's reading: 100 minus its pulls. Without `value`, there was too little mail for a reading."""

    day: date
    value: float | None
    margin: float | None
    condition: Condition | None
    mail: float = Field(description="Messages it is based on, weighted by age")
    provisional: bool = Field(description="The day is not over yet")
    factors: dict[FactorName, float] = Field(default={}, description="Points of each factor, over all providers")
    pulls: list[Pull] = Field(description="The heaviest first")


PullsShown = Literal["all", "heaviest"]


class ReadingSeries(Model):
    """Readings of one subject by day, overall or at one provider."""

    tenant: str
    subject: Subject = "domain"
    name: str
    provider: str
    label: str
    computed_at: UtcTime | None
    readings: list[Reading]


class WallCell(Model):
    """A cell of the wall: the latest reading and its course."""

    provider: str
    value: float | None
    margin: float | None
    condition: Condition | None
    trend: list[float | None]


class Lack(Model):
    """A stream whose From domain is not verified or not aligned."""

    stream: str = Field(description="Empty for mail without a described stream")
    verified: bool
    aligned: bool | None = Field(description="Absent before the first audit")
    text: str = Field(description="As text, with the remedy")


class WallWarmupCell(Model):
    """What a warm-up plan allows at one provider today, and what was sent."""

    provider: str
    step: int
    per_day: int
    sent: int
    held: bool = Field(description="A rate at the provider holds the plan back")
    why: str


class WallWarmup(Model):
    """A warm-up plan of the row's mail."""

    plan: str
    steps: int
    per_day: int
    sent: int
    cells: list[WallWarmupCell]


class WallRow(Model):
    """One subject."""

    tenant: str
    tenant_name: str
    name: str
    delivered: int
    cells: list[WallCell]
    heaviest: Pull | None = None
    lacks: list[Lack] = Field(default=[], description="Streams whose From domain is not verified or not aligned")
    faults: int | None = Field(None, description="Faults in the newest audit; absent before the first")
    fault: str | None = Field(None, description="Text of the first fault")
    remedy: str | None = None
    record: str | None = Field(None, description="Record that fixes it, if there is one")
    warmup: list[WallWarmup] = Field(default=[], description="Warm-up plans that are under way; of today only")


class WallColumn(Model):
    """One mailbox provider, all of them, or the rest."""

    provider: str
    label: str
    outage: float | None = Field(None, description="Share of all senders' mail that it delayed today (provider outage)")


class WallSummary(Model):
    """All rows of a wall together, whatever page is shown."""

    subjects: int
    delivered: int
    conditions: dict[Condition, int] = Field(description="How many subjects are in each condition over all providers")
    unknown: int = Field(description="Subjects with too little mail for a reading")


class Wall(Model):
    """Subjects as rows, providers as columns: one page of them. `next` is the cursor of the next page."""

    day: date
    days: int
    subject: Subject = "domain"
    columns: list[WallColumn]
    rows: list[WallRow]
    summary: WallSummary
    next: str | None = None


WallOrder = Literal["name", "worst", "delivered"]


# What moved it


class Annotation(Model):
    """Something that happened on a day. An `annotation` was written by a person, the other kinds were detected."""

    day: date
    kind: Literal["annotation", "record", "finding", "shift", "outage", "policy", "sending_ip", "volume", "warmup_step"]
    text: str
    domain: str = ""
    provider: str = ""
    id: int | None = Field(None, description="Id of a manual annotation")
    by: str = ""


class NewAnnotation(Model):
    """An annotation on the time axis. Without a domain, it applies to all mail of the tenant."""

    day: Day
    text: Annotated[str, StringConstraints(min_length=1, max_length=500, strip_whitespace=True)]
    domain: str = Field("", max_length=253)


class Move(Model):
    """How much more one factor at one provider pulls on the second day than on the first."""

    factor: FactorName
    provider: str
    label: str
    before: float
    after: float
    change: float = Field(description="after - before, in points; negative: improved")
    unit: Unit = "rate"
    measure_before: float | None
    measure_after: float | None


class FactorMove(Model):
    """How much more one factor pulls on the second day than on the first, over all providers of `moves`, with the
    counts of the `days` days that end on each.
    """

    factor: FactorName
    before: float
    after: float
    change: float = Field(description="after - before, in points; negative: improved")
    providers: int = Field(description="Providers at which it changed")
    days: int = 7
    count_before: int | None = None
    total_before: int | None = None
    count_after: int | None = None
    total_after: int | None = None


class StreamMove(Model):
    """A stream's share in the change of a factor's events."""

    factor: FactorName
    stream: str
    before: float = Field(description="Events per day over the week ending on the first day")
    after: float = Field(description="The same for the second day")


class Explanation(Model):
    """What changed a reading between two days: by factor, then each factor at each provider, both the largest first;
    and what else happened.
    """

    subject: Subject
    name: str
    first: Reading
    last: Reading
    factors: list[FactorMove]
    moves: list[Move]
    streams: list[StreamMove]
    annotations: list[Annotation]


# What would follow


class ForecastRequest(Model):
    """A change to forecast. `volume`: factor for the amount of mail. `remains`: factor for the events behind a pull
    (0: none left).
    """

    volume: float = Field(1.0, ge=0, le=100)
    remains: dict[FactorName, Annotated[float, Field(ge=0, le=10)]] = Field(default={}, max_length=12)
    days: int = Field(21, ge=1, le=90)


class ForecastDay(Model):
    """A day of the forecast: unchanged, and with the change where one was asked for. `margin` is of the latter, else
    of the former.
    """

    day: date
    unchanged: float | None
    with_change: float | None = None
    margin: float | None


class Forecast(Model):
    """The forecast readings."""

    changed: bool = Field(description="A change was asked for")
    days: list[ForecastDay]
    sound_again: date | None = Field(
        None, description="Day on which it is sound, with the change if there is one; absent if it is now"
    )


class Headroom(Model):
    """How many more events of a factor until its lines are reached today, and when that happens at this pace."""

    factor: FactorName
    provider: str
    label: str
    measure: float | None
    watch: float
    stop: float
    to_watch: int | None = Field(description="0: crossed; absent: unknown")
    to_stop: int | None
    watch_on: date | None = Field(None, description="Day on which the watch line is reached at the current pace")
    stop_on: date | None = None


# Settings


class FactorSettings(Model):
    """Parameters of a factor. Those that are left out have their defaults."""

    watch: float | None = Field(None, gt=0)
    stop: float | None = Field(None, gt=0)
    weight: float | None = Field(None, ge=0, le=10, description="Log-odds that it takes at its watch line")
    half_life: float | None = Field(None, ge=0.1, le=90)
    quick: float | None = Field(None, ge=0.1, le=90)
    usual: float | None = Field(None, ge=0, le=1)
    worth: float | None = Field(None, ge=1, le=1e6)


class ReadingSettings(Model):
    """The parameters of a tenant's readings, by factor."""

    factors: dict[FactorName, FactorSettings] = Field(default={}, max_length=12)


class FactorShown(Model):
    """A factor's present and default parameters."""

    name: FactorName
    unit: Unit
    watch: float
    stop: float
    weight: float
    half_life: float
    quick: float
    usual: float
    worth: float
    changed: list[str] = Field(description="Settings that differ from the defaults")


class ReadingChange(Model):
    """A domain's reading of the same day, computed twice."""

    name: str
    before: float | None
    after: float | None


class ReadingChanges(Model):
    """Each domain's reading of the day before and after the last change of the arithmetic, or of the settings."""

    why: Literal["arithmetic", "settings"]
    at: UtcTime
    changes: list[ReadingChange]


class ReadingSettingsView(Model):
    """Settings, and their effect."""

    settings: ReadingSettings
    factors: list[FactorShown]
    job: int | None = Field(None, description="Job that recomputes past readings")
    changed_at: UtcTime | None = None
    changed_by: str = ""
    last_change: ReadingChanges | None = Field(None, description="What the last recomputation did")
