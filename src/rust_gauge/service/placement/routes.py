"""Placement under /api/v1: seeds, outlets, runs, schedules and shared links."""

from datetime import date
from typing import Annotated

from fastapi import Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.assays import Assay
from rust_gauge.contract.common import Page
from rust_gauge.contract.placement import (
    MadeShare,
    NewOutlet,
    NewRun,
    NewSchedule,
    NewSeed,
    NewShare,
    Outlet,
    OutletChange,
    PlacementHistory,
    PlacementRun,
    RunSummary,
    Schedule,
    ScheduleChange,
    ScheduleCopy,
    Seed,
    SeedChange,
    Share,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import NEVER_SHOWN, Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.placement import examining, history, outlets, runs, schedules, seeds, sharing, starting

router = api_router()
Name = Annotated[str, Path(max_length=40, description="Name of the outlet")]
SeedId = Annotated[int, Path(ge=1, lt=2**32, description="Number of the seed")]
ScheduleName = Annotated[str, Path(max_length=40, description="Name of the schedule")]
ShareId = Annotated[int, Path(ge=1, lt=2**32, description="Number of the link")]
RunId = Annotated[int, Path(ge=1, lt=2**63, description="Number of the run")]


@router.get("/tenants/{tenant}/seeds", tags=["placement"], operation_id="list_seeds")
def list_seeds(context: Ctx, tenant: Tenant) -> Page[Seed]:
    """List the seeds, by provider and address."""
    return Page(items=seeds.list_seeds(context, tenant))


@router.post("/tenants/{tenant}/seeds", tags=["placement"], status_code=201, operation_id="add_seed")
def add_seed(context: Ctx, tenant: Tenant, body: NewSeed) -> Seed:
    """Add a seed, and sign in to it once. One that cannot be read is saved all the same; `problem` says why."""
    return seeds.add_seed(context, tenant, body)


@router.get("/tenants/{tenant}/seeds/{id}", tags=["placement"], operation_id="get_seed")
def get_seed(context: Ctx, tenant: Tenant, id: SeedId) -> Seed:
    """Return a seed."""
    return seeds.get_seed(context, tenant, id)


@router.patch("/tenants/{tenant}/seeds/{id}", tags=["placement"], operation_id="update_seed")
def update_seed(context: Ctx, tenant: Tenant, id: SeedId, body: SeedChange) -> Seed:
    """Change settings of a seed."""
    return seeds.update_seed(context, tenant, id, body)


@router.delete("/tenants/{tenant}/seeds/{id}", tags=["placement"], status_code=204, operation_id="delete_seed")
def delete_seed(context: Ctx, tenant: Tenant, id: SeedId) -> None:
    """Delete a seed. Copies that went there stay in their runs."""
    seeds.delete_seed(context, tenant, id)


@router.post("/tenants/{tenant}/seeds/{id}/check", tags=["placement"], operation_id="check_seed")
def check_seed(context: Ctx, tenant: Tenant, id: SeedId) -> Seed:
    """Sign in to a seed now, and see whether its folders are there."""
    return seeds.check_seed(context, tenant, id)


@router.get("/tenants/{tenant}/outlets", tags=["placement"], operation_id="list_outlets")
def list_outlets(context: Ctx, tenant: Tenant) -> Page[Outlet]:
    """List the outlets."""
    return Page(items=outlets.list_outlets(context, tenant))


@router.post("/tenants/{tenant}/outlets", tags=["placement"], status_code=201, operation_id="add_outlet")
def add_outlet(context: Ctx, tenant: Tenant, body: NewOutlet) -> Outlet:
    """Add an outlet, and test it. One that does not work is saved all the same, with the reason in `problem`."""
    return outlets.add_outlet(context, tenant, body)


@router.get("/tenants/{tenant}/outlets/{name}", tags=["placement"], operation_id="get_outlet")
def get_outlet(context: Ctx, tenant: Tenant, name: Name) -> Outlet:
    """Return an outlet."""
    return outlets.get_outlet(context, tenant, name)


@router.patch("/tenants/{tenant}/outlets/{name}", tags=["placement"], operation_id="update_outlet")
def update_outlet(context: Ctx, tenant: Tenant, name: Name, body: OutletChange) -> Outlet:
    """Change settings of an outlet, and test it."""
    return outlets.update_outlet(context, tenant, name, body)


@router.delete("/tenants/{tenant}/outlets/{name}", tags=["placement"], status_code=204, operation_id="delete_outlet")
def delete_outlet(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Delete an outlet. Runs that went through it stay."""
    outlets.delete_outlet(context, tenant, name)


@router.post("/tenants/{tenant}/outlets/{name}/check", tags=["placement"], operation_id="check_outlet")
def check_outlet(context: Ctx, tenant: Tenant, name: Name) -> Outlet:
    """Sign in to an outlet now, and see whether its envelope sender is taken. Nothing is sent."""
    return outlets.check_outlet(context, tenant, name)


@router.get("/tenants/{tenant}/placement-history", tags=["placement"], operation_id="get_placement_history")
def get_placement_history(
    context: Ctx, tenant: Tenant,
    last: Annotated[date | None, Query(description="Last day of the period; today without it")] = None,
    days: Annotated[int, Query(ge=1, le=400, description="Its length")] = 90,
    outlet: Annotated[str, Query(max_length=40, description="Runs through this outlet only")] = "",
) -> PlacementHistory:  # fmt: skip
    """Return placement over time at each provider, the day it turned, and what else changed then."""
    return history.placement_history(context, tenant, last, days, outlet)


@router.get("/tenants/{tenant}/placement-runs", tags=["placement"], operation_id="list_placement_runs")
def list_placement_runs(context: Ctx, tenant: Tenant, cursor: Cursor = None, limit: Limit = 100) -> Page[RunSummary]:
    """List runs, newest first."""
    return runs.list_runs(context, tenant, cursor, limit)


@router.post(
    "/tenants/{tenant}/placement-runs", tags=["placement"], status_code=201, operation_id="start_placement_run"
)
def start_placement_run(context: Ctx, tenant: Tenant, principal: Asker, body: NewRun) -> PlacementRun:
    """Start a run. Without a caught message it awaits its message: mailed to `address`, or handed in."""
    return starting.start_run(context, tenant, body, principal.name)


@router.get("/tenants/{tenant}/placement-runs/{id}", tags=["placement"], operation_id="get_placement_run")
def get_placement_run(context: Ctx, tenant: Tenant, id: RunId) -> PlacementRun:
    """Return a run with its copies."""
    return runs.get_run(context, tenant, id)


@router.put("/tenants/{tenant}/placement-runs/{id}/message", tags=["placement"], operation_id="put_placement_message")
async def put_placement_message(context: Ctx, tenant: Tenant, id: RunId, request: Request) -> PlacementRun:
    """Hand in the message that a run awaits: its complete source. Copies are sent from now on."""
    raw = await request.body()
    return await run_in_threadpool(starting.hand_in, context, tenant, id, raw)


@router.get("/tenants/{tenant}/placement-runs/{id}/message", tags=["placement"], operation_id="get_placement_message")
def get_placement_message(context: Ctx, tenant: Tenant, id: RunId) -> Response:
    """Return the source of the message that is copied."""
    raw = runs.message_of(context, tenant, id)
    headers = {**NEVER_SHOWN, "Content-Disposition": f'attachment; filename="placement-{id}.eml"'}
    return Response(raw, media_type="message/rfc822", headers=headers)


@router.post("/tenants/{tenant}/placement-runs/{id}/cancel", tags=["placement"], operation_id="cancel_placement_run")
def cancel_placement_run(context: Ctx, tenant: Tenant, id: RunId) -> PlacementRun:
    """Stop a run: nothing more is sent or looked for."""
    return runs.cancel_run(context, tenant, id)


@router.delete(
    "/tenants/{tenant}/placement-runs/{id}", tags=["placement"], status_code=204, operation_id="delete_placement_run"
)
def delete_placement_run(context: Ctx, tenant: Tenant, id: RunId) -> None:
    """Delete a run with its copies."""
    runs.delete_run(context, tenant, id)


@router.get("/tenants/{tenant}/placement-runs/{id}/assay", tags=["placement"], operation_id="get_placement_assay")
def get_placement_assay(context: Ctx, tenant: Tenant, id: RunId) -> Assay:
    """Return the assay of the message, as the seeds get it. It is made within a minute of the start."""
    return examining.assay_of(context, tenant, id)


@router.get("/tenants/{tenant}/placement-runs/{id}/shares", tags=["placement"], operation_id="list_placement_shares")
def list_placement_shares(context: Ctx, tenant: Tenant, id: RunId) -> Page[Share]:
    """List the links to a run, newest first."""
    return Page(items=sharing.list_shares(context, tenant, id))


@router.post(
    "/tenants/{tenant}/placement-runs/{id}/shares",
    tags=["placement"],
    status_code=201,
    operation_id="add_placement_share",
)
def add_placement_share(context: Ctx, tenant: Tenant, principal: Asker, id: RunId, body: NewShare) -> MadeShare:
    """Make a link to a run that needs no account and shows this run only. Its address is in this answer only."""
    return sharing.add_share(context, tenant, id, body, principal.name)


@router.delete(
    "/tenants/{tenant}/placement-runs/{id}/shares/{share}",
    tags=["placement"],
    status_code=204,
    operation_id="delete_placement_share",
)
def delete_placement_share(context: Ctx, tenant: Tenant, id: RunId, share: ShareId) -> None:
    """Revoke a link: it opens nothing any more."""
    sharing.delete_share(context, tenant, id, share)


@router.get("/tenants/{tenant}/placement-schedules", tags=["placement"], operation_id="list_placement_schedules")
def list_placement_schedules(context: Ctx, tenant: Tenant) -> Page[Schedule]:
    """List the schedules, by name."""
    return Page(items=schedules.list_schedules(context, tenant))


@router.post(
    "/tenants/{tenant}/placement-schedules",
    tags=["placement"],
    status_code=201,
    operation_id="add_placement_schedule",
)
def add_placement_schedule(context: Ctx, tenant: Tenant, principal: Asker, body: NewSchedule) -> Schedule:
    """Add a schedule: runs at times, or after a change of records or of the message."""
    return schedules.add_schedule(context, tenant, body, principal.name)


@router.get("/tenants/{tenant}/placement-schedules/{name}", tags=["placement"], operation_id="get_placement_schedule")
def get_placement_schedule(context: Ctx, tenant: Tenant, name: ScheduleName) -> Schedule:
    """Return a schedule."""
    return schedules.get_schedule(context, tenant, name)


@router.patch(
    "/tenants/{tenant}/placement-schedules/{name}", tags=["placement"], operation_id="update_placement_schedule"
)
def update_placement_schedule(context: Ctx, tenant: Tenant, name: ScheduleName, body: ScheduleChange) -> Schedule:
    """Change a schedule, pause it or turn it on again."""
    return schedules.update_schedule(context, tenant, name, body)


@router.delete(
    "/tenants/{tenant}/placement-schedules/{name}",
    tags=["placement"],
    status_code=204,
    operation_id="delete_placement_schedule",
)
def delete_placement_schedule(context: Ctx, tenant: Tenant, name: ScheduleName) -> None:
    """Delete a schedule. Its runs stay."""
    schedules.delete_schedule(context, tenant, name)


@router.post(
    "/tenants/{tenant}/placement-schedules/{name}/copy",
    tags=["placement"],
    status_code=201,
    operation_id="copy_placement_schedule",
)
def copy_placement_schedule(
    context: Ctx, tenant: Tenant, principal: Asker, name: ScheduleName, body: ScheduleCopy
) -> Schedule:
    """Copy a schedule with its message. The copy is paused."""
    return schedules.copy_schedule(context, tenant, name, body.name, principal.name)


@router.post(
    "/tenants/{tenant}/placement-schedules/{name}/run",
    tags=["placement"],
    status_code=201,
    operation_id="run_placement_schedule",
)
def run_placement_schedule(context: Ctx, tenant: Tenant, principal: Asker, name: ScheduleName) -> PlacementRun:
    """Start a run of a schedule now; its next time stays."""
    return schedules.start_now(context, tenant, name, principal.name)


@router.put(
    "/tenants/{tenant}/placement-schedules/{name}/message",
    tags=["placement"],
    operation_id="put_placement_schedule_message",
)
async def put_placement_schedule_message(
    context: Ctx, tenant: Tenant, name: ScheduleName, request: Request
) -> Schedule:
    """Hand in the message that a schedule copies from now on: its complete source."""
    raw = await request.body()
    return await run_in_threadpool(schedules.hand_in, context, tenant, name, raw)


@router.get(
    "/tenants/{tenant}/placement-schedules/{name}/message",
    tags=["placement"],
    operation_id="get_placement_schedule_message",
)
def get_placement_schedule_message(context: Ctx, tenant: Tenant, name: ScheduleName) -> Response:
    """Return the source of the message that was handed in."""
    raw = schedules.message_of(context, tenant, name)
    headers = {**NEVER_SHOWN, "Content-Disposition": f'attachment; filename="{name}.eml"'}
    return Response(raw, media_type="message/rfc822", headers=headers)
