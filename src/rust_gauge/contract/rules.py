"""A tenant's own rules that find the cause of a refusal, their dry run, and their application to past events."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Day, Model, UtcTime
from rust_gauge.contract.events import Cause, Permanence

_Text = Annotated[str, StringConstraints(max_length=4000)]
_Word = Annotated[str, StringConstraints(min_length=1, max_length=100)]


class OwnRule(Model):
    """One rule. It looks at the reply pattern of a reply, and applies when all its conditions are met."""

    name: str = Field(max_length=60, examples=["harbour-closed"], description="a-z, 0-9 and hyphens; shown as own:NAME")
    cause: Cause
    says: list[_Text] = Field(
        default=[],
        max_length=50,
        description="What a clause of the reply speaks about, in any language: one of these statements",
        examples=[["recipient & missing & !sender"]],
    )
    words: list[_Word] = Field(default=[], max_length=50, description="Reply contains one of these words, lower case")
    pattern: _Text = Field("", description="Regular expression that matches, ignoring case")
    unless: _Text = Field("", description="Regular expression that does not match")
    code: str = Field("", max_length=200, description="550, 5xx, or several separated by spaces")
    enhanced: str = Field("", max_length=200, description="5.2.2, x.7.1, 5.7.*, or several")
    provider: str = Field("", max_length=253, description="Only replies of this provider (registered domain of its MX)")
    permanence: Literal["", "transient", "permanent"] = Field("", description="Set if the reply code is wrong")
    fits: list[_Text] = Field(default=[], max_length=20, description="Replies that must match")
    fits_not: list[_Text] = Field(default=[], max_length=20, description="Replies that must not match")


OwnRules = Annotated[list[OwnRule], Field(max_length=500)]


class RuleApplication(Model):
    """How many past events are classified by the present rules: a job, and its counts."""

    job: int
    rules_version: int
    state: Literal["waiting", "running", "done", "cancelled", "failed"]
    days_done: int
    days: int
    judged: int = Field(description="Bounces and delays re-classified")
    changed: int = Field(description="Those whose cause, permanence or rule changed")
    entries_made: int = Field(description="Suppression entries added")
    entries_lifted: int = Field(description="Suppression entries lifted")
    error: str
    asked_at: UtcTime
    finished_at: UtcTime | None


class CauseRules(Model):
    """A tenant's own rules in their order. They apply before the built-in ones."""

    version: int = Field(description="Grows with each change")
    changed_at: UtcTime | None
    changed_by: str
    rules: list[OwnRule]
    application: RuleApplication | None


class RulesChange(Model):
    """The new list of rules. `version` is the version that was edited; if another one is stored by now, the request is
    refused.
    """

    version: int = Field(ge=0)
    rules: OwnRules
    apply: bool = Field(True, description="Re-classify past events, too")


class RulesBacktestRequest(Model):
    """Rules to try in place of the tenant's own."""

    rules: OwnRules
    days: int = Field(90, ge=1, le=800, description="Length of the period in days")
    last: Day | None = Field(None, description="Last day of the period, UTC; default: today")


class RejudgedPattern(Model):
    """A reply pattern that the tried rules classify differently."""

    pattern: str
    example: str
    count: int
    providers: list[str]
    cause: Cause
    permanence: Permanence
    new_cause: Cause
    new_permanence: Permanence
    new_rule: str


class RulesBacktest(Model):
    """What the rules would have done with past events. Nothing is changed."""

    first_day: date
    last_day: date
    patterns: int = Field(description="Reply patterns examined")
    judged: int = Field(description="Bounces and delays with these patterns")
    changed: int = Field(description="Of these, how many would change cause or permanence")
    frees: int = Field(description="Bounces that would no longer count against their address")
    holds: int = Field(description="Bounces that would now count against their address")
    rows: list[RejudgedPattern] = Field(description="Most frequent first, up to 500")
    decided: dict[str, int] = Field(description="By rule: how many bounces and delays it decides")
    problems: list[str] = Field(description="Failed examples, and rules that take too long")
