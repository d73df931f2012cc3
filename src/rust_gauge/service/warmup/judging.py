"""The step of each day at each provider: decided after midnight (UTC), from what the days of the present step brought.

Whichever process ticks first does it; the plan's row is locked. Days that were missed are decided one after another.
"""

from collections.abc import Sequence
from dataclasses import replace
from datetime import date, timedelta
from typing import Any

import structlog
from sqlalchemy import Connection

from rust_gauge.core.warmup import Decision, Track, Turn, decide
from rust_gauge.core.warmup.holding import LOOKED_BACK
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.warmup.mail import mail_days, step_days
from rust_gauge.service.warmup.steps import Ladder, ladder_of
from rust_gauge.store import warmup as store
from rust_gauge.store.warmup import DayRow, PlanRow, TrackRow

log = structlog.get_logger()
_KEPT = timedelta(days=3)  # what clearance let go counts on its day only
DONE = "done"


def judge_due(context: Context) -> int:
    """Decide the steps of today for all plans that have none yet. Return for how many. One plan spoils no other."""
    now, done = context.clock(), 0
    for id in context.store.transaction(lambda c: store.due_plans(c, now.date())):
        try:
            context.store.transaction(lambda c, id=id: judge_to(c, id, now.date()))  # type: ignore[misc]
            done += 1
        except Exception:
            log.exception("warmup_not_judged", plan=id)
    if done:
        context.store.transaction(lambda c: store.forget_cleared(c, now - _KEPT))
    return done


def judge_to(connection: Connection, id: int, today: date) -> None:
    """Decide the steps of a running plan up to today."""
    plan = store.get_plan(connection, id, lock=True)
    if plan is None or plan.state != store.RUNNING:
        return
    tracks = store.tracks_of(connection, [id])[id]
    ladder = ladder_of(plan)
    day = max(plan.judged_to, plan.starts_on) + timedelta(days=1)
    while day <= today and plan.state == store.RUNNING:
        tracks, decisions = _judge(connection, plan, ladder, tracks, day)
        if _is_done(ladder, tracks, decisions):
            plan = replace(plan, state=DONE)
        day += timedelta(days=1)
    store.put_tracks(connection, tracks)
    store.update_plan(connection, id, judged_to=today, state=plan.state)


def _judge(
    connection: Connection, plan: PlanRow, ladder: Ladder, tracks: Sequence[TrackRow], day: date
) -> tuple[list[TrackRow], list[Decision]]:
    """Return where the plan is on a day, and why; the day is stored."""
    first = day - timedelta(days=LOOKED_BACK)
    mail = mail_days(connection, plan, {track.provider_id for track in tracks}, first, day - timedelta(days=1))
    ceilings: dict[int, dict[date, int]] = {}
    for row in store.days_between(connection, plan.id, first, day - timedelta(days=1)):
        ceilings.setdefault(row.provider_id, {})[row.day] = row.per_day
    after, decisions, rows = [], [], []
    for track in tracks:
        since = max(track.since, first)
        over = [since + timedelta(days=n) for n in range((day - since).days)]
        known = ceilings.get(track.provider_id, {})
        # A day without a row was not decided, as in a pause: the ceiling before it held on.
        ceiling = ladder.ceiling(track.step, track.share).per_day
        every = {each: known.get(each, ceiling) for each in over}
        decision = decide(step_days(mail, track.provider_id, every, over))
        if track.step == len(ladder.steps) - 1 and not decision.above:  # no step is waited for
            decision = Decision(Turn.NEXT)
        moved = Track(track.step, track.since).after(
            decision, day, len(ladder.steps), skip=bool(plan.settings.get("skip"))
        )
        decisions.append(decision)
        after.append(replace(track, step=moved.step, since=moved.since))
        rows.append(day_row(ladder, after[-1], day, decision.turn, reasons_of(decision)))
    store.put_days(connection, rows)
    return after, decisions


def day_row(
    ladder: Ladder, track: TrackRow, day: date, turn: Turn, reasons: Sequence[dict[str, Any]], by: str = ""
) -> DayRow:
    """Return the step of a day as it is stored."""
    step = ladder.ceiling(track.step, track.share)
    return DayRow(
        track.plan_id, track.provider_id, day, track.step, step.per_day, step.per_hour, str(turn), list(reasons), by
    )


def reasons_of(decision: Decision) -> list[dict[str, Any]]:
    """Return what a decision rests on, as the contract has it."""
    out: list[dict[str, Any]] = [
        {"rate": str(above.rate), "count": above.count, "total": above.total, "line": above.line, "text": str(above)}
        for above in decision.above
    ]
    if decision.unused is not None:
        unused = decision.unused
        out.append({"rate": "unused", "count": unused.sent, "total": unused.ceiling, "line": None, "text": str(unused)})
    return out


def _is_done(ladder: Ladder, tracks: Sequence[TrackRow], decisions: Sequence[Decision]) -> bool:
    """Return whether each provider is at the last step and nothing speaks against it."""
    last = len(ladder.steps) - 1
    return all(track.step == last for track in tracks) and not any(decision.above for decision in decisions)
