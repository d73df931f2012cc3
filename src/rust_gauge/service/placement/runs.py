"""Runs and what became of their copies. `starting` begins one; sending and looking are jobs (`sending`, `looking`)."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from sqlalchemy import Connection

from rust_gauge.contract.common import Page
from rust_gauge.contract.flow import Rate
from rust_gauge.contract.placement import (
    CopyChange,
    CopyHop,
    CopyResult,
    PlacementCopy,
    PlacementRun,
    ProviderPlacement,
    RunSummary,
)
from rust_gauge.core.mailflow.rates import Rate as Share
from rust_gauge.core.names import parse_address
from rust_gauge.core.placement import OPEN, CopyPlan, ExtraField, Outcome, make_copy, sum_up
from rust_gauge.core.placement import ProviderPlacement as Placement
from rust_gauge.service.http.paging import read_cursor, write_cursor
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import jobs, placement, providers, seeds
from rust_gauge.store import placement_schedules as schedules
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement import CopyRow, CountRow, RunRow
from rust_gauge.store.seeds import SeedRow

AWAITING, RUNNING, DONE, CANCELLED = "awaiting", "running", "done", "cancelled"
KEY_PREFIX = "placement-"  # of the local part of a run's address
SEND, LOOK, EXAMINE = "placement_send", "placement_look", "placement_assay"  # kinds of job


def list_runs(context: Context, tenant: TenantAccess, cursor: str | None, limit: int) -> Page[RunSummary]:
    """Return a page of runs, newest first."""
    position = read_cursor("placement", cursor, int)
    before = position[0] if position else None

    def read(connection: Connection) -> tuple[list[RunRow], list[CountRow], Names]:
        rows = placement.list_runs(connection, tenant.id, before, limit + 1)
        return rows, placement.counts_of(connection, [row.id for row in rows]), names_of(connection, tenant.id)

    rows, counts, names = context.store.transaction(read)
    following = write_cursor("placement", rows[limit - 1].id) if len(rows) > limit else None
    by_run: dict[int, list[CountRow]] = {}
    for count in counts:
        by_run.setdefault(count.run_id, []).append(count)
    items = [RunSummary.model_validate(_summary(row, by_run.get(row.id, []), names)) for row in rows[:limit]]
    return Page(items=items, next=following)


@dataclass(frozen=True, slots=True)
class Names:
    """What a tenant calls providers, by registered domain, and its schedules, by number."""

    providers: Mapping[str, str]
    schedules: Mapping[int, str]


def names_of(connection: Connection, tenant_id: int) -> Names:
    """Return the tenant's names."""
    labels = providers.labels(connection, tenant_id)
    known = providers.names(connection, labels)
    return Names(
        {known[id]: label for id, label in labels.items() if id in known},
        {row.id: row.name for row in schedules.list_schedules(connection, tenant_id)},
    )


def end_settled(context: Context, tenant_id: int) -> list[RunRow]:
    """End a tenant's runs whose copies have all come to something. Return those that go on."""
    now, going_on = context.clock(), []
    for run in context.store.transaction(lambda c: placement.runs_in(c, tenant_id, RUNNING)):
        waiting = context.store.transaction(lambda c, id=run.id: placement.open_copies(c, id, sorted(OPEN)))  # type: ignore[misc]
        if waiting:
            going_on.append(run)
            continue
        context.store.transaction(lambda c, run=run: _end(c, run, now))  # type: ignore[misc]
    return going_on


def _end(connection: Connection, run: RunRow, now: datetime) -> None:
    """End a run, and have the readings computed that its copies are a factor of."""
    placement.update_run(connection, run.id, state=DONE, ended_at=now)
    domain_id = placement.domain_of(connection, run.id)
    if domain_id is not None:
        jobs.enqueue(connection, "readings", run.tenant_id, domain_id, now)
        jobs.enqueue(connection, "subjects", run.tenant_id, 0, now)


def find_run(context: Context, tenant: TenantAccess, id: int) -> RunRow:
    """Return the row of a run. ServiceProblem `not-found`."""
    row = context.store.transaction(lambda c: placement.get_run(c, tenant.id, id))
    if row is None:
        raise ServiceProblem("not-found", f"{tenant.name} has no placement run {id}", remedy="List the runs")
    return row


def get_run(context: Context, tenant: TenantAccess, id: int) -> PlacementRun:
    """Return a run with its copies. ServiceProblem `not-found`."""
    row = find_run(context, tenant, id)

    def read(connection: Connection) -> tuple[list[CopyRow], list[CountRow], list[SeedRow], Names]:
        return (
            placement.list_copies(connection, id), placement.counts_of(connection, [id]),
            seeds.list_seeds(connection, tenant.id), names_of(connection, tenant.id),
        )  # fmt: skip

    copies, counts, there, names = context.store.transaction(read)
    labels = {(seed.id, each["folder"]): each.get("label", "") for seed in there for each in seed.folders}
    return PlacementRun.model_validate(
        {
            **_summary(row, counts, names), "address": address_of(context.settings, row),
            "keep_custom": row.keep_custom, "wait_minutes": row.wait_minutes, "error": row.error,
            "results": [
                _copy(_with_seed(each, there), labels.get((each.seed_id or 0, each.folder), "")) for each in copies
            ],
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
    domain = str(parse_address(run.plan["mail_from"]).domain)
    return make_copy(raw, plan_of(run), mark=copy.mark, to=copy.address, domain=domain, now=at)


def plan_of(run: RunRow) -> CopyPlan:
    """Return what a run changes in its copies, whatever its outlet was changed to since."""
    extra = tuple(ExtraField(each["name"], each["value"]) for each in run.plan.get("extra", ()))
    return CopyPlan(run.plan.get("from_name", ""), run.plan.get("from_address", ""), run.keep_custom, extra)


def sample_copy(raw: bytes, plan: CopyPlan, now: datetime) -> bytes:
    """Return a copy as a seed would get it, with no seed's mark or address. InputError for what cannot be copied."""
    return make_copy(raw, plan, mark="0" * 20, to="seed@seed.example", domain="seed.example", now=now)


def _summary(row: RunRow, counts: Sequence[CountRow], names: Names) -> dict[str, object]:
    every = next(iter(sum_up(("", Outcome(count.outcome), count.copies) for count in counts)), None)
    return {
        "id": row.id, "title": row.title, "outlet": row.outlet_name, "state": row.state, "subject": row.subject,
        "header_from": row.header_from, "mark": row.mark, "schedule": names.schedules.get(row.schedule_id or 0, ""),
        "why": row.why, "created_by": row.created_by, "created_at": row.created_at,
        "started_at": row.started_at, "ended_at": row.ended_at,
        "copies": {} if every is None else {outcome.value: number for outcome, number in every.counts.items()},
        "inbox": None if every is None else _rate(every.inbox),
        "providers": [_provider(each, names) for each in placements(counts)],
    }  # fmt: skip


def placements(counts: Iterable[CountRow]) -> tuple[Placement, ...]:
    """Return what became of copies, by provider."""
    return sum_up((count.provider, Outcome(count.outcome), count.copies) for count in counts)


def _provider(placed: Placement, names: Names) -> ProviderPlacement:
    return ProviderPlacement(
        provider=placed.provider, label=names.providers.get(placed.provider, placed.provider),
        copies={outcome.value: number for outcome, number in placed.counts.items()},
        inbox=_rate(placed.inbox), spam=_rate(placed.spam), missing=_rate(placed.missing),
    )  # fmt: skip


def _rate(share: Share | None) -> Rate | None:
    if share is None:
        return None
    return Rate(value=share.value, low=share.low, high=share.high, count=share.count, total=share.total)


def _with_seed(copy: CopyRow, there: Sequence[SeedRow]) -> CopyRow:
    """Return a copy that is looked for with what keeps its seed from being read now."""
    seed = next((row for row in there if row.id == copy.seed_id and copy.outcome == Outcome.SENT and row.problem), None)
    return copy if seed is None else replace(copy, problem=f"{seed.problem_text}. {seed.problem_remedy}")


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
