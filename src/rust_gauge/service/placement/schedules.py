"""Schedules: runs that start by themselves, at times or after a change of records or of the message.

Each is checked once a minute by whichever process ticks; its row is locked, so that a run starts once. What keeps a
schedule from starting is its `problem`, and an item of the worklist.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.placement import (
    NewSchedule,
    PlacementRun,
    Rhythm,
    Schedule,
    ScheduleChange,
    ScheduleSettings,
)
from rust_gauge.core.errors import AddressError, InputError
from rust_gauge.core.names import parse_address, registered_domain
from rust_gauge.core.placement import rhythm as core
from rust_gauge.core.worklist import Incident
from rust_gauge.service.placement import starting
from rust_gauge.service.placement.outlets import find_outlet
from rust_gauge.service.placement.runs import KEY_PREFIX, get_run
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import caught, domains, placement, seeds, trays
from rust_gauge.store import placement_schedules as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement_schedules import ScheduleRow

log = structlog.get_logger()
_MOST = 100  # schedules of a tenant
_ON_TIME = "on time"
_NO_MESSAGE = "No message was handed in yet"


def add_schedule(context: Context, tenant: TenantAccess, new: NewSchedule, by: str) -> Schedule:
    """Add a schedule. ServiceProblem for settings that cannot work."""
    outlet = find_outlet(context, tenant, new.outlet)
    _check(context, tenant, new)
    now = context.clock()

    def write(connection: Connection) -> None:
        if len(store.list_schedules(connection, tenant.id)) >= _MOST:
            raise ServiceProblem("too-large", f"{_MOST} schedules exist, the limit", remedy="Delete some")
        store.add_schedule(
            connection, tenant_id=tenant.id, name=new.name, outlet_id=outlet.id, outlet_name=outlet.name,
            enabled=new.enabled, address_key=starting.new_key(), settings=_dumped(new), digest=None, message_id=None,
            records_seen_at=now, after_changes=_after_changes(new), next_at=_next(new.rhythm, now), ran_at=None,
            problem="", created_by=by, created_at=now,
        )  # fmt: skip

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem(
            "already-there", f"The schedule {new.name} already exists", remedy="Choose another name"
        ) from None
    return get_schedule(context, tenant, new.name)


def list_schedules(context: Context, tenant: TenantAccess) -> list[Schedule]:
    """Return a tenant's schedules by name."""

    return context.store.transaction(
        lambda c: _all_shown(c, context.settings, store.list_schedules(c, tenant.id))
    )  # fmt: skip


def _all_shown(connection: Connection, settings: Settings, rows: Sequence[ScheduleRow]) -> list[Schedule]:
    ids = [row.id for row in rows]
    newest, with_message = store.last_runs(connection, ids), store.with_message(connection, ids)
    return [_shown(settings, row, newest.get(row.id), row.id in with_message) for row in rows]


def get_schedule(context: Context, tenant: TenantAccess, name: str) -> Schedule:
    """Return a schedule. ServiceProblem `not-found`, with the name that is most like it."""
    row = _find(context, tenant, name)
    return context.store.transaction(lambda c: _all_shown(c, context.settings, [row]))[0]


def update_schedule(context: Context, tenant: TenantAccess, name: str, change: ScheduleChange) -> Schedule:
    """Change a schedule; what is left out stays. One that is turned on again runs at its next time."""
    row = _find(context, tenant, name)
    given = change.model_dump(exclude_unset=True)
    kept = {key: value for key, value in given.items() if value is not None or key in ("rhythm", "alert")}
    enabled = bool(kept.pop("enabled", row.enabled))
    merged = ScheduleSettings.model_validate({**row.settings, "outlet": row.outlet_name, **kept})
    outlet = find_outlet(context, tenant, merged.outlet) if "outlet" in kept else None
    _check(context, tenant, merged)
    now = context.clock()
    values: Any = {"outlet_id": outlet.id, "outlet_name": outlet.name} if outlet is not None else {}
    if enabled and not row.enabled:
        values["records_seen_at"] = now  # what changed during a pause is no reason to run
    context.store.transaction(
        lambda c: store.update_schedule(
            c, row.id, enabled=enabled, settings=_dumped(merged), after_changes=_after_changes(merged),
            next_at=_next(merged.rhythm, now), problem="", **values,
        )
    )  # fmt: skip
    return get_schedule(context, tenant, name)


def copy_schedule(context: Context, tenant: TenantAccess, name: str, new_name: str, by: str) -> Schedule:
    """Add a schedule with the settings and the message of another; it is paused."""
    row = _find(context, tenant, name)
    new = NewSchedule.model_validate({**row.settings, "outlet": row.outlet_name, "name": new_name, "enabled": False})
    add_schedule(context, tenant, new, by)
    made = _find(context, tenant, new_name)

    def write(connection: Connection) -> None:
        raw = store.message_of(connection, row.id)
        if raw:
            store.write_message(connection, made.id, raw)

    context.store.transaction(write)
    return get_schedule(context, tenant, new_name)


def delete_schedule(context: Context, tenant: TenantAccess, name: str) -> None:
    """Delete a schedule. Its runs stay."""
    row = _find(context, tenant, name)
    context.store.transaction(lambda c: store.delete_schedule(c, row.id))


def start_now(context: Context, tenant: TenantAccess, name: str, by: str) -> PlacementRun:
    """Start a run of a schedule, also of one that is paused. ServiceProblem for what keeps it from starting."""
    row = _find(context, tenant, name)
    now = context.clock()

    def write(connection: Connection) -> int:
        locked = store.get_schedule(connection, row.id, lock=True)
        if locked is None:
            raise ServiceProblem("not-found", f"The schedule {name} was deleted")
        return _start(connection, now, locked, "started by hand", by)

    return get_run(context, tenant, context.store.transaction(write))


def names_for(context: Context, tenant: TenantAccess, incident: Incident) -> list[str]:
    """Return the schedules that an incident is about: the one that does not start, or those of its domain."""

    def read(connection: Connection) -> list[str]:
        rows = [row for row in store.list_schedules(connection, tenant.id) if row.enabled]
        if incident.kind == "schedule":
            return [row.name for row in rows if row.name == incident.name]
        return [row.name for row in rows if incident.name in _domains(connection, row)]

    return context.store.transaction(read)


# Messages


def hand_in(context: Context, tenant: TenantAccess, name: str, raw: bytes) -> Schedule:
    """Give a schedule the message that it copies from now on. ServiceProblem `invalid-request` for what is none."""
    take_message(context, _find(context, tenant, name), raw)
    return get_schedule(context, tenant, name)


def message_of(context: Context, tenant: TenantAccess, name: str) -> bytes:
    """Return the message that was handed in. ServiceProblem `not-found`."""
    row = _find(context, tenant, name)
    raw = context.store.transaction(lambda c: store.message_of(c, row.id))
    if not raw:
        raise ServiceProblem("not-found", f"The schedule {name} has no message", remedy="Hand one in")
    return raw


def schedule_for(context: Context, key: str) -> ScheduleRow | None:
    """Return the schedule whose address has this local part, if it copies messages that are handed in."""
    if not key.startswith(KEY_PREFIX):
        return None
    row = context.store.transaction(lambda c: store.schedule_by_key(c, key[:60]))
    return row if row is not None and not row.settings["tray"] else None


def take_message(context: Context, row: ScheduleRow, raw: bytes) -> None:
    """Store a message for a schedule. ServiceProblem `invalid-request` for what cannot be copied, or is not used."""
    if row.settings["tray"]:
        raise ServiceProblem(
            "invalid-request", f"The schedule {row.name} copies the newest message of the tray {row.settings['tray']}",
            remedy="Set its tray to nothing first",
        )  # fmt: skip
    now = context.clock()

    def write(connection: Connection) -> None:
        outlet = starting.outlet_of(connection, row.tenant_id, row.outlet_id, row.outlet_name)
        starting.sample(raw, outlet, row.settings["keep_custom"], now)
        store.write_message(connection, row.id, raw)
        store.update_schedule(connection, row.id, problem="")

    context.store.transaction(write)


# Running


def run_due(context: Context) -> int:
    """Start the runs that are due. Return how many were started. One schedule that cannot start holds up no other."""
    started = 0
    for row in context.store.transaction(lambda c: store.due_schedules(c, context.clock())):
        try:
            started += _run_one(context, row.id)
        except Exception:
            log.exception("schedule_not_run", schedule=row.id)
    return started


def _run_one(context: Context, id: int) -> bool:
    """Start a run if there is a reason to. What keeps it from starting is stored."""
    now = context.clock()

    def write(connection: Connection) -> bool:
        row = store.get_schedule(connection, id, lock=True)
        if row is None or not row.enabled:
            return False
        why = _reason(connection, now, row)
        if not why:
            return False
        store.update_schedule(connection, id, next_at=_next(_rhythm(row), now), ran_at=now)
        try:
            with connection.begin_nested():
                _start(connection, now, row, why, row.created_by)
        except ServiceProblem as problem:
            said = f"{problem.detail}. {problem.remedy}".strip()
            store.update_schedule(connection, id, problem=said[:1000])
            return False
        return True

    return context.store.transaction(write)


@dataclass(frozen=True, slots=True)
class _Found:
    """The message that a schedule copies now. `id` and `template` are of a caught one."""

    raw: bytes
    id: int | None = None
    template: str = ""


def _start(connection: Connection, now: datetime, row: ScheduleRow, why: str, by: str) -> int:
    """Add a run of a schedule with its message. ServiceProblem for what keeps it from starting."""
    settings = _settings(row)
    outlet = starting.outlet_of(connection, row.tenant_id, row.outlet_id, row.outlet_name)
    found = _message(connection, row, settings)
    there = seeds.list_seeds(connection, row.tenant_id)
    chosen = starting.choose_seeds(
        there, settings.seeds, settings.lists, settings.without_providers, settings.without_seeds
    )
    if not chosen:
        raise ServiceProblem("invalid-request", "No seed is left to send to", remedy="Add seeds, or leave out fewer")
    order = starting.RunOrder(
        row.tenant_id, outlet, chosen, by, "", settings.keep_custom, settings.wait_minutes, row.id, why
    )
    run_id = starting.add_run(connection, now, order)
    starting.begin(connection, now, order, run_id, found.raw, found.template)
    store.update_schedule(
        connection, row.id, digest=starting.digest_of(found.raw), message_id=found.id, ran_at=now, problem="",
        records_seen_at=now,
    )  # fmt: skip
    return run_id


def _message(connection: Connection, row: ScheduleRow, settings: ScheduleSettings) -> _Found:
    """ServiceProblem `not-found` where there is none."""
    if not settings.tray:
        raw = store.message_of(connection, row.id)
        if not raw:
            raise ServiceProblem(
                "not-found", _NO_MESSAGE, remedy="Mail one to the address of the schedule, or hand it in"
            )
        return _Found(raw)
    newest = _newest_caught(connection, row.tenant_id, settings)
    if newest is None:
        what = f" of the template {settings.template!r}" if settings.template else ""
        raise ServiceProblem(
            "not-found",
            f"The tray {settings.tray} has no message{what}",
            remedy="Send one there, or choose another tray",
        )
    return _Found(caught.source_of(connection, newest[0]), newest[0], newest[1])


def _newest_caught(connection: Connection, tenant_id: int, settings: ScheduleSettings) -> tuple[int, str] | None:
    tray = next((row for row in trays.list_trays(connection, tenant_id) if row.name == settings.tray), None)
    if tray is None:
        return None
    found = caught.find_messages(connection, caught.CaughtQuery(tray.id, series=settings.template, limit=1))
    return (found[0].id, found[0].series) if found else None


def _reason(connection: Connection, now: datetime, row: ScheduleRow) -> str:
    """Return why a schedule runs now; empty: it does not."""
    settings = _settings(row)
    if settings.after_records:
        changed = domains.changed_records_since(
            connection, row.tenant_id, _domains(connection, row), row.records_seen_at
        )
        if changed:
            return f"after a change of {changed[-1].name}: {changed[-1].title}"
    if settings.after_template and _differs(connection, row, settings):
        return "after a change of the message"
    return _ON_TIME if row.next_at is not None and row.next_at.replace(tzinfo=UTC) <= now else ""


def _differs(connection: Connection, row: ScheduleRow, settings: ScheduleSettings) -> bool:
    """Return whether the message is another than the one that was copied last. The first one is."""
    newest = _newest_caught(connection, row.tenant_id, settings) if settings.tray else None
    if settings.tray and (newest is None or newest[0] == row.message_id):
        return False
    raw = store.message_of(connection, row.id) if newest is None else caught.source_of(connection, newest[0])
    if not raw:
        return False
    if row.digest is None or starting.digest_of(raw) != bytes(row.digest):
        return True
    if newest is not None:  # not read again every minute
        store.update_schedule(connection, row.id, message_id=newest[0])
    return False


def _domains(connection: Connection, row: ScheduleRow) -> list[str]:
    """Return the domains whose records count for a schedule's mail: From and envelope, and the domains above them."""
    outlet = next((each for each in seeds.list_outlets(connection, row.tenant_id) if each.id == row.outlet_id), None)
    newest = store.last_runs(connection, [row.id]).get(row.id)
    run = None if newest is None else placement.get_run(connection, row.tenant_id, newest)
    names = {
        _domain(run.header_from) if run else "",
        *(map(_domain, (outlet.from_address, outlet.mail_from)) if outlet else ()),
    }
    found: set[str] = set()
    for name in names - {""}:
        labels, top = name.split("."), registered_domain(name)
        found |= {".".join(labels[at:]) for at in range(len(labels)) if ".".join(labels[at:]).endswith(top)}
    return sorted(found)


def _domain(address: str) -> str:
    try:
        return str(parse_address(address.rpartition("<")[2].rstrip("> ")).domain)
    except AddressError:
        return ""


# Values


def _find(context: Context, tenant: TenantAccess, name: str) -> ScheduleRow:
    rows = context.store.transaction(lambda c: store.list_schedules(c, tenant.id))
    found = next((row for row in rows if row.name == name), None)
    if found is None:
        raise unknown_name(tenant.name, "schedule", name, [row.name for row in rows], remedy="Add the schedule first")
    return found


def _check(context: Context, tenant: TenantAccess, new: ScheduleSettings) -> None:
    """ServiceProblem for settings that cannot work."""
    if new.rhythm is None and not (new.after_records or new.after_template):
        raise _invalid("rhythm", "Nothing would ever start this schedule", "Set a rhythm, or let it run after changes")
    if new.rhythm is not None:
        try:
            _core(new.rhythm)
        except InputError as error:
            raise _invalid(f"rhythm.{error.field}", str(error), error.remedy) from None
    if new.alert is not None and new.alert.after_minutes > new.wait_minutes:
        raise _invalid(
            "alert.after_minutes", f"The alert comes after {new.alert.after_minutes} minutes, but copies are looked "
            f"for only {new.wait_minutes} minutes", "Wait longer for copies, or alert sooner",
        )  # fmt: skip
    if new.template and not new.tray:
        raise _invalid("template", "A template needs a tray", "Choose the tray that its messages are caught in")

    def read(connection: Connection) -> tuple[list[seeds.SeedRow], list[str]]:
        return seeds.list_seeds(connection, tenant.id), [row.name for row in trays.list_trays(connection, tenant.id)]

    there, names = context.store.transaction(read)
    if new.tray and new.tray not in names:
        raise unknown_name(tenant.name, "tray", new.tray, names)
    starting.check_choice(tenant, there, [*new.seeds, *new.without_seeds], new.lists)
    providers = sorted({row.provider for row in there})
    for provider in new.without_providers:
        if provider not in providers:
            raise unknown_name(tenant.name, "seed at the mailbox provider", provider, providers)


def _invalid(field: str, what: str, remedy: str) -> ServiceProblem:
    return ServiceProblem(
        "invalid-request", what, remedy=remedy, errors=[ProblemError(field=field, what=what, remedy=remedy)]
    )


def _core(rhythm: Rhythm) -> core.Rhythm:
    return core.Rhythm(
        core.Every(rhythm.every), tuple(rhythm.hours), rhythm.minute, tuple(rhythm.weekdays), tuple(rhythm.month_days),
        rhythm.time_zone,
    )  # fmt: skip


def _next(rhythm: Rhythm | None, now: datetime) -> datetime | None:
    return None if rhythm is None else core.next_time(_core(rhythm), now)


def _dumped(new: ScheduleSettings) -> dict[str, Any]:
    return ScheduleSettings.model_validate(new.model_dump(exclude={"name", "enabled"})).model_dump(exclude={"outlet"})


def _settings(row: ScheduleRow) -> ScheduleSettings:
    return ScheduleSettings.model_validate({**row.settings, "outlet": row.outlet_name})


def _rhythm(row: ScheduleRow) -> Rhythm | None:
    return _settings(row).rhythm


def _after_changes(new: ScheduleSettings) -> bool:
    return new.after_records or new.after_template


def _shown(settings: Settings, row: ScheduleRow, last_run: int | None, has_message: bool) -> Schedule:
    chosen = _settings(row)
    listens = settings.bench_domain and settings.bench_port and not chosen.tray
    return Schedule.model_validate(
        {
            **chosen.model_dump(), "name": row.name, "enabled": row.enabled, "when": _when(chosen),
            "next_at": row.next_at if row.enabled else None, "ran_at": row.ran_at, "last_run": last_run,
            "problem": row.problem, "address": f"{row.address_key}@{settings.bench_domain}" if listens else "",
            "has_message": has_message, "created_by": row.created_by, "created_at": row.created_at,
        }
    )  # fmt: skip


def _when(chosen: ScheduleSettings) -> str:
    parts = [core.describe(_core(chosen.rhythm))] if chosen.rhythm is not None else []
    changes = [name for on, name in ((chosen.after_records, "records"), (chosen.after_template, "the message")) if on]
    if changes:
        parts.append(f"after a change of {' or '.join(changes)}")
    text = ", and ".join(parts)
    return text[:1].upper() + text[1:]
