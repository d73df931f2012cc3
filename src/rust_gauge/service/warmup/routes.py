"""Warm-up plans under /api/v1."""

from typing import Annotated

from fastapi import Path, Query

from rust_gauge.contract.common import Day, Page
from rust_gauge.contract.warmup import (
    NewWarmupPlan,
    WarmupDays,
    WarmupOverrule,
    WarmupPlan,
    WarmupPlanChange,
    WarmupPreview,
    WarmupTiming,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.warmup import course, plans

router = api_router()
Name = Annotated[str, Path(max_length=40, description="Name of the plan")]
Bound = Annotated[Day | None, Query()]


@router.get("/tenants/{tenant}/warmup-plans", tags=["warmup"], operation_id="list_warmup_plans")
def list_warmup_plans(context: Ctx, tenant: Tenant) -> Page[WarmupPlan]:
    """List the warm-up plans with their ceilings of today and what was sent, by name."""
    return Page(items=plans.list_plans(context, tenant))


@router.post("/tenants/{tenant}/warmup-plans", tags=["warmup"], status_code=201, operation_id="add_warmup_plan")
def add_warmup_plan(context: Ctx, tenant: Tenant, principal: Asker, body: NewWarmupPlan) -> WarmupPlan:
    """Add a plan for a new domain, stream, relay or sending IP, or for a move to another relay."""
    return plans.add_plan(context, tenant, body, principal.name)


@router.post("/tenants/{tenant}/warmup-plans/preview", tags=["warmup"], operation_id="preview_warmup_plan")
def preview_warmup_plan(context: Ctx, tenant: Tenant, body: WarmupTiming) -> WarmupPreview:
    """Return the steps that settings would make. Nothing is stored."""
    return plans.preview(context, body)


@router.get("/tenants/{tenant}/warmup-plans/{name}", tags=["warmup"], operation_id="get_warmup_plan")
def get_warmup_plan(context: Ctx, tenant: Tenant, name: Name) -> WarmupPlan:
    """Return a plan: its steps, and where it is at each mailbox provider."""
    return plans.get_plan(context, tenant, name)


@router.patch("/tenants/{tenant}/warmup-plans/{name}", tags=["warmup"], operation_id="update_warmup_plan")
def update_warmup_plan(context: Ctx, tenant: Tenant, name: Name, body: WarmupPlanChange) -> WarmupPlan:
    """Change a plan, pause it or resume it."""
    return plans.update_plan(context, tenant, name, body)


@router.delete(
    "/tenants/{tenant}/warmup-plans/{name}", tags=["warmup"], status_code=204, operation_id="delete_warmup_plan"
)
def delete_warmup_plan(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Delete a plan with its course."""
    plans.delete_plan(context, tenant, name)


@router.post("/tenants/{tenant}/warmup-plans/{name}/overrule", tags=["warmup"], operation_id="overrule_warmup_plan")
def overrule_warmup_plan(
    context: Ctx, tenant: Tenant, principal: Asker, name: Name, body: WarmupOverrule
) -> WarmupPlan:
    """Set the step of one provider or of all from today on, with a reason. From tomorrow on the plan decides again."""
    return plans.overrule(context, tenant, name, body, principal.name)


@router.get("/tenants/{tenant}/warmup-plans/{name}/days", tags=["warmup"], operation_id="get_warmup_days")
def get_warmup_days(context: Ctx, tenant: Tenant, name: Name, first: Bound = None, last: Bound = None) -> WarmupDays:
    """Return the course of a plan: what each day allowed, what was sent, what came of it, and why it went on or not."""
    return course.course_of(context, tenant, name, first, last)
