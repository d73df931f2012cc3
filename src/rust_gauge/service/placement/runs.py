"""Runs: chosen seeds, a message, and what became of each copy. Sending and looking are jobs (`sending`, `looking`)."""

import secrets
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from sqlalchemy import Connection

from rust_gauge.contract.common import Page
from rust_gauge.contract.flow import Rate
from rust_gauge.contract.placement import (
    CopyChange,
    CopyHop,
    CopyResult,
    NewRun,
    PlacementCopy,
    PlacementRun,
    ProviderPlacement,
    RunSummary,
)
from rust_gauge.core.assay import Message
from rust_gauge.core.bench import series_of
from rust_gauge.core.errors import InputError
from rust_gauge.core.mailflow.rates import Rate as Share
from rust_gauge.core.names import parse_address
from rust_gauge.core.placement import OPEN, CopyPlan, ExtraField, Outcome, make_copy, new_mark, sum_up
from rust_gauge.core.placement import ProviderPlacement as Placement
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.placement.outlets import fields_of, find_outlet
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import caught, jobs, placement, seeds, trays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement import CopyRow, CountRow, RunRow
from rust_gauge.store.seeds import OutletRow, SeedRow

AWAITING, RUNNING, DONE, CANCELLED = "awaiting", "running", "done", "cancelled"
KEY_PREFIX = "placement-"  # of the local part of a run's address
SEND, LOOK = "placement_send", "placement_look"  # kinds of job


def start_run(context: Context, tenant: TenantAccess, new: NewRun, by: str) -> PlacementRun:
    """Start a run. Without a caught message it awaits its message, at its address or through `hand_in`."""
    outlet = find_outlet(context, tenant, new.outlet)
    chosen = _chosen(context, tenant, new)
    raw, series = _caught(context, tenant, new) if new.tray or new.message else (None, "")
    now = context.clock()

    def write(connection: Connection) -> int:
        run_id = placement.add_run(
            connection, tenant_id=tenant.id, outlet_id=outlet.id, outlet_name=outlet.name, title=new.title.strip(),
            address_key=f"{KEY_PREFIX}{secrets.token_hex(8)}", state=AWAITING, keep_custom=new.keep_custom, plan={},
            wait_minutes=new.wait_minutes, subject="", series="", header_from="", size=0, mark=None,
            error="", created_by=by, created_at=now, started_at=None, ended_at=None,
        )  # fmt: skip
        placement.add_copies(
            connection,
            [
                {
                    "tenant_id": tenant.id, "run_id": run_id, "seed_id": seed.id, "address": seed.address,
                    "provider": seed.provider, "mark": new_mark(secrets.token_bytes(10)), "outcome": Outcome.QUEUED,
                    "folder": "", "reply": "", "problem": "",
                }
                for seed in chosen
            ],
        )  # fmt: skip
        if raw is not None:
            _begin(connection, now, tenant.id, run_id, raw, outlet, new.keep_custom, series)
        return run_id

    return get_run(context, tenant, context.store.transaction(write))


def hand_in(context: Context, tenant: TenantAccess, id: int, raw: bytes) -> PlacementRun:
    """Give a run its message: copies are sent from now on. ServiceProblem for a run that has one."""
    take_message(context, find_run(context, tenant, id), raw)
    return get_run(context, tenant, id)


def take_message(context: Context, run: RunRow, raw: bytes) -> None:
    """Give a run its message. ServiceProblem `already-there` for one that has it, `invalid-request` for no message."""
    now = context.clock()

    def write(connection: Connection) -> None:
        row = placement.get_run(connection, run.tenant_id, run.id, lock=True)
        if row is None or row.state != AWAITING:
            raise ServiceProblem(
                "already-there", f"Run {run.id} does not wait for a message", remedy="Start another run"
            )
        outlets = seeds.list_outlets(connection, run.tenant_id)
        outlet = next((each for each in outlets if each.id == row.outlet_id), None)
        if outlet is None:
            raise ServiceProblem("not-found", f"The outlet {row.outlet_name} was deleted", remedy="Start another run")
        _begin(connection, now, run.tenant_id, run.id, raw, outlet, row.keep_custom)

    context.store.transaction(write)


def run_for(context: Context, key: str) -> RunRow | None:
    """Return the run whose address has this local part and that waits for its message."""
    if not key.startswith(KEY_PREFIX):
        return None
    row = context.store.transaction(lambda c: placement.run_by_key(c, key[:60]))
    return row if row is not None and row.state == AWAITING else None


def list_runs(context: Context, tenant: TenantAccess, cursor: str | None, limit: int) -> Page[RunSummary]:
    """Return a page of runs, newest first."""
    position = read_cursor("placement", cursor, int)
    before = position[0] if position else None

    def read(connection: Connection) -> tuple[list[RunRow], list[CountRow]]:
        rows = placement.list_runs(connection, tenant.id, before, limit + 1)
        return rows, placement.counts_of(connection, [row.id for row in rows])

    rows, counts = context.store.transaction(read)
    following = write_cursor("placement", rows[limit - 1].id) if len(rows) > limit else None
    by_run: dict[int, list[CountRow]] = {}
    for count in counts:
        by_run.setdefault(count.run_id, []).append(count)
    items = [RunSummary.model_validate(_summary(row, by_run.get(row.id, []))) for row in rows[:limit]]
    return Page(items=items, next=following)


def end_settled(context: Context, tenant_id: int) -> list[RunRow]:
    """End a tenant's runs whose copies have all come to something. Return those that go on."""
    now, going_on = context.clock(), []
    for run in context.store.transaction(lambda c: placement.runs_in(c, tenant_id, RUNNING)):
        waiting = context.store.transaction(lambda c, id=run.id: placement.open_copies(c, id, sorted(OPEN)))  # type: ignore[misc]
        if waiting:
            going_on.append(run)
            continue
        context.store.transaction(
            lambda c, id=run.id: placement.update_run(c, id, state=DONE, ended_at=now)  # type: ignore[misc]
        )
    return going_on


def find_run(context: Context, tenant: TenantAccess, id: int) -> RunRow:
    """Return the row of a run. ServiceProblem `not-found`."""
    row = context.store.transaction(lambda c: placement.get_run(c, tenant.id, id))
    if row is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no placement run {id}", remedy="List the runs")
    return row


def get_run(context: Context, tenant: TenantAccess, id: int) -> PlacementRun:
    """Return a run with its copies. ServiceProblem `not-found`."""
    row = find_run(context, tenant, id)

    def read(connection: Connection) -> tuple[list[CopyRow], list[CountRow], list[SeedRow]]:
        return (
            placement.list_copies(connection, id), placement.counts_of(connection, [id]),
            seeds.list_seeds(connection, tenant.id),
        )  # fmt: skip

    copies, counts, there = context.store.transaction(read)
    labels = {(seed.id, each["folder"]): each.get("label", "") for seed in there for each in seed.folders}
    return PlacementRun.model_validate(
        {
            **_summary(row, counts), "address": address_of(context.settings, row), "keep_custom": row.keep_custom,
            "wait_minutes": row.wait_minutes, "error": row.error,
            "results": [_copy(each, labels.get((each.seed_id or 0, each.folder), "")) for each in copies],
        }
    )  # fmt: skip


def message_of(context: Context, tenant: TenantAccess, id: int) -> bytes:
    """Return the message that is copied. ServiceProblem `not-found` while there is none."""
    find_run(context, tenant, id)
    raw = context.store.transaction(lambda c: placement.message_of(c, id))
    if not raw:
        raise ServiceProblem("not-found", f"Run {id} has no message yet")
    return raw


def cancel_run(context: Context, tenant: TenantAccess, id: int) -> PlacementRun:
    """Stop a run: what is not sent stays unsent, what was not found is not looked for. Nothing when it has ended."""
    find_run(context, tenant, id)
    now = context.clock()

    def write(connection: Connection) -> None:
        row = placement.get_run(connection, tenant.id, id, lock=True)
        if row is not None and row.state in (AWAITING, RUNNING):
            placement.update_run(connection, id, state=CANCELLED, ended_at=now)

    context.store.transaction(write)
    return get_run(context, tenant, id)


def delete_run(context: Context, tenant: TenantAccess, id: int) -> None:
    """Delete a run with its copies."""
    find_run(context, tenant, id)
    context.store.transaction(lambda c: placement.delete_run(c, id))


def address_of(settings: Settings, row: RunRow) -> str:
    """Return where to mail the message of a run to; empty when it has one, or where there is no bench domain."""
    listens = settings.bench_domain and settings.bench_port and row.state == AWAITING
    return f"{row.address_key}@{settings.bench_domain}" if listens else ""


def copy_of(run: RunRow, raw: bytes, copy: CopyRow, at: datetime) -> bytes:
    """Return a copy as it was or will be sent at a time, whatever its outlet was changed to since. InputError."""
    plan = run.plan
    extra = tuple(ExtraField(each["name"], each["value"]) for each in plan["extra"])
    made = CopyPlan(plan["from_name"], plan["from_address"], run.keep_custom, extra)
    domain = str(parse_address(plan["mail_from"]).domain)
    return make_copy(raw, made, mark=copy.mark, to=copy.address, domain=domain, now=at)


def _chosen(context: Context, tenant: TenantAccess, new: NewRun) -> list[SeedRow]:
    there = context.store.transaction(lambda c: seeds.list_seeds(c, tenant.id))
    unknown = sorted(set(new.seeds) - {row.id for row in there})
    if unknown:
        raise ServiceProblem("not-found", f"{tenant.name} has no seed {unknown[0]}", remedy="List the seeds")
    names = {name for row in there for name in row.lists}
    for name in new.lists:
        if name not in names:
            raise ServiceProblem(
                "not-found", f"{tenant.name} has no seed list {name}",
                remedy=f"Known: {', '.join(sorted(names))}" if names else "Put seeds into it first",
            )  # fmt: skip
    wanted = set(new.lists)
    chosen = [
        row for row in there
        if row.id in new.seeds
        or (row.enabled and (wanted & set(row.lists) if wanted else not new.seeds))
    ]  # fmt: skip
    if not chosen:
        raise ServiceProblem("invalid-request", "No seed is chosen", remedy="Add seeds, and turn them on")
    return chosen


def _caught(context: Context, tenant: TenantAccess, new: NewRun) -> tuple[bytes, str]:
    """Return a caught message and its template. ServiceProblem `not-found`."""
    if not new.tray or new.message is None:
        raise ServiceProblem("invalid-request", "A caught message needs `tray` and `message`")

    def read(connection: Connection) -> tuple[bytes, str] | None:
        tray = next((row for row in trays.list_trays(connection, tenant.id) if row.name == new.tray), None)
        found = None if tray is None else caught.get_message(connection, tray.id, new.message or 0)
        return None if found is None else (caught.source_of(connection, found.id), found.series)

    done = context.store.transaction(read)
    if done is None:
        raise ServiceProblem(
            "not-found", f"{tenant.name} has no message {new.message} in a tray {new.tray}", remedy="List its messages"
        )
    return done


def _begin(
    connection: Connection, now: datetime, tenant_id: int, run_id: int, raw: bytes, outlet: OutletRow,
    keep_custom: bool, series: str = "",
) -> None:  # fmt: skip
    """Store the message of a run and ask for its copies to be sent. ServiceProblem for what cannot be copied."""
    plan = CopyPlan(outlet.from_name, outlet.from_address, keep_custom, fields_of(outlet))
    try:
        made = make_copy(raw, plan, mark="0" * 20, to="seed@seed.example", domain="seed.example", now=now)
    except InputError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None
    message = Message(made)
    subject = message.value("Subject")
    placement.write_message(connection, run_id, raw)
    placement.update_run(
        connection, run_id, state=RUNNING, started_at=now, size=len(raw), subject=subject[:500],
        plan={"from_name": outlet.from_name, "from_address": outlet.from_address, "mail_from": outlet.mail_from,
              "extra": outlet.extra},
        series=series or series_of(subject), header_from=message.value("From")[:320],
    )  # fmt: skip
    jobs.enqueue(connection, SEND, tenant_id, run_id, now)


def _summary(row: RunRow, counts: Sequence[CountRow]) -> dict[str, object]:
    every = next(iter(sum_up(("", Outcome(count.outcome), count.copies) for count in counts)), None)
    return {
        "id": row.id, "title": row.title, "outlet": row.outlet_name, "state": row.state, "subject": row.subject,
        "header_from": row.header_from, "mark": row.mark, "created_by": row.created_by, "created_at": row.created_at,
        "started_at": row.started_at, "ended_at": row.ended_at,
        "copies": {} if every is None else {outcome.value: number for outcome, number in every.counts.items()},
        "inbox": None if every is None else _rate(every.inbox),
        "providers": [_provider(each) for each in placements(counts)],
    }  # fmt: skip


def placements(counts: Iterable[CountRow]) -> tuple[Placement, ...]:
    """Return what became of copies, by provider."""
    return sum_up((count.provider, Outcome(count.outcome), count.copies) for count in counts)


def _provider(placed: Placement) -> ProviderPlacement:
    return ProviderPlacement(
        provider=placed.provider, copies={outcome.value: number for outcome, number in placed.counts.items()},
        inbox=_rate(placed.inbox), spam=_rate(placed.spam), missing=_rate(placed.missing),
    )  # fmt: skip


def _rate(share: Share | None) -> Rate | None:
    if share is None:
        return None
    return Rate(value=share.value, low=share.low, high=share.high, count=share.count, total=share.total)


def _copy(row: CopyRow, label: str) -> PlacementCopy:
    found = row.arrival or {}
    seconds = None
    if row.sent_at is not None and row.arrived_at is not None:
        # Mailboxes tell whole seconds, so a copy may seem to arrive before it was sent.
        seconds = max(0.0, (row.arrived_at.replace(tzinfo=UTC) - row.sent_at.replace(tzinfo=UTC)).total_seconds())
    return PlacementCopy(
        seed=row.seed_id, address=row.address, provider=row.provider, outcome=Outcome(row.outcome).value,
        folder=row.folder, label=label, reply=row.reply, problem=row.problem, sent_at=row.sent_at,
        arrived_at=row.arrived_at, seconds=seconds,
        hops=[CopyHop.model_validate(each) for each in found.get("hops", ())],
        verified=[CopyResult.model_validate(each) for each in found.get("verified", ())],
        changes=[CopyChange.model_validate(each) for each in found.get("changes", ())],
    )  # fmt: skip
