"""Warm-up plans: ceilings that grow in steps, where each plan is at each mailbox provider, and lists cut to fit."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Day, Model, UtcTime
from rust_gauge.contract.jobs import FileLayout

PlanName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
Shape = Literal["even", "careful", "straight", "custom"]
Turn = Literal["start", "next", "wait", "back", "set"]
PlanState = Literal["planned", "running", "paused", "done"]
Rate = Literal["deferrals", "refusals", "invalid_addresses", "complaints", "placement"]
_Hour = Annotated[int, Field(ge=0, le=23)]
_Ceiling = Annotated[int, Field(ge=1, le=2_000_000_000)]
Reason = Annotated[str, StringConstraints(strip_whitespace=True, min_length=3, max_length=500)]


class WarmupShare(Model):
    """A mailbox provider that has ceilings of its own: its share of each step."""

    provider: str = Field(min_length=1, max_length=253, examples=["tidepost.example"])
    share: float = Field(gt=0, le=1, description="Fraction of the mail")


class WarmupSteps(Model):
    """The steps of a plan."""

    shape: Shape = Field(
        "even",
        description="even: the same factor each day; careful: slower at first; straight: the same number more each "
        "day; custom: `ceilings`",
    )
    start: int = Field(50, ge=1, le=2_000_000_000, description="Messages on the first day")
    target: int | None = Field(
        None, ge=1, le=2_000_000_000,
        description="Messages a day at the end. May be left out with `move_from`: the busiest day of that relay",
    )  # fmt: skip
    days: int = Field(28, ge=2, le=120)
    ceilings: list[_Ceiling] = Field(
        default=[], max_length=120, description="Messages a day, by step, with the shape custom; they never fall"
    )
    hours: list[_Hour] = Field(
        default=list(range(8, 20)), min_length=1, max_length=24, description="Hours of the day in which mail goes out"
    )
    time_zone: str = Field("UTC", max_length=60, description="Of the hours", examples=["Atlantic/Faroe"])


class WarmupTiming(WarmupSteps):
    """The steps of a plan, and when they are taken."""

    starts_on: Day | None = Field(None, description="First day, UTC; default: today")
    ends_on: Day | None = Field(None, description="Day of the last step, instead of `days`")


class NewWarmupPlan(WarmupTiming):
    """A plan. It is about mail that has all of domain, stream, relay and sending IP that it names; at least one."""

    name: PlanName = Field(examples=["clinic-notices"])
    domain: str = Field("", max_length=253, examples=["notices.halyard.example"])
    stream: str = Field("", max_length=60)
    relay: str = Field("", max_length=60)
    sending_ip: str = Field("", max_length=45)
    move_from: str = Field("", max_length=60, description="Relay that the mail moves away from: the rest goes there")
    shares: list[WarmupShare] = Field(
        default=[], max_length=20,
        description="Providers with ceilings of their own; empty: by the mail of the last 28 days. All others share "
        "what is left",
    )  # fmt: skip
    hold_back: bool = Field(True, description="Clearance answers `later` beyond a ceiling")
    skip: bool = Field(False, description="Skip a step when every rate is certainly below its line")


class WarmupPlanChange(Model):
    """New settings of a plan. Fields that are left out stay unchanged."""

    shape: Shape | None = None
    start: int | None = Field(None, ge=1, le=2_000_000_000)
    target: int | None = Field(None, ge=1, le=2_000_000_000)
    days: int | None = Field(None, ge=2, le=120)
    ceilings: list[_Ceiling] | None = Field(None, max_length=120)
    hours: list[_Hour] | None = Field(None, min_length=1, max_length=24)
    time_zone: str | None = Field(None, max_length=60)
    hold_back: bool | None = None
    skip: bool | None = None
    paused: bool | None = Field(None, description="A paused plan keeps its ceilings, and takes no step")


class WarmupOverrule(Model):
    """A step that a person sets, from today on."""

    step: int = Field(ge=1, le=120, description="Step, from 1 on")
    provider: str = Field("", max_length=253, description="Empty: at all providers")
    reason: Reason


class WarmupReason(Model):
    """What led to a step: a rate above a line for certain (the lower end of its 80 % interval), a step that was not
    really used, or what a person said.
    """

    rate: Rate | Literal["unused", "person"]
    count: int
    total: int
    line: float | None = Field(None, description="Fraction; absent where the step was not used")
    text: str


class WarmupTrack(Model):
    """Where a plan is at one provider today. `sent` is counted by events, or by clearance if it let more go."""

    provider: str
    label: str
    share: float
    step: int = Field(description="From 1 on")
    since: date = Field(description="First day of this step")
    per_day: int
    per_hour: int
    sent: int
    sent_this_hour: int
    turn: Turn = Field(description="How this step came about")
    decided_on: date
    decided_by: str = Field("", description="Who overruled it")
    reasons: list[WarmupReason]
    why: str = Field(description="The reasons as text")


class WarmupPlan(Model):
    """A plan and how far it is today."""

    name: str
    domain: str
    stream: str
    relay: str
    sending_ip: str
    move_from: str
    state: PlanState = Field(description="done: each provider has reached the last step")
    starts_on: date
    ends_on: date = Field(description="When the last step begins if nothing is held back from now on")
    day: date = Field(description="Today, UTC")
    shape: Shape
    steps: list[int] = Field(description="Messages a day, by step")
    hours: list[int]
    time_zone: str
    hold_back: bool
    skip: bool
    per_day: int = Field(description="Messages that all providers together may get today")
    sent: int
    tracks: list[WarmupTrack]
    created_by: str
    created_at: UtcTime


class WarmupDay(Model):
    """One day of a plan at one provider. `complaints` is absent where the provider reports none."""

    day: date
    provider: str
    label: str
    step: int
    per_day: int
    sent: int
    deferred: int
    refused: int
    invalid: int
    delivered: int
    complaints: int | None
    copies: int = Field(description="Test copies whose fate is known")
    aside: int = Field(description="Of them in spam or missing")
    turn: Turn
    why: str
    decided_by: str


class WarmupDays(Model):
    """The course of a plan, oldest day first."""

    plan: str
    first: date
    last: date
    days: list[WarmupDay]


class WarmupPreview(Model):
    """The steps that settings would make."""

    steps: list[int]
    per_hour: list[int]
    starts_on: date
    ends_on: date


class ListCutRequest(Model):
    """A list to cut into portions that fit a plan."""

    plan: PlanName
    name: str = Field("", max_length=200, description="Name, for example the file name")
    layout: FileLayout = FileLayout()
    engagement: str = Field(
        "", max_length=200,
        description="Column with a date or number: the newest or largest goes first. Empty: by opens and clicks of the "
        "last 180 days that events tell of",
    )  # fmt: skip
    portions: Literal["hour", "day"] = "hour"
    starts_on: Day | None = Field(None, description="First day; default: today")
