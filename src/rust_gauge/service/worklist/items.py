"""Items of the worklist: detection follows them, people act on them, a re-measure closes them."""

import contextlib
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.worklist import (
    AlertSettings,
    LineRow,
    WorkAct,
    WorkActs,
    WorkActsDone,
    WorkItem,
    WorkItemDetails,
    WorkStep,
)
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address
from rust_gauge.core.worklist import (
    Incident,
    Level,
    Patience,
    State,
    Tell,
    acknowledge,
    explain_order,
    follow,
    reopen,
    resolve,
    restore,
    snooze,
    sort_key,
)
from rust_gauge.service.domains import audits, proofs
from rust_gauge.service.placement import schedules, seeds
from rust_gauge.service.readings import computation as readings
from rust_gauge.service.readings import lines
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.worklist import detection, notifications
from rust_gauge.service.worklist.newest_mail import newest_is_right
from rust_gauge.service.worklist.outages import outages_on
from rust_gauge.service.worklist.pauses import pause_at_stop_lines
from rust_gauge.service.worklist.place import place_of
from rust_gauge.service.worklist.pulls import pulls_on
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import audits as store_settings
from rust_gauge.store import jobs, leases
from rust_gauge.store import readings as store_readings
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job
from rust_gauge.store.worklist import ItemRow, StepRow

SETTING = "alerts"


DETECT_EVERY = timedelta(minutes=5)  # counters are current within seconds; people want to know within minutes


_SHOWN_RESOLVED = timedelta(days=400)  # as long as readings are kept


_WELL = "Re-checked: the problem is gone"


_NEWS = ("record", "reply")  # kinds that are news for a day; no notification at the end of the day


_OLD_NEWS = "Reported for a day"


_AUDITS_AT_ONCE = 5  # of domains that a re-measure waits for; more are asked for


_LIVE = (str(State.OPEN), str(State.ACKNOWLEDGED), str(State.SNOOZED), str(State.WAITING))


_UNDONE = ("acknowledge", "assign", "snooze", "reopen")  # actions that can be undone


_RECHECKS_AT_ONCE = 20  # each audits up to five domains


_OF_ONE_ITEM = ("not-found", "wrong-state")  # problems of one item, not of the action


def get_settings(context: Context, tenant: TenantAccess) -> AlertSettings:
    return context.store.transaction(lambda c: settings_of(c, tenant.id))


def settings_of(connection: Connection, tenant_id: int) -> AlertSettings:
    return AlertSettings.model_validate(store_settings.get_setting(connection, tenant_id, SETTING) or {})


def put_settings(context: Context, tenant: TenantAccess, settings: AlertSettings) -> AlertSettings:
    """Store the alert settings. Addresses that can never be called are refused."""
    names = [channel.name for channel in settings.channels]
    if len(set(names)) < len(names):
        raise ServiceProblem("invalid-request", "channels: two channels have the same name")
    for number, channel in enumerate(settings.channels):
        notifications.check_channel(context, number, channel)
    for number, address in enumerate(settings.report_to):
        try:
            parse_address(address)
        except AddressError as error:
            raise ServiceProblem("not-an-address", f"report_to.{number}: {error}", remedy=error.remedy) from None
    now = context.clock()
    document = settings.model_dump(mode="json")
    context.store.transaction(lambda c: store_settings.put_setting(c, tenant.id, SETTING, document, now))
    return settings


def _patience(settings: AlertSettings) -> Patience:
    return Patience(
        timedelta(minutes=settings.wait_minutes),
        timedelta(hours=settings.repeat_hours) if settings.repeat_hours else None,
        timedelta(hours=settings.resolve_hours),
    )


def ask_for_looks(context: Context) -> None:
    """Enqueue a search of every tenant every few minutes, by one of all workers."""
    now = context.clock()
    before = context.memory.get("worklist")
    if before is not None and timedelta(0) <= now - before < DETECT_EVERY:
        return
    context.memory["worklist"] = now

    def write(connection: Connection) -> None:
        if leases.is_due(connection, "detection", now, DETECT_EVERY):
            found = [(id, 0) for id in store_accounts.tenant_ids(connection)]
            jobs.enqueue_all(connection, "worklist", found, now)

    context.store.transaction(write)


def run_look(context: Context, job: Job) -> None:
    """The job."""
    tenant = context.store.transaction(lambda c: store_accounts.tenant_of(c, job.tenant_id))
    if tenant is not None:
        detect(context, tenant)


def detect(context: Context, tenant: TenantAccess) -> int:
    """Detect what is wrong now and update every item. Return how many items are open."""

    def write(unit: UnitOfWork) -> int:
        settings = settings_of(unit.connection, tenant.id)
        found = detection.find_troubles(unit, tenant, settings)
        live = follow_all(unit, tenant, found, settings)
        if settings.auto_pause:
            pause_at_stop_lines(unit, tenant, settings)
        return live

    return context.unit(tenant.id, write)


def follow_all(
    unit: UnitOfWork, tenant: TenantAccess, found: Iterable[Incident], settings: AlertSettings, *, tell: bool = True
) -> int:
    """Update the items of a tenant after a search; notifications are stored in the same transaction."""
    connection, now = unit.connection, unit.now
    patience = _patience(settings)
    wanted = {incident.key[:400]: incident for incident in found}
    rows = {row.item_key: row for row in store.items(connection, [tenant.id], lock=True)}
    _go_on(connection, rows, wanted.values(), now)
    live = 0
    for key in rows.keys() | wanted.keys():
        row = rows.get(key)
        before = store.item_of(row) if row is not None else None
        after, said = follow(before, wanted.get(key), patience, now)
        if after is None:
            if row is not None:
                store.drop(connection, row.id)
            continue
        if row is None:
            added = store.add(connection, tenant.id, after)
            if added is None:
                continue
            id = added
            store.add_step(connection, id, now, "", "found", after.incident.title)
        else:
            id = row.id
            if after != before:
                store.change(connection, id, after)
        live += after.state is not State.RESOLVED
        if said is Tell.NOTHING:
            continue
        news = said is Tell.RESOLVED and after.incident.kind in _NEWS
        text = _OLD_NEWS if news else _WELL if said is Tell.RESOLVED else after.incident.text
        store.add_step(connection, id, now, "", str(said), text)
        if tell and not news:
            notifications.tell(unit, tenant, id, after, said, settings)
    return live


def _go_on(connection: Connection, rows: dict[str, ItemRow], found: Iterable[Incident], now: datetime) -> None:
    """Let items that were found to be part of an incident go on as that incident, so that nobody is notified twice.

    The first that lives takes the incident's key where that has no live item; any other is closed as a part of it.
    An incident of which only a part is left goes on as that part.
    """
    wanted = {incident.key[:400]: incident for incident in found}
    for key, lives in list(rows.items()):
        left = next((part[:400] for part in store.item_of(lives).incident.parts if part[:400] in wanted), "")
        if lives.state == str(State.RESOLVED) or key in wanted or not left or left in rows:
            continue
        if store.rename(connection, lives.id, left):  # its record is right now, and mail still fails
            store.add_step(connection, lives.id, now, "", "found", wanted[left].title)
            rows[left] = store.reread(connection, lives)
            del rows[key]
    for key, incident in wanted.items():
        for part in (part[:400] for part in incident.parts):
            row = rows.get(part)
            if row is None or row.state == str(State.RESOLVED):
                continue
            item, there = store.item_of(row), rows.get(key)
            if there is not None and there.state != str(State.RESOLVED):
                store.change(connection, row.id, resolve(item, now))
                store.add_step(connection, row.id, now, "", "resolved", f"Part of: {incident.title}")
                rows[part] = store.reread(connection, row)
                continue
            if there is not None:  # closed long ago: it keeps its story under a key of its own
                store.rename(connection, there.id, f"{key[:370]}~{there.id}")
                item = replace(item, returns=max(item.returns, there.returns + 1))
                store.change(connection, row.id, item)
            if not store.rename(connection, row.id, key):
                continue
            store.add_step(connection, row.id, now, "", "found", incident.title)
            rows[key] = store.reread(connection, row)
            del rows[part]


def list_items(
    context: Context, tenants: tuple[TenantAccess, ...], states: tuple[str, ...], assigned: str | None
) -> list[WorkItem]:
    """Items of these tenants, what comes first first. Without states: everything open that is not snoozed."""
    now = context.clock()
    names = {tenant.id: tenant for tenant in tenants}
    chosen = states or (str(State.WAITING), str(State.OPEN), str(State.ACKNOWLEDGED))
    rows = context.store.transaction(lambda c: store.items(c, list(names) or [0], chosen))
    rows = sorted(rows, key=lambda row: (*sort_key(store.item_of(row)), row.id))
    shown = [
        _show(row, names[row.tenant_id])
        for row in rows
        if row.resolved_at is None or row.resolved_at > (now - _SHOWN_RESOLVED).replace(tzinfo=None)
    ]
    if assigned is not None:
        if assigned:
            _member_of_any(context, tenants, assigned)
        shown = [item for item in shown if item.assigned_to == assigned]
    return shown


def _member_of_any(context: Context, tenants: tuple[TenantAccess, ...], email: str) -> None:
    rows = context.store.transaction(lambda c: [store_accounts.people_of(c, tenant.id) for tenant in tenants])
    members = {row.email for people in rows for row in people}
    if email not in members:
        raise unknown_name("The worklist", "member", email, members)


def list_past(context: Context, tenants: tuple[TenantAccess, ...], day: date) -> list[WorkItem]:
    """Return the items of a past day as they were reported then, the worst first; levels and remedies are of today."""
    names = {tenant.id: tenant for tenant in tenants}

    def read(connection: Connection) -> list[WorkItem]:
        lived = store.lived_on(connection, list(names) or [0], day)
        rows = [row for row in store.items(connection, list(names) or [0]) if row.id in lived]
        out = []
        for row in rows:
            title, text = lived[row.id]
            shown = _show(row, names[row.tenant_id])
            out.append(shown.model_copy(update={"title": title or shown.title, "text": text}))
        return out

    found = context.store.transaction(read)
    return sorted(found, key=lambda item: (-Level(item.level).urgency, -item.mail, item.id))


def _show(row: ItemRow, tenant: TenantAccess) -> WorkItem:
    item = store.item_of(row)
    incident = item.incident
    return WorkItem(
        id=row.id, tenant=tenant.slug, tenant_name=tenant.name, kind=incident.kind, subject=incident.subject,
        name=incident.name, title=incident.title, text=incident.text, level=str(incident.level), state=str(item.state),
        since=incident.since, found_at=item.found_at, seen_at=item.seen_at, notified_at=item.notified_at,
        resolved_at=item.resolved_at, until=item.until, mail=incident.mail, order=explain_order(item),
        remedy=incident.remedy, record=incident.record, evidence=list(incident.evidence), recheck=incident.recheck,
        assigned_to=row.assigned_to, returns=item.returns,
    )  # fmt: skip


def get_item(context: Context, tenant: TenantAccess, id: int) -> WorkItemDetails:
    def read(connection: Connection) -> WorkItemDetails:
        row = _row(connection, tenant, id)
        steps = [
            WorkStep(at=step.at, by=step.by, what=step.what, text=step.text) for step in store.steps(connection, id)
        ]
        return WorkItemDetails(**_show(row, tenant).model_dump(), steps=steps)

    return context.store.transaction(read)


def _member(connection: Connection, tenant: TenantAccess, email: str) -> None:
    members = [row.email for row in store_accounts.people_of(connection, tenant.id)]
    if email not in members:
        raise unknown_name(tenant.name, "member", email, members)


def _row(connection: Connection, tenant: TenantAccess, id: int, *, lock: bool = False) -> ItemRow:
    row = store.get(connection, tenant.id, id, lock=lock)
    if row is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no item {id}", remedy="List items to find its number")
    return row


def act(context: Context, tenant: TenantAccess, id: int, wanted: WorkAct, by: str) -> WorkItemDetails:
    """Apply a person's action to an item."""
    now = context.clock()
    if wanted.act == "recheck":
        return recheck(context, tenant, id, by)
    if wanted.act == "snooze" and (wanted.until is None or wanted.until.tzinfo is None or wanted.until <= now):
        raise ServiceProblem(
            "invalid-request", "until must be a time in the future with a UTC offset, for example 2026-12-01T09:00:00Z"
        )
    if wanted.act in ("snooze", "comment") and not wanted.text.strip():
        raise ServiceProblem(
            "invalid-request", "text: a reason is required", remedy="Say why, for colleagues who see the item later"
        )

    def write(connection: Connection) -> None:
        row = _row(connection, tenant, id, lock=True)
        item = store.item_of(row)
        text = wanted.text
        previous = {
            "state": row.state, "until": item.until and item.until.isoformat(), "assigned_to": row.assigned_to
        }  # fmt: skip
        if wanted.act in ("acknowledge", "snooze") and item.state is State.RESOLVED:
            raise ServiceProblem(
                "wrong-state", f"Item {id} is resolved", remedy="Only open items can be taken or snoozed"
            )
        if wanted.act == "undo":
            text = _undo(connection, tenant, row, by)
        elif wanted.act == "reopen":
            if reopen(item) is item:
                what = f"Item {id} is neither acknowledged nor snoozed"
                raise ServiceProblem("wrong-state", what, remedy="Re-check it to measure it again")
            store.change(connection, id, reopen(item))
        elif wanted.act == "acknowledge":
            store.change(connection, id, acknowledge(item))
            if not row.assigned_to:
                store.assign(connection, id, by)
        elif wanted.act == "assign":
            if wanted.to:
                _member(connection, tenant, wanted.to)
            store.assign(connection, id, wanted.to)
            text = wanted.to or "nobody"
        elif wanted.act == "snooze":
            assert wanted.until is not None
            store.change(connection, id, snooze(item, wanted.until))
            text = f"until {wanted.until:%Y-%m-%d %H:%M} UTC: {wanted.text}"
        kept = previous if wanted.act in _UNDONE else None
        store.add_step(connection, id, now, by, wanted.act, text, kept)

    context.store.transaction(write)
    return get_item(context, tenant, id)


def act_on_all(context: Context, tenant: TenantAccess, wanted: WorkActs, by: str) -> WorkActsDone:
    """Apply a person's action to several items; one that it cannot be applied to spoils no other."""
    ids = list(dict.fromkeys(wanted.ids))
    if wanted.act == "recheck" and len(ids) > _RECHECKS_AT_ONCE:
        what = f"{len(ids)} items cannot be re-checked at once; the limit is {_RECHECKS_AT_ONCE}"
        raise ServiceProblem("invalid-request", what, remedy="Detection measures all of them every five minutes")
    each = WorkAct.model_validate(wanted.model_dump(exclude={"ids"}))
    if each.act == "assign" and each.to:  # what is wrong with the action is said once, not for each item
        context.store.transaction(lambda c: _member(c, tenant, each.to))
    changed: list[WorkItem] = []
    problems: list[ProblemError] = []
    for number, id in enumerate(wanted.ids):
        if id not in ids:
            continue
        ids.remove(id)
        try:
            done = act(context, tenant, id, each, by)
        except ServiceProblem as problem:
            if problem.kind.slug not in _OF_ONE_ITEM:
                raise  # the action itself is wrong: it is for every item
            problems.append(ProblemError(field=f"ids.{number}", what=str(problem), remedy=problem.remedy))
        else:
            changed.append(WorkItem.model_validate(done.model_dump(exclude={"steps"})))
    return WorkActsDone(changed=changed, problems=problems)


def _undo(connection: Connection, tenant: TenantAccess, row: ItemRow, by: str) -> str:
    """Put an item back to what it was before this person's last action; return which that was."""
    last = store.last_act(connection, row.id)
    if last is None or last.by != by or last.previous is None or row.state == str(State.RESOLVED):
        why = "it is resolved" if row.state == str(State.RESOLVED) else _why_not(last, by)
        raise ServiceProblem("wrong-state", f"Item {row.id}: nothing can be undone, {why}", remedy="Reopen it instead")
    previous = last.previous
    until = previous["until"] and datetime.fromisoformat(previous["until"])
    store.change(connection, row.id, restore(store.item_of(row), State(previous["state"]), until))
    store.assign(connection, row.id, previous["assigned_to"])
    return last.what


def _why_not(last: StepRow | None, by: str) -> str:
    if last is None:
        return "nobody has acted on it"
    return f"the last action is {last.by}'s" if last.by != by else f"your last action is {last.what!r}"


def recheck(context: Context, tenant: TenantAccess, id: int, by: str) -> WorkItemDetails:
    """Re-check: DNS, counters, the newest mail, the proof. Resolved when nothing is wrong any more."""
    row = context.store.transaction(lambda c: _row(c, tenant, id))
    incident = store.item_of(row).incident
    names = context.store.transaction(lambda c: store_readings.names_of(c, tenant.id, 1))
    domains = {name: id for id, name in names.items() if name in (incident.domains or (incident.name,))}
    if incident.recheck == "audit":
        _audit_again(context, tenant, domains)
    if incident.recheck == "proof":
        proofs.look_at_due(context)
    if incident.recheck == "placement":
        _placement_again(context, tenant, incident, by)
    if incident.recheck in ("audit", "readings"):
        for domain_id in list(domains.values())[:_AUDITS_AT_ONCE]:
            readings.compute_readings(context, tenant.id, domain_id)

    def write(unit: UnitOfWork) -> None:
        connection, now = unit.connection, unit.now
        settings = settings_of(connection, tenant.id)
        found = {incident.key[:400]: incident for incident in detection.find_troubles(unit, tenant, settings)}
        key = row.item_key
        still = _still(found, key, incident.parts)
        newest = ""
        if still is not None and still.kind == "pull":
            newest = newest_is_right(connection, tenant.id, still.topic, list(domains.values()), now)
        kept = store.get(connection, tenant.id, id, lock=True)
        if kept is not None and kept.state != str(State.RESOLVED) and (still is None or newest):
            item = store.item_of(kept)
            if still is not None:  # with what was measured now, so that it is known what may still fade of it
                item = replace(item, incident=replace(item.incident, measure=still.measure))
                del found[still.key[:400]]
            item = resolve(item, now)
            store.change(connection, id, item)
            store.add_step(connection, id, now, by, "resolved", newest or _WELL)
            notifications.tell(unit, tenant, id, item, Tell.RESOLVED, settings)
        follow_all(unit, tenant, found.values(), settings)
        if still is not None and not newest and store.get(connection, tenant.id, id) is not None:
            store.add_step(connection, id, now, by, "rechecked", f"Still a problem: {still.text}")

    context.unit(tenant.id, write, by=by)
    return get_item(context, tenant, id)


def _placement_again(context: Context, tenant: TenantAccess, incident: Incident, by: str) -> None:
    """Read the seeds that could not be read, or send copies again: they are judged when their time has come."""
    if incident.kind == "seeds":
        for seed in seeds.list_seeds(context, tenant):
            if seed.enabled and seed.problem is not None:
                seeds.check_seed(context, tenant, seed.id)
        return
    for name in schedules.names_for(context, tenant, incident):
        with contextlib.suppress(ServiceProblem):  # the schedule says why it does not start
            schedules.start_now(context, tenant, name, by)


def _still(found: Mapping[str, Incident], key: str, parts: Iterable[str]) -> Incident | None:
    """Return what an item is about now: its incident, one that it became a part of, or a part that is left."""
    whole = next((incident for incident in found.values() if key in incident.parts), None)
    return found.get(key) or whole or next((found[part] for part in parts if part in found), None)


def _audit_again(context: Context, tenant: TenantAccess, domains: Mapping[str, int]) -> None:
    """Audit these domains: some at once, the others as jobs."""
    for name in list(domains)[:_AUDITS_AT_ONCE]:
        audits.run_audit(context, tenant, name)

    def ask(connection: Connection) -> None:
        for domain_id in list(domains.values())[_AUDITS_AT_ONCE:]:
            jobs.enqueue(connection, "audit", tenant.id, domain_id, context.clock())

    context.store.transaction(ask)


def show_lines(context: Context, tenant: TenantAccess) -> list[LineRow]:
    """Bounce and complaint rates against their lines, today, what is nearest to its line first."""

    def read(unit: UnitOfWork) -> list[LineRow]:
        return list(lines.lines_of(unit, tenant, settings_of(unit.connection, tenant.id)))

    rows = context.unit(tenant.id, read)
    return sorted(rows, key=lambda row: (-row.stop_chance, -row.watch_chance, -row.estimate / row.watch))


def replay(context: Context, tenant: TenantAccess, first: date, last: date) -> int:
    """Go over past days as if each had been looked at, so that their incidents are known with their days; nobody is
    told. For a service that is begun on counters that are there already. Returns how many items were made.
    """

    def write(unit: UnitOfWork) -> int:
        connection = unit.connection
        settings = settings_of(connection, tenant.id)
        settings = settings.model_copy(update={"wait_minutes": 0, "resolve_hours": 20, "repeat_hours": 0})
        series = [store_readings.unpack(row) for row in store_readings.histories(connection, tenant.id, 1)]
        ids = list(store_readings.names_of(connection, tenant.id, 1))
        jumps = readings.past_jumps(connection, tenant.id, last, ids)
        series = [replace(one, jumps=tuple(jumps.get((one.subject_id, one.provider_id), ()))) for one in series]
        day = first
        while day <= last:
            around = place_of(connection, tenant, day, ids)
            found = pulls_on(connection, around, series, day) + outages_on(connection, around, day)
            found = detection.joined(found)
            at = datetime.combine(day, time(23), UTC)
            follow_all(replace(unit, now=at), tenant, found, settings, tell=False)
            day += timedelta(days=1)
        return len(store.items(connection, [tenant.id]))

    return context.unit(tenant.id, write)
