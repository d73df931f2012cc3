"""Calls of `client.warmup`."""

from datetime import date
from urllib.parse import quote

from rust_gauge.client.calls.call import Call, make_call, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.jobs import Job
from rust_gauge.contract.warmup import (
    ListCutRequest,
    NewWarmupPlan,
    WarmupDays,
    WarmupOverrule,
    WarmupPlan,
    WarmupPlanChange,
    WarmupPreview,
    WarmupTiming,
)


def _plan(tenant: str, name: str, rest: str = "") -> str:
    return tenant_path(tenant, f"warmup-plans/{quote(name, safe='')}{rest}")


def list_plans(tenant: str) -> Call[Page[WarmupPlan]]:
    return make_call("GET", tenant_path(tenant, "warmup-plans"), Page[WarmupPlan])


def add_plan(tenant: str, new: NewWarmupPlan) -> Call[WarmupPlan]:
    return make_call("POST", tenant_path(tenant, "warmup-plans"), WarmupPlan, new)


def preview_plan(tenant: str, settings: WarmupTiming) -> Call[WarmupPreview]:
    return make_call("POST", tenant_path(tenant, "warmup-plans/preview"), WarmupPreview, settings)


def get_plan(tenant: str, name: str) -> Call[WarmupPlan]:
    return make_call("GET", _plan(tenant, name), WarmupPlan)


def update_plan(tenant: str, name: str, change: WarmupPlanChange) -> Call[WarmupPlan]:
    return make_call("PATCH", _plan(tenant, name), WarmupPlan, change)


def delete_plan(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", _plan(tenant, name), type(None))


def overrule_plan(tenant: str, name: str, body: WarmupOverrule) -> Call[WarmupPlan]:
    return make_call("POST", _plan(tenant, name, "/overrule"), WarmupPlan, body)


def get_days(tenant: str, name: str, first: date | None, last: date | None) -> Call[WarmupDays]:
    return make_call("GET", _plan(tenant, name, "/days"), WarmupDays, first=first, last=last)


def start_cut(tenant: str, request: ListCutRequest) -> Call[Job]:
    return make_call("POST", tenant_path(tenant, "list-cuts"), Job, request)
