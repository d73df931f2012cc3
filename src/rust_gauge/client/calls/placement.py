"""Calls of `client.placement`."""

from datetime import date
from urllib.parse import quote

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, tenant_path
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


def list_seeds(tenant: str) -> Call[Page[Seed]]:
    return make_call("GET", tenant_path(tenant, "seeds"), Page[Seed])


def add_seed(tenant: str, new: NewSeed) -> Call[Seed]:
    return make_call("POST", tenant_path(tenant, "seeds"), Seed, new)


def get_seed(tenant: str, id: int) -> Call[Seed]:
    return make_call("GET", tenant_path(tenant, f"seeds/{id}"), Seed)


def update_seed(tenant: str, id: int, change: SeedChange) -> Call[Seed]:
    return make_call("PATCH", tenant_path(tenant, f"seeds/{id}"), Seed, change)


def delete_seed(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"seeds/{id}"), type(None))


def check_seed(tenant: str, id: int) -> Call[Seed]:
    return make_call("POST", tenant_path(tenant, f"seeds/{id}/check"), Seed)


def _outlet(name: str, rest: str = "") -> str:
    return f"outlets/{quote(name, safe='')}{rest}"


def list_outlets(tenant: str) -> Call[Page[Outlet]]:
    return make_call("GET", tenant_path(tenant, "outlets"), Page[Outlet])


def add_outlet(tenant: str, new: NewOutlet) -> Call[Outlet]:
    return make_call("POST", tenant_path(tenant, "outlets"), Outlet, new)


def get_outlet(tenant: str, name: str) -> Call[Outlet]:
    return make_call("GET", tenant_path(tenant, _outlet(name)), Outlet)


def update_outlet(tenant: str, name: str, change: OutletChange) -> Call[Outlet]:
    return make_call("PATCH", tenant_path(tenant, _outlet(name)), Outlet, change)


def delete_outlet(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, _outlet(name)), type(None))


def check_outlet(tenant: str, name: str) -> Call[Outlet]:
    return make_call("POST", tenant_path(tenant, _outlet(name, "/check")), Outlet)


def list_runs(tenant: str, cursor: str | None) -> Call[Page[RunSummary]]:
    return make_call("GET", tenant_path(tenant, "placement-runs"), Page[RunSummary], cursor=cursor)


def get_history(tenant: str, last: date | None, days: int, outlet: str) -> Call[PlacementHistory]:
    return make_call(
        "GET", tenant_path(tenant, "placement-history"), PlacementHistory, last=last, days=days, outlet=outlet or None
    )


def start_run(tenant: str, new: NewRun) -> Call[PlacementRun]:
    return make_call("POST", tenant_path(tenant, "placement-runs"), PlacementRun, new)


def get_run(tenant: str, id: int) -> Call[PlacementRun]:
    return make_call("GET", tenant_path(tenant, f"placement-runs/{id}"), PlacementRun)


def put_message(tenant: str, id: int, raw: bytes) -> Call[PlacementRun]:
    path = f"/api/v1{tenant_path(tenant, f'placement-runs/{id}/message')}"
    return Call("PUT", path, TypeAdapter(PlacementRun), {}, raw, "message/rfc822", False)


def cancel_run(tenant: str, id: int) -> Call[PlacementRun]:
    return make_call("POST", tenant_path(tenant, f"placement-runs/{id}/cancel"), PlacementRun)


def delete_run(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"placement-runs/{id}"), type(None))


def get_assay(tenant: str, id: int) -> Call[Assay]:
    return make_call("GET", tenant_path(tenant, f"placement-runs/{id}/assay"), Assay)


def list_shares(tenant: str, id: int) -> Call[Page[Share]]:
    return make_call("GET", tenant_path(tenant, f"placement-runs/{id}/shares"), Page[Share])


def add_share(tenant: str, id: int, new: NewShare) -> Call[MadeShare]:
    return make_call("POST", tenant_path(tenant, f"placement-runs/{id}/shares"), MadeShare, new)


def delete_share(tenant: str, id: int, share: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"placement-runs/{id}/shares/{share}"), type(None))


def _schedule(name: str, rest: str = "") -> str:
    return f"placement-schedules/{quote(name, safe='')}{rest}"


def list_schedules(tenant: str) -> Call[Page[Schedule]]:
    return make_call("GET", tenant_path(tenant, "placement-schedules"), Page[Schedule])


def add_schedule(tenant: str, new: NewSchedule) -> Call[Schedule]:
    return make_call("POST", tenant_path(tenant, "placement-schedules"), Schedule, new)


def get_schedule(tenant: str, name: str) -> Call[Schedule]:
    return make_call("GET", tenant_path(tenant, _schedule(name)), Schedule)


def update_schedule(tenant: str, name: str, change: ScheduleChange) -> Call[Schedule]:
    return make_call("PATCH", tenant_path(tenant, _schedule(name)), Schedule, change)


def delete_schedule(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, _schedule(name)), type(None))


def copy_schedule(tenant: str, name: str, copy: ScheduleCopy) -> Call[Schedule]:
    return make_call("POST", tenant_path(tenant, _schedule(name, "/copy")), Schedule, copy)


def run_schedule(tenant: str, name: str) -> Call[PlacementRun]:
    return make_call("POST", tenant_path(tenant, _schedule(name, "/run")), PlacementRun)


def put_schedule_message(tenant: str, name: str, raw: bytes) -> Call[Schedule]:
    path = f"/api/v1{tenant_path(tenant, _schedule(name, '/message'))}"
    return Call("PUT", path, TypeAdapter(Schedule), {}, raw, "message/rfc822", False)
