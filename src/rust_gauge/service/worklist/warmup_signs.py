"""Warm-up plans: ceilings that were passed, and providers that hold a plan back."""

from collections.abc import Mapping
from datetime import UTC, date, datetime, time, timedelta

from rust_gauge.contract.warmup import WarmupPlan, WarmupReason, WarmupTrack
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.warmup.mail import mail_days
from rust_gauge.service.warmup.plans import shown
from rust_gauge.service.worklist.place import Place
from rust_gauge.store import warmup as store
from rust_gauge.store.warmup import PlanRow

_FAR = 1.5  # times the ceiling
_REMEDIES = {
    "deferrals": "Keep to the ceiling, and read what its replies ask for (Mail flow, Causes). The step repeats until "
    "fewer messages are deferred.",
    "refusals": "Read why it refuses this mail (Mail flow, Causes), and fix that first: sending on makes it worse.",
    "invalid_addresses": "Remove addresses that do not exist from the list before the next portion: check it "
    "(Suppression, Before a send).",
    "complaints": "Send to recipients who opened lately only, and check how they signed up.",
    "placement": "See what else changed the day placement turned (Bench, Placement).",
}


def warmup_problems(unit: UnitOfWork, place: Place) -> list[Incident]:
    """What is wrong with a tenant's warm-up plans today."""
    connection, now = unit.connection, unit.now
    plans = [
        plan
        for plan in store.list_plans(connection, place.tenant.id)
        if plan.state in (store.RUNNING, store.PAUSED) and plan.starts_on <= now.date()
    ]
    out = []
    for row, plan in zip(plans, shown(connection, place.tenant.id, plans, now), strict=True):
        for track in plan.tracks:
            if track.sent > track.per_day:
                out.append(_passed(plan, track, now.date(), track.sent, track.per_day))
            held = [reason for reason in track.reasons if reason.line is not None]
            if held and track.turn in ("wait", "back"):
                out.append(_held(plan, track, held))
        out += _passed_yesterday(unit, row, plan, {incident.key for incident in out})
    return out


def _passed_yesterday(unit: UnitOfWork, row: PlanRow, plan: WarmupPlan, found: set[str]) -> list[Incident]:
    """Ceilings that were passed on the day before: events arrive late, and a day is over before anybody looks."""
    day = unit.now.date() - timedelta(days=1)
    rows = store.days_between(unit.connection, row.id, day, day)
    tracks = store.tracks_of(unit.connection, [row.id])[row.id]
    mail = mail_days(unit.connection, row, {track.provider_id for track in tracks}, day, day)
    shown_as: Mapping[int, WarmupTrack] = {
        track.provider_id: each for track, each in zip(tracks, plan.tracks, strict=True)
    }
    out = []
    for each in rows:
        sent = mail[each.provider_id, day].sent if (each.provider_id, day) in mail else 0
        if sent > each.per_day and each.provider_id in shown_as:
            incident = _passed(plan, shown_as[each.provider_id], day, sent, each.per_day)
            if incident.key not in found:
                out.append(incident)
    return out


def _passed(plan: WarmupPlan, track: WarmupTrack, day: date, sent: int, per_day: int) -> Incident:
    return Incident(
        f"warmup:{plan.name}:passed:{track.provider}", "warmup", *_subject(plan),
        f"{plan.name}: more mail to {track.label} than its warm-up allows",
        f"{sent:,} messages on {day}, {sent - per_day:,} more than the ceiling of {per_day:,} (step {track.step} of "
        f"{len(plan.steps)}).", Level.FIX if sent > _FAR * per_day else Level.INVESTIGATE,
        datetime.combine(day, time(), UTC), sent,
        "Send the rest on later days. Ask clearance before each send: it answers later beyond the ceiling"
        + ("." if plan.hold_back else ", if the plan is set to hold mail back."),
        topic="warmup", domains=(plan.domain,) if plan.domain else (), providers=(track.label,),
    )  # fmt: skip


def _held(plan: WarmupPlan, track: WarmupTrack, reasons: list[WarmupReason]) -> Incident:
    back = track.turn == "back"
    said = "; ".join(reason.text for reason in reasons)
    return Incident(
        f"warmup:{plan.name}:held:{track.provider}", "warmup", *_subject(plan),
        f"{plan.name} {'stepped back' if back else 'waits'} at {track.label}",
        f"Step {track.step} of {len(plan.steps)}, {track.per_day:,} messages a day: {said}.",
        Level.FIX if back else Level.INVESTIGATE, datetime.combine(track.decided_on, time(), UTC), track.sent,
        _REMEDIES[reasons[0].rate], evidence=tuple(reason.text[:500] for reason in reasons), topic="warmup",
        domains=(plan.domain,) if plan.domain else (), providers=(track.label,),
    )  # fmt: skip


def _subject(plan: WarmupPlan) -> tuple[str, str]:
    named = (("domain", plan.domain), ("stream", plan.stream), ("relay", plan.relay), ("ip", plan.sending_ip))
    return next((kind, name) for kind, name in named if name)
