"""The worklist, alerts, lines and brakes under /api/v1."""

from typing import Annotated

from fastapi import APIRouter, Path, Query

from rust_gauge.contract.common import Day
from rust_gauge.contract.worklist import (
    AlertSettings,
    Brake,
    BrakeRelease,
    ItemState,
    LineRow,
    Person,
    Report,
    Told,
    WorkAct,
    WorkItem,
    WorkItemDetails,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import problems
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.worklist import brakes, items, notifications, reports

router = APIRouter(prefix="/api/v1", responses=problems)


@router.get("/worklist", tags=["worklist"], operation_id="list_worklist")
def list_worklist(
    context: Ctx,
    principal: Asker,
    tenant: Annotated[str | None, Query(max_length=40, description="Only this tenant")] = None,
    state: Annotated[list[ItemState], Query(description="All that live and are not put off if none is named")] = [],  # noqa: B006
    assigned_to: Annotated[str | None, Query(max_length=254)] = None,
    on: Annotated[Day | None, Query(description="What lived on this day, whatever became of it; alone")] = None,
) -> list[WorkItem]:
    """What to do next, over all tenants that the asker may see, by mail at risk: how much, how bad, how soon."""
    chosen = tuple(allowed for allowed in principal.tenants if tenant in (None, allowed.slug))
    if tenant is not None and not chosen:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    if on is not None:
        return items.list_past(context, chosen, on)
    return items.list_items(context, chosen, tuple(state), assigned_to)


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.get("/tenants/{tenant}/worklist/{id}", tags=["worklist"], operation_id="get_work_item")
def get_work_item(context: Ctx, tenant: Tenant, id: Id) -> WorkItemDetails:
    """An item with all that happened to it."""
    return items.get_item(context, tenant, id)


@router.post("/tenants/{tenant}/worklist/{id}", tags=["worklist"], operation_id="act_on_work_item")
def act_on_work_item(context: Ctx, tenant: Tenant, principal: Asker, id: Id, body: WorkAct) -> WorkItemDetails:
    """Look after it, assign it, comment on it, put it off, or measure again: that closes it when it is mended."""
    return items.act(context, tenant, id, body, principal.email)


@router.post("/tenants/{tenant}/worklist-look", tags=["worklist"], operation_id="look_for_work")
def look_for_work(context: Ctx, tenant: Tenant) -> list[WorkItem]:
    """Look for trouble now instead of in some minutes; gives what lives."""
    items.look(context, tenant)
    return items.list_items(context, (tenant,), ("waiting", "open", "minded", "put_off"), None)


@router.get("/tenants/{tenant}/people", tags=["worklist"], operation_id="list_people")
def list_people(context: Ctx, tenant: Tenant) -> list[Person]:
    """Who may see this tenant, and be given its items."""
    return items.list_people(context, tenant)


@router.get("/tenants/{tenant}/lines", tags=["worklist"], operation_id="list_lines")
def list_lines(context: Ctx, tenant: Tenant) -> list[LineRow]:
    """Bounce and complaint rates of relays, streams, domains and providers against their watch and stop lines."""
    return items.show_lines(context, tenant)


@router.get("/tenants/{tenant}/alert-settings", tags=["worklist"], operation_id="get_alert_settings")
def get_alert_settings(context: Ctx, tenant: Tenant) -> AlertSettings:
    """Who is told of what, how soon and how often, and whether clearance brakes by itself."""
    return items.get_settings(context, tenant)


@router.put("/tenants/{tenant}/alert-settings", tags=["worklist"], operation_id="put_alert_settings")
def put_alert_settings(context: Ctx, tenant: Tenant, body: AlertSettings) -> AlertSettings:
    """Replace them."""
    return items.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/reports", tags=["worklist"], operation_id="make_report")
def make_report(context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=90)] = 7) -> Report:
    """The report of the last days beside as many before them, to read or to keep."""
    return reports.make_report(context, tenant, days)


@router.post("/tenants/{tenant}/reports", tags=["worklist"], status_code=204, operation_id="send_report")
def send_report(context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=90)] = 7) -> None:
    """Send the report now to the people of the alert settings."""
    to = items.get_settings(context, tenant).report_to
    if not to:
        raise ServiceProblem(
            "invalid-request", "Nobody is to get a report", remedy="Set report_to in the alert settings"
        )
    reports.send_report(context, tenant, to, days)


@router.get("/tenants/{tenant}/told", tags=["worklist"], operation_id="list_told")
def list_told(context: Ctx, tenant: Tenant) -> list[Told]:
    """The newest messages to people, and what became of them."""
    return notifications.list_told(context, tenant)


@router.get("/tenants/{tenant}/brakes", tags=["worklist"], operation_id="list_brakes")
def list_brakes(context: Ctx, tenant: Tenant) -> list[Brake]:
    """Streams over relays that clearance holds as a whole."""
    return brakes.list_brakes(context, tenant)


@router.post("/tenants/{tenant}/brakes", tags=["worklist"], operation_id="put_brake")
def put_brake(context: Ctx, tenant: Tenant, principal: Asker, body: BrakeRelease) -> list[Brake]:
    """Hold a stream over a relay by hand (an empty relay: over any)."""
    return brakes.put_brake(context, tenant, body, principal.email)


@router.post("/tenants/{tenant}/brakes/releases", tags=["worklist"], operation_id="release_brake")
def release_brake(context: Ctx, tenant: Tenant, principal: Asker, body: BrakeRelease) -> list[Brake]:
    """Let a stream over a relay go on, with a reason."""
    return brakes.release_brake(context, tenant, body, principal.email)
