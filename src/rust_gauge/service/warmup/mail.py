"""What happened to a plan's mail, day by day and provider by provider."""

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta

from sqlalchemy import Connection

from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.replies.causes import ADDRESS_CAUSES, SENDER_CAUSES
from rust_gauge.core.warmup import StepDay
from rust_gauge.service.warmup.steps import OTHERS
from rust_gauge.store import flow, provider_norms
from rust_gauge.store import warmup as store
from rust_gauge.store.placement_days import ASIDE, COPIES
from rust_gauge.store.tables import NO_MAIL_PROVIDER
from rust_gauge.store.warmup import PlanRow

_NO_FAULT = frozenset({Cause.PROVIDER_TROUBLE, Cause.HOST_UNREACHABLE, Cause.GREYLISTED})


@dataclass(slots=True)
class MailDay:
    """One day of a plan's mail to a provider, or to all others."""

    by_kind: dict[int, int] = field(default_factory=lambda: defaultdict(int))
    deferred: float = 0
    refused: int = 0
    invalid: int = 0
    copies: int = 0
    aside: int = 0
    reports: bool = False

    @property
    def sent(self) -> int:
        """Return how many messages went out."""
        return store.taken(self.by_kind)

    @property
    def delivered(self) -> int:
        """Return how many of them the provider took and did not return."""
        return max(0, self.by_kind[Count.DELIVERED.number] - self.by_kind[Count.RETURNED.number])

    def step_day(self, ceiling: int) -> StepDay:
        """Return the day as the core judges it."""
        complaints = self.by_kind[Count.COMPLAINED.number] if self.reports else None
        return StepDay(
            ceiling, self.sent, round(self.deferred), self.refused, self.invalid, self.delivered, complaints,
            self.copies, self.aside,
        )  # fmt: skip


Days = Mapping[tuple[int, date], MailDay]
"""By track and day; a day without mail is missing."""


def mail_days(connection: Connection, plan: PlanRow, tracks: Collection[int], first: date, last: date) -> Days:
    """Return what happened to a plan's mail. Providers without a track of their own count together as `OTHERS`.

    Deferrals by which a provider held up everybody, its own trouble, and greylisting count against nobody.
    """
    rows = store.counters_of(connection, plan, first, last)
    reporting = flow.reporting_providers(connection, last - flow.REPORTS_WITHIN)
    out: dict[tuple[int, date], MailDay] = defaultdict(MailDay)
    columns = (rows.provider, rows.day, rows.kind, rows.cause, rows.permanence, rows.n)
    for provider_id, at, kind, cause, permanence, n in zip(*(column.tolist() for column in columns), strict=True):
        day = out[provider_id if provider_id in tracks else OTHERS, first + timedelta(days=at)]
        day.reports = day.reports or provider_id in reporting
        _add(day, provider_id, kind, cause, permanence, n)
    for row in provider_norms.provider_days(connection, first, [id for id in tracks if id != OTHERS] or [0]):
        if (row.provider_id, row.day) in out:
            day = out[row.provider_id, row.day]
            day.deferred = max(0.0, day.deferred - row.common * max(day.sent, day.deferred))
    return out


def _add(day: MailDay, provider_id: int, kind: int, cause: int, permanence: int, n: int) -> None:
    if kind == COPIES:
        day.copies += n
        return
    if kind == ASIDE:
        day.aside += n
        return
    day.by_kind[kind] += n
    why = Cause.from_number(cause)
    if kind == Count.DELAYED.number and why not in _NO_FAULT:
        day.deferred += n
    elif kind == Count.BOUNCED.number:
        gone = why in ADDRESS_CAUSES and permanence == Permanence.PERMANENT.number
        day.refused += n if why in SENDER_CAUSES else 0
        day.invalid += n if gone or provider_id == NO_MAIL_PROVIDER else 0


def step_days(days: Days, track: int, ceilings: Mapping[date, int], over: Sequence[date]) -> list[StepDay]:
    """Return these days of a track as the core judges them; nothing was sent on those without mail."""
    return [days.get((track, day), MailDay()).step_day(ceilings.get(day, 0)) for day in over]
