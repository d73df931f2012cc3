"""A stored plan as the core sees it: its steps, its hours, and the ceilings of a day at each provider."""

from collections.abc import Callable, Mapping, Set
from dataclasses import dataclass
from datetime import date, timedelta
from itertools import pairwise

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.warmup import WarmupSteps
from rust_gauge.core.errors import InputError
from rust_gauge.core.warmup import Shape, Step, Window, make_steps, part_of, steps_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.warmup import PlanRow, TrackRow

OTHERS = 0  # the track of all providers without one of their own


@dataclass(frozen=True, slots=True)
class Ladder:
    """The steps of a plan and its hours."""

    steps: tuple[Step, ...]
    window: Window

    def ceiling(self, step: int, share: float) -> Step:
        """Return the ceilings of a provider at a step; the last one stands for all beyond."""
        return part_of(self.steps[min(step, len(self.steps) - 1)], share, len(set(self.window.hours)))

    def from_now_on(self, track: TrackRow, today: date) -> Callable[[date], Step]:
        """Return the ceilings of days to come if the plan goes on each day."""
        return lambda day: self.ceiling(track.step + max(0, (day - today).days), track.share)


def ladder_of(plan: PlanRow) -> Ladder:
    """Return the steps of a stored plan."""
    return ladder_for(WarmupSteps.model_validate({k: plan.settings[k] for k in WarmupSteps.model_fields}))


def ladder_for(settings: WarmupSteps) -> Ladder:
    """Return the steps that settings make. ServiceProblem `invalid-request` for what makes none."""
    try:
        window = Window(tuple(sorted(set(settings.hours))), settings.time_zone)
        hours = len(window.hours)
        if settings.shape == "custom":
            return Ladder(steps_of(_custom(settings.ceilings), hours), window)
        if settings.target is None:
            raise InputError("A plan needs a target", remedy="State how many messages a day it leads to",
                             field="target")  # fmt: skip
        shape = Shape(settings.shape)
        return Ladder(make_steps(settings.start, settings.target, settings.days, shape, hours), window)
    except InputError as error:
        raise invalid(error.field, str(error), error.remedy) from None


def _custom(ceilings: list[int]) -> list[int]:
    if len(ceilings) < 2:
        raise InputError("A custom plan needs at least two ceilings", field="ceilings")
    for number, (one, following) in enumerate(pairwise(ceilings), 2):
        if following < one:
            raise InputError(
                f"Step {number} has {following:,} messages a day, fewer than the {one:,} of the step before it",
                remedy="Ceilings never fall: a plan steps back by itself where it has to", field="ceilings",
            )  # fmt: skip
    return ceilings


def by_track(counts: Mapping[int, int], tracks: Set[int]) -> dict[int, int]:
    """Add up counts by provider for the tracks of a plan."""
    out: dict[int, int] = {}
    for id, n in counts.items():
        key = id if id in tracks else OTHERS
        out[key] = out.get(key, 0) + n
    return out


def days_until(first: date, last: date) -> int:
    """Return of how many days a plan is whose last step begins on `last`."""
    return (last - first).days + 1


def ends_on(ladder: Ladder, tracks: list[TrackRow], today: date, starts_on: date) -> date:
    """Return when the last step begins everywhere if nothing is held back from now on."""
    behind = max((len(ladder.steps) - 1 - track.step for track in tracks), default=0)
    return max(today, starts_on) + timedelta(days=max(0, behind))


def invalid(field: str, what: str, remedy: str = "") -> ServiceProblem:
    """Return the problem of one field."""
    return ServiceProblem(
        "invalid-request", what, remedy=remedy, errors=[ProblemError(field=field, what=what, remedy=remedy)]
    )
