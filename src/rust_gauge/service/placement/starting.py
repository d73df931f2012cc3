"""Starting runs: which seeds, which message, and what is asked for once both are there."""

import hashlib
import secrets
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection

from rust_gauge.contract.placement import NewRun, PlacementRun
from rust_gauge.core.assay import Message
from rust_gauge.core.bench import series_of
from rust_gauge.core.errors import InputError
from rust_gauge.core.message import header_from_domain
from rust_gauge.core.placement import CopyPlan, Outcome, new_mark
from rust_gauge.service.placement.outlets import fields_of, find_outlet
from rust_gauge.service.placement.runs import (
    AWAITING,
    EXAMINE,
    KEY_PREFIX,
    RUNNING,
    SEND,
    find_run,
    get_run,
    sample_copy,
)
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import caught, jobs, placement, seeds, trays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.placement import RunRow
from rust_gauge.store.seeds import OutletRow, SeedRow


@dataclass(frozen=True, slots=True)
class RunOrder:
    """What a run is made of. `schedule_id` and `why` are of the schedule that starts it."""

    tenant_id: int
    outlet: OutletRow
    seeds: Sequence[SeedRow]
    by: str
    title: str = ""
    keep_custom: bool = True
    wait_minutes: int = 60
    schedule_id: int | None = None
    why: str = ""


def start_run(context: Context, tenant: TenantAccess, new: NewRun, by: str) -> PlacementRun:
    """Start a run. Without a caught message it awaits its message, at its address or through `hand_in`."""
    outlet = find_outlet(context, tenant, new.outlet)
    there = context.store.transaction(lambda c: seeds.list_seeds(c, tenant.id))
    check_choice(tenant, there, new.seeds, new.lists)
    chosen = choose_seeds(there, new.seeds, new.lists)
    if not chosen:
        raise ServiceProblem("invalid-request", "No seed is chosen", remedy="Add seeds, and turn them on")
    raw, series = _caught(context, tenant, new) if new.tray or new.message else (None, "")
    now = context.clock()
    order = RunOrder(tenant.id, outlet, chosen, by, new.title.strip(), new.keep_custom, new.wait_minutes)

    def write(connection: Connection) -> int:
        run_id = add_run(connection, now, order)
        if raw is not None:
            begin(connection, now, order, run_id, raw, series)
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
        outlet = outlet_of(connection, run.tenant_id, row.outlet_id, row.outlet_name)
        order = RunOrder(run.tenant_id, outlet, (), row.created_by, keep_custom=row.keep_custom)
        begin(connection, now, order, run.id, raw)

    context.store.transaction(write)


def run_for(context: Context, key: str) -> RunRow | None:
    """Return the run whose address has this local part and that waits for its message."""
    if not key.startswith(KEY_PREFIX):
        return None
    row = context.store.transaction(lambda c: placement.run_by_key(c, key[:60]))
    return row if row is not None and row.state == AWAITING else None


def new_key() -> str:
    """Return the local part of an address that nobody can guess."""
    return f"{KEY_PREFIX}{secrets.token_hex(8)}"


def outlet_of(connection: Connection, tenant_id: int, id: int | None, name: str) -> OutletRow:
    """Return an outlet by its number. ServiceProblem `not-found` for one that was deleted."""
    found = next((row for row in seeds.list_outlets(connection, tenant_id) if row.id == id), None)
    if found is None:
        raise ServiceProblem("not-found", f"The outlet {name} was deleted", remedy="Choose another outlet")
    return found


def check_choice(tenant: TenantAccess, there: Sequence[SeedRow], ids: Collection[int], lists: Sequence[str]) -> None:
    """ServiceProblem `not-found` for seeds and seed lists that the tenant does not have."""
    unknown = sorted(set(ids) - {row.id for row in there})
    if unknown:
        raise ServiceProblem("not-found", f"{tenant.name} has no seed {unknown[0]}", remedy="List the seeds")
    names = {name for row in there for name in row.lists}
    for name in lists:
        if name not in names:
            raise ServiceProblem(
                "not-found", f"{tenant.name} has no seed list {name}",
                remedy=f"Known: {', '.join(sorted(names))}" if names else "Put seeds into it first",
            )  # fmt: skip


def choose_seeds(
    there: Sequence[SeedRow], ids: Collection[int], lists: Collection[str], without_providers: Collection[str] = (),
    without_seeds: Collection[int] = (),
) -> list[SeedRow]:  # fmt: skip
    """Return the seeds that are named, and those of the lists that are on; all that are on where neither is given."""
    wanted = set(lists)
    return [
        row for row in there
        if row.id not in without_seeds and row.provider not in without_providers
        and (row.id in ids or (row.enabled and (wanted & set(row.lists) if wanted else not ids)))
    ]  # fmt: skip


def add_run(connection: Connection, now: datetime, order: RunOrder) -> int:
    """Add a run that awaits its message, with a copy for each seed; return its number."""
    run_id = placement.add_run(
        connection, tenant_id=order.tenant_id, outlet_id=order.outlet.id, outlet_name=order.outlet.name,
        title=order.title, address_key=new_key(), state=AWAITING, keep_custom=order.keep_custom, plan={},
        wait_minutes=order.wait_minutes, subject="", series="", header_from="", size=0, mark=None, error="",
        created_by=order.by, created_at=now, started_at=None, ended_at=None, path_id=None,
        schedule_id=order.schedule_id, why=order.why[:300],
    )  # fmt: skip
    placement.add_copies(
        connection,
        [
            {
                "tenant_id": order.tenant_id, "run_id": run_id, "seed_id": seed.id, "address": seed.address,
                "provider": seed.provider, "mark": new_mark(secrets.token_bytes(10)), "outcome": Outcome.QUEUED,
                "folder": "", "reply": "", "problem": "",
            }
            for seed in order.seeds
        ],
    )  # fmt: skip
    return run_id


def begin(
    connection: Connection, now: datetime, order: RunOrder, run_id: int, raw: bytes, series: str = ""
) -> None:  # fmt: skip
    """Store the message of a run and ask for its copies to be sent. ServiceProblem for what cannot be copied."""
    outlet = order.outlet
    message = Message(sample(raw, outlet, order.keep_custom, now))
    subject = message.value("Subject")
    domain, _ = header_from_domain(message.fields("From"))
    placement.write_message(connection, run_id, raw)
    placement.update_run(
        connection, run_id, state=RUNNING, started_at=now, size=len(raw), subject=subject[:500],
        plan={"from_name": outlet.from_name, "from_address": outlet.from_address, "mail_from": outlet.mail_from,
              "extra": outlet.extra},
        series=series or series_of(subject), header_from=message.value("From")[:320],
        path_id=placement.path_id(connection, order.tenant_id, outlet.name, domain, outlet.relay, outlet.stream),
    )  # fmt: skip
    placement.begin_counting(connection, run_id)
    jobs.enqueue(connection, SEND, order.tenant_id, run_id, now)
    jobs.enqueue(connection, EXAMINE, order.tenant_id, run_id, now)


def sample(raw: bytes, outlet: OutletRow, keep_custom: bool, now: datetime) -> bytes:
    """Return a copy as a seed would get it. ServiceProblem `invalid-request` for what cannot be copied."""
    plan = CopyPlan(outlet.from_name, outlet.from_address, keep_custom, fields_of(outlet))
    try:
        return sample_copy(raw, plan, now)
    except InputError as error:
        raise ServiceProblem("invalid-request", str(error), remedy=error.remedy) from None


def digest_of(raw: bytes) -> bytes:
    """Return 16 octets that are the same for messages with the same subject, text and HTML."""
    message = Message(raw)
    said = "\0".join((message.value("Subject"), message.text or "", message.html or ""))
    return hashlib.blake2b(said.encode("utf-8", "replace"), digest_size=16).digest()


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
