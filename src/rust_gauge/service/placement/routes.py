"""Placement under /api/v1: seeds, outlets and runs."""

from datetime import date
from typing import Annotated

from fastapi import Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.common import Page
from rust_gauge.contract.placement import (
    NewOutlet,
    NewRun,
    NewSeed,
    Outlet,
    OutletChange,
    PlacementHistory,
    PlacementRun,
    RunSummary,
    Seed,
    SeedChange,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import NEVER_SHOWN, Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.placement import history, outlets, runs, seeds

router = api_router()
Name = Annotated[str, Path(max_length=40, description="Name of the outlet")]
SeedId = Annotated[int, Path(ge=1, lt=2**32, description="Number of the seed")]
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
    return runs.start_run(context, tenant, body, principal.name)


@router.get("/tenants/{tenant}/placement-runs/{id}", tags=["placement"], operation_id="get_placement_run")
def get_placement_run(context: Ctx, tenant: Tenant, id: RunId) -> PlacementRun:
    """Return a run with its copies."""
    return runs.get_run(context, tenant, id)


@router.put("/tenants/{tenant}/placement-runs/{id}/message", tags=["placement"], operation_id="put_placement_message")
async def put_placement_message(context: Ctx, tenant: Tenant, id: RunId, request: Request) -> PlacementRun:
    """Hand in the message that a run awaits: its complete source. Copies are sent from now on."""
    raw = await request.body()
    return await run_in_threadpool(runs.hand_in, context, tenant, id, raw)


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
