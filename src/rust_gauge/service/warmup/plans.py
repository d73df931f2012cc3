"""Warm-up plans: adding, changing and overruling them, and how far each is today."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from ipaddress import ip_address
from typing import TypeVar

from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.warmup import (
    NewWarmupPlan,
    WarmupOverrule,
    WarmupPlan,
    WarmupPlanChange,
    WarmupPreview,
    WarmupReason,
    WarmupSteps,
    WarmupTiming,
    WarmupTrack,
)
from rust_gauge.core.errors import DomainNameError
from rust_gauge.core.names import normalise_domain
from rust_gauge.core.warmup import Turn
from rust_gauge.service.providers.providers import OTHERS as OTHERS_NAME
from rust_gauge.service.providers.providers import OTHERS_LABEL, columns_of, provider_id
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.warmup.ceilings import forget_plans
from rust_gauge.service.warmup.judging import DONE, day_row, judge_to
from rust_gauge.service.warmup.steps import (
    OTHERS,
    Ladder,
    by_track,
    days_until,
    ends_on,
    invalid,
    ladder_for,
    ladder_of,
)
from rust_gauge.store import holding, jobs, providers
from rust_gauge.store import warmup as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.warmup import DayRow, PlanRow, Sent, TrackRow

Timing = TypeVar("Timing", bound=WarmupTiming)
_MOST = 100  # plans of a tenant
_SHARES_OF = timedelta(days=28)
_LEAST_SHARE = 0.02  # a smaller provider is one of the others
_OTHERS_LEAST = 0.01  # so that mail to somebody unforeseen has a little room
_EARLIEST, _LATEST = timedelta(days=120), timedelta(days=366)


def add_plan(context: Context, tenant: TenantAccess, new: NewWarmupPlan, by: str) -> WarmupPlan:
    """Add a plan. ServiceProblem for settings that make none."""
    now = context.clock()
    today = now.date()
    new = _checked(new, today)
    starts_on = new.starts_on or today

    def write(connection: Connection) -> None:
        if len(store.list_plans(connection, tenant.id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} plans exist, the limit", remedy="Delete some")
        row = PlanRow(0, tenant.id, new.name, new.domain, new.stream, new.relay, new.sending_ip, new.move_from, {},
                      starts_on, starts_on, store.RUNNING, by, now)  # fmt: skip
        settings = _with_target(connection, row, new, today)
        ladder = ladder_for(settings)
        id = store.add_plan(
            connection, tenant_id=tenant.id, name=new.name, domain=new.domain, stream=new.stream, relay=new.relay,
            sending_ip=new.sending_ip, move_from=new.move_from,
            settings=settings.model_dump(include={*WarmupSteps.model_fields, "hold_back", "skip"}),
            starts_on=starts_on, judged_to=min(starts_on, today), state=store.RUNNING, created_by=by, created_at=now,
        )  # fmt: skip
        shares = _shares(connection, tenant, row, new, today)
        tracks = [TrackRow(id, provider, share, 0, starts_on) for provider, share in shares.items()]
        store.put_tracks(connection, tracks)
        store.put_days(connection, [day_row(ladder, track, starts_on, Turn.START, ()) for track in tracks])
        judge_to(connection, id, today)  # a plan that is written down late is judged by what was sent since
        _readings_follow(connection, row, now)

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The plan {new.name} already exists", remedy="Choose another name"
        ) from None
    forget_plans(context.memory, tenant.id)
    return get_plan(context, tenant, new.name)


def preview(context: Context, settings: WarmupTiming) -> WarmupPreview:
    """Return the steps that settings make. ServiceProblem for settings that make none."""
    starts_on = settings.starts_on or context.clock().date()
    settings = _with_days(settings, starts_on)
    steps = ladder_for(settings).steps
    return WarmupPreview(
        steps=[step.per_day for step in steps], per_hour=[step.per_hour for step in steps], starts_on=starts_on,
        ends_on=starts_on + timedelta(days=len(steps) - 1),
    )  # fmt: skip


def list_plans(context: Context, tenant: TenantAccess) -> list[WarmupPlan]:
    """Return a tenant's plans by name."""
    now = context.clock()
    return context.store.transaction(lambda c: shown(c, tenant.id, store.list_plans(c, tenant.id), now))


def get_plan(context: Context, tenant: TenantAccess, name: str) -> WarmupPlan:
    """Return a plan. ServiceProblem `not-found`, with the name that is most like it."""
    now = context.clock()
    return context.store.transaction(lambda c: shown(c, tenant.id, [find(c, tenant, name)], now))[0]


def update_plan(context: Context, tenant: TenantAccess, name: str, change: WarmupPlanChange) -> WarmupPlan:
    """Change a plan; what is left out stays. Where it has fewer steps than before, it goes on at the last one."""
    now = context.clock()
    today = now.date()
    given = {key: value for key, value in change.model_dump(exclude_unset=True).items() if value is not None}
    paused = given.pop("paused", None)

    def write(connection: Connection) -> None:
        plan = _locked(connection, tenant, name)
        settings = {**plan.settings, **given}
        ladder = ladder_for(WarmupSteps.model_validate({k: settings[k] for k in WarmupSteps.model_fields}))
        if paused is not None and plan.state == DONE:
            raise ServiceProblem("changed-meanwhile", f"The plan {name} is done", remedy="Delete it, or add another")
        state = plan.state if paused is None else store.PAUSED if paused else store.RUNNING
        resumed = plan.state == store.PAUSED and state == store.RUNNING
        judged_to = max(plan.judged_to, today) if resumed else plan.judged_to  # days of a pause are not judged
        store.update_plan(connection, plan.id, settings=settings, state=state, judged_to=judged_to)
        if given:
            tracks = [
                replace(track, step=min(track.step, len(ladder.steps) - 1))
                for track in store.tracks_of(connection, [plan.id])[plan.id]
            ]
            store.put_tracks(connection, tracks)
            store.put_days(connection, _again(connection, plan, ladder, tracks, today))
            _readings_follow(connection, plan, now)

    context.store.transaction(write)
    forget_plans(context.memory, tenant.id)
    return get_plan(context, tenant, name)


def _again(
    connection: Connection, plan: PlanRow, ladder: Ladder, tracks: Sequence[TrackRow], today: date
) -> list[DayRow]:
    """Return the newest days with the ceilings that new settings give them; how they came about stays."""
    known = store.newest_days(connection, [plan.id], max(today, plan.starts_on))
    out = []
    for track in tracks:
        row = known.get((plan.id, track.provider_id))
        if row is not None:
            step = ladder.ceiling(track.step, track.share)
            out.append(replace(row, step=track.step, per_day=step.per_day, per_hour=step.per_hour))
    return out


def overrule(context: Context, tenant: TenantAccess, name: str, body: WarmupOverrule, by: str) -> WarmupPlan:
    """Set the step of a provider, or of all, from today on. ServiceProblem for a step or provider that is none."""
    now = context.clock()
    today = now.date()

    def write(connection: Connection) -> None:
        plan = _locked(connection, tenant, name)
        ladder = ladder_of(plan)
        if body.step > len(ladder.steps):
            raise invalid("step", f"Step {body.step} does not exist", f"The plan has {len(ladder.steps)} steps")
        tracks = store.tracks_of(connection, [plan.id])[plan.id]
        chosen = tracks if not body.provider else [_track(connection, tenant, tracks, body.provider)]
        day = max(today, plan.starts_on)
        moved = [replace(track, step=body.step - 1, since=day) for track in chosen]
        reason = {"rate": "person", "count": 0, "total": 0, "line": None, "text": body.reason}
        store.put_tracks(connection, moved)
        store.put_days(connection, [day_row(ladder, track, day, Turn.SET, [reason], by) for track in moved])
        if plan.state == DONE:
            store.update_plan(connection, plan.id, state=store.RUNNING, judged_to=day)
        _readings_follow(connection, plan, now)

    context.store.transaction(write)
    forget_plans(context.memory, tenant.id)
    return get_plan(context, tenant, name)


def delete_plan(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete a plan with its days: nothing is held back by it any more."""
    now = context.clock()

    def write(connection: Connection) -> None:
        plan = _locked(connection, tenant, name)
        store.delete_plan(connection, plan.id)
        _readings_follow(connection, plan, now)

    context.store.transaction(write)
    forget_plans(context.memory, tenant.id)


def _readings_follow(connection: Connection, plan: PlanRow, now: datetime) -> None:
    """Have readings computed again: growth that a plan foresees pulls none of them."""
    if plan.domain:
        id = holding.ids_of(connection, plan.tenant_id)[0].get(plan.domain)
        if id is not None:
            jobs.enqueue(connection, "readings", plan.tenant_id, id, now)
    jobs.enqueue(connection, "subjects", plan.tenant_id, 0, now)


def find(connection: Connection, tenant: TenantAccess, name: str) -> PlanRow:
    """Return a plan. ServiceProblem `not-found`."""
    rows = store.list_plans(connection, tenant.id)
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "warm-up plan", name, [row.name for row in rows], remedy="Add the plan first")
    return found


def _locked(connection: Connection, tenant: TenantAccess, name: str) -> PlanRow:
    plan = store.get_plan(connection, find(connection, tenant, name).id, lock=True)
    if plan is None:
        raise ServiceProblem("not-found", f"The plan {name} was deleted")
    return plan


def _track(connection: Connection, tenant: TenantAccess, tracks: Sequence[TrackRow], provider: str) -> TrackRow:
    id = OTHERS if provider in (OTHERS_NAME, OTHERS_LABEL) else provider_id(connection, tenant, provider)
    found = next((track for track in tracks if track.provider_id == id), None)
    if found is None:
        raise invalid("provider", f"{provider} has no ceiling of its own in this plan", f"It counts as {OTHERS_NAME}")
    return found


# New plans


def _checked(new: NewWarmupPlan, today: date) -> NewWarmupPlan:
    """Return a plan with what it names in normal form. ServiceProblem for what cannot be meant."""
    if not (new.domain or new.stream or new.relay or new.sending_ip):
        raise invalid("domain", "A plan needs a domain, stream, relay or sending IP", "Name the mail that it is about")
    if new.sending_ip and (new.stream or new.relay):
        raise invalid("sending_ip", "Mail of a sending IP is counted by domain only", "Leave out stream and relay")
    if new.move_from and (not new.relay or new.move_from == new.relay):
        raise invalid("move_from", "A move needs another relay that the mail moves to", "Name it as `relay`")
    starts_on = new.starts_on or today
    if not today - _EARLIEST <= starts_on <= today + _LATEST:
        raise invalid("starts_on", f"{starts_on} is too far away", "Choose a day of the last 120 or the next 366 days")
    try:
        domain = normalise_domain(new.domain) if new.domain else ""
        address = str(ip_address(new.sending_ip)) if new.sending_ip else ""
    except DomainNameError as error:
        raise invalid("domain", str(error)) from None
    except ValueError:
        raise invalid("sending_ip", f"`{new.sending_ip}` is not an IP address") from None
    return _with_days(new.model_copy(update={"domain": domain, "sending_ip": address}), starts_on)


def _with_days(settings: Timing, starts_on: date) -> Timing:
    """Return settings with their number of days, where they name the last one."""
    if settings.ends_on is None:
        return settings
    days = days_until(starts_on, settings.ends_on)
    if not 2 <= days <= 120:
        raise invalid("ends_on", f"From {starts_on} to {settings.ends_on} are {days} days", "A plan has 2 to 120")
    return settings.model_copy(update={"days": days})


def _with_target(connection: Connection, row: PlanRow, new: NewWarmupPlan, today: date) -> NewWarmupPlan:
    """Return a move with the target that the old relay's mail gives it: its busiest day of four weeks."""
    if new.target is not None or new.shape == "custom" or not new.move_from:
        return new
    first = today - _SHARES_OF
    old = replace(row, relay=new.move_from)
    busiest = max(
        (sum(store.mail_by_provider(connection, old, day, day).values()) for day in _days(first, today)), default=0
    )
    if not busiest:
        raise invalid("target", f"No mail by {new.move_from} was seen since {first}", "State the target")
    return new.model_copy(update={"target": max(busiest, new.start)})


def _days(first: date, last: date) -> list[date]:
    return [first + timedelta(days=n) for n in range((last - first).days + 1)]


def _shares(
    connection: Connection, tenant: TenantAccess, row: PlanRow, new: NewWarmupPlan, today: date
) -> dict[int, float]:
    """Return the share of each provider with ceilings of its own, and what is left for all others."""
    if new.shares:
        found = {provider_id(connection, tenant, each.provider): each.share for each in new.shares}
        if len(found) < len(new.shares):
            raise invalid("shares", "A provider is named twice", "Name each once")
        if sum(found.values()) > 1.0001:
            raise invalid("shares", f"The shares add up to {100 * sum(found.values()):g} %", "Keep them below 100 %")
    else:
        found = _by_mail(connection, row, today)
    return {**found, OTHERS: max(_OTHERS_LEAST, 1 - sum(found.values()))}


def _by_mail(connection: Connection, row: PlanRow, today: date) -> dict[int, float]:
    """Return shares by mail: of the relay that it moves away from, of the plan's own mail, or of the whole tenant."""
    first = today - _SHARES_OF
    columns = columns_of(connection, row.tenant_id, today)
    everything = replace(row, domain="", stream="", relay="", sending_ip="")
    for source in (replace(row, relay=row.move_from) if row.move_from else row, everything):
        mail = store.mail_by_provider(connection, source, first, today)
        total = sum(mail.values())
        if total:
            shares = {id: n / total for id, n in mail.items() if id in columns.names}
            return {id: round(share, 4) for id, share in shares.items() if share >= _LEAST_SHARE}
    return {}


# Shown


@dataclass(frozen=True, slots=True)
class Names:
    """What providers are called."""

    names: Mapping[int, str]
    labels: Mapping[int, str]

    def name(self, id: int) -> str:
        return OTHERS_NAME if id == OTHERS else self.names.get(id, "")

    def label(self, id: int) -> str:
        return OTHERS_LABEL if id == OTHERS else self.labels.get(id) or self.name(id)


def names_for(connection: Connection, tenant_id: int, ids: Sequence[int]) -> Names:
    """Return what a tenant calls these providers."""
    return Names(providers.names(connection, ids), providers.labels(connection, tenant_id))


def shown(connection: Connection, tenant_id: int, plans: Sequence[PlanRow], now: datetime) -> list[WarmupPlan]:
    """Return plans as people see them."""
    ids = [plan.id for plan in plans]
    tracks = store.tracks_of(connection, ids)
    newest = store.newest_days(connection, ids, max([now.date(), *(plan.starts_on for plan in plans)]))
    cleared = store.cleared_now(connection, ids, now)
    names = names_for(connection, tenant_id, [track.provider_id for of in tracks.values() for track in of])
    return [
        _shown(plan, tracks[plan.id], newest, sent_of(connection, plan, tracks[plan.id], cleared[plan.id], now), names,
               now)
        for plan in plans
    ]  # fmt: skip


def sent_of(connection: Connection, plan: PlanRow, tracks: Sequence[TrackRow], cleared: Sent, now: datetime) -> Sent:
    """Return by track what counts today: what events say was sent, or what clearance let go if that is more."""
    if now.date() < plan.starts_on:
        return Sent({}, {})
    events = store.sent_now(connection, plan, now)
    ids = {track.provider_id for track in tracks}
    today, this_hour = (by_track(counts, ids) for counts in (events.today, events.this_hour))
    return Sent(
        {id: max(today.get(id, 0), cleared.today.get(id, 0)) for id in ids},
        {id: max(this_hour.get(id, 0), cleared.this_hour.get(id, 0)) for id in ids},
    )


def _shown(
    plan: PlanRow, tracks: Sequence[TrackRow], newest: Mapping[tuple[int, int], DayRow], sent: Sent, names: Names,
    now: datetime,
) -> WarmupPlan:  # fmt: skip
    ladder, today = ladder_of(plan), now.date()
    rows = []
    for track in tracks:
        step, day = ladder.ceiling(track.step, track.share), newest.get((plan.id, track.provider_id))
        reasons = [WarmupReason.model_validate(each) for each in day.reasons] if day is not None else []
        rows.append(
            WarmupTrack(
                provider=names.name(track.provider_id), label=names.label(track.provider_id), share=track.share,
                step=track.step + 1, since=track.since, per_day=step.per_day, per_hour=step.per_hour,
                sent=sent.today.get(track.provider_id, 0), sent_this_hour=sent.this_hour.get(track.provider_id, 0),
                turn=day.turn if day is not None else "start",
                decided_on=day.day if day is not None else plan.starts_on,
                decided_by=day.decided_by if day is not None else "", reasons=reasons,
                why=why_of(day.turn if day is not None else "start", reasons, last=track.step == len(ladder.steps) - 1),
            )
        )  # fmt: skip
    waiting = plan.state == store.RUNNING and today < plan.starts_on
    return WarmupPlan(
        name=plan.name, domain=plan.domain, stream=plan.stream, relay=plan.relay, sending_ip=plan.sending_ip,
        move_from=plan.move_from, state="planned" if waiting else plan.state,
        starts_on=plan.starts_on, ends_on=ends_on(ladder, list(tracks), today, plan.starts_on), day=today,
        shape=plan.settings["shape"], steps=[step.per_day for step in ladder.steps],
        hours=sorted(set(ladder.window.hours)), time_zone=ladder.window.time_zone,
        hold_back=plan.settings["hold_back"], skip=bool(plan.settings.get("skip")),
        per_day=sum(row.per_day for row in rows),
        sent=sum(row.sent for row in rows), tracks=rows, created_by=plan.created_by, created_at=plan.created_at,
    )  # fmt: skip


_TURNS = {
    "start": "The plan began",
    "next": "The step before was used, and every rate was below its line",
    "wait": "Waits at this step",
    "back": "Stepped back",
    "set": "Set by a person",
}


def why_of(turn: str, reasons: Sequence[WarmupReason], *, last: bool) -> str:
    """Return how a step came about, in a sentence. `last`: none comes after it."""
    said = "; ".join(reason.text for reason in reasons)
    if last and turn == Turn.NEXT:
        return "At the last step, and every rate is below its line"
    return f"{_TURNS[turn]}: {said}" if said else _TURNS[turn]
