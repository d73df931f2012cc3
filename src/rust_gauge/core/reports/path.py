"""The path of a domain to `p=reject`: stages, what has to hold before the next one, and when to go back.

Only what reports tell is judged. Days without reports prove nothing, so that they count against the next stage.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from rust_gauge.core.dmarc import is_dmarc1, read_policy

_BROKEN_OVER = 3  # newest days with reports that a break is judged by
_BROKEN_LEAST = 20  # messages of ours that do not align, below which nothing is called broken
_TIMES = 2.0  # what may fail at the present stage, before it counts as broken


class Stage(StrEnum):
    """How strict the published policy is. `trial` quarantines a tenth of the mail that fails, or only asks for it."""

    NONE = ""
    WATCH = "watch"
    TRIAL = "trial"
    QUARANTINE = "quarantine"
    REJECT = "reject"

    @property
    def tags(self) -> dict[str, str]:
        """Return the tags of its record. Receivers know `pct` (RFC 7489) or `t` (its successor): a trial has both."""
        p = {Stage.TRIAL: "quarantine", Stage.QUARANTINE: "quarantine", Stage.REJECT: "reject"}.get(self, "none")
        trial = self is Stage.TRIAL
        return {"p": p, "pct": "10" if trial else "", "t": "y" if trial else ""}


STAGES = (Stage.WATCH, Stage.TRIAL, Stage.QUARANTINE, Stage.REJECT)


def stage_of(record: str) -> Stage:
    """Return the stage that a published record is at."""
    if not is_dmarc1(record):
        return Stage.NONE
    policy = read_policy(record)
    partial = policy.percent < 100 or policy.testing
    if policy.policy == "reject":
        return Stage.QUARANTINE if partial else Stage.REJECT
    if policy.policy == "quarantine":
        return Stage.TRIAL if partial else Stage.QUARANTINE
    return Stage.WATCH


@dataclass(frozen=True, slots=True)
class PathRules:
    """What has to hold for the next stage. `aligned_share` of our mail, 0 to 1; `unknown_a_day`: messages a day of one
    unknown source that are let pass."""

    aligned_share: float = 0.98
    quiet_days: int = 14
    unknown_a_day: int = 10
    stage_days: int = 14


@dataclass(frozen=True, slots=True)
class PathDay:
    """What reports tell of a day. `unknown` is the largest unknown source: its name and messages."""

    day: date
    ours: int
    aligned: int
    unknown: tuple[str, int] = ("", 0)


@dataclass(frozen=True, slots=True)
class Condition:
    """One condition with what was measured. `kind` is reports, aligned, unknown or days."""

    kind: str
    met: bool
    measured: str
    wanted: str


def conditions_of(rules: PathRules, days: Sequence[PathDay], since: date, today: date) -> tuple[Condition, ...]:
    """Return the conditions of the next stage. `days`: those with reports; `since`: when the stage began."""
    first = today - timedelta(days=rules.quiet_days)
    within = [each for each in days if first <= each.day < today]
    needed = max(1, round(rules.quiet_days * 0.7))  # receivers report late, and not of days without mail
    ours, aligned = sum(each.ours for each in within), sum(each.aligned for each in within)
    share = aligned / ours if ours else 0.0
    loud = [each for each in within if each.unknown[1] > rules.unknown_a_day]
    last = max(loud, key=lambda each: each.day, default=None)
    held = (today - since).days
    return (
        Condition(
            "reports", len(within) >= needed, f"{len(within)} of the last {rules.quiet_days} days", f"{needed} days"
        ),
        Condition(
            "aligned", ours > 0 and share >= rules.aligned_share,
            f"{100 * share:.2f} % ({aligned:,} of {ours:,} messages)" if ours else "no mail of ours",
            f"{100 * rules.aligned_share:g} %",
        ),
        Condition(
            "unknown", bool(within) and not loud,
            f"{last.unknown[0]}: {last.unknown[1]:,} messages on {last.day}" if last else "none",
            f"no unknown source above {rules.unknown_a_day} messages a day in {rules.quiet_days} days",
        ),
        Condition("days", held >= rules.stage_days, f"{held} days", f"{rules.stage_days} days"),
    )  # fmt: skip


def is_broken(rules: PathRules, days: Sequence[PathDay], stage: Stage) -> tuple[int, int] | None:
    """Return (messages of ours that do not align, of how many) of the newest days with mail of ours, where they are too
    many for the stage; None where they are not, or at a stage at which nothing happens to them."""
    if stage not in (Stage.TRIAL, Stage.QUARANTINE, Stage.REJECT):
        return None
    newest = sorted((each for each in days if each.ours), key=lambda each: each.day)[-_BROKEN_OVER:]
    ours = sum(each.ours for each in newest)
    failed = ours - sum(each.aligned for each in newest)
    allowed = _TIMES * (1 - rules.aligned_share) * ours
    return (failed, ours) if failed >= _BROKEN_LEAST and failed > allowed else None


def next_stage(stage: Stage) -> Stage | None:
    """Return the stage that follows; None at the end."""
    if stage is Stage.NONE:
        return Stage.WATCH
    at = STAGES.index(stage) + 1
    return STAGES[at] if at < len(STAGES) else None


def stage_before(stage: Stage) -> Stage:
    """Return the stage to go back to."""
    return STAGES[max(0, STAGES.index(stage) - 1)] if stage is not Stage.NONE else Stage.WATCH
