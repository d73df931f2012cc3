"""The worklist, alerts, lines and stream pauses under /api/v1."""

from typing import Annotated

from fastapi import Path, Query

from rust_gauge.contract.common import Day, Page
from rust_gauge.contract.worklist import (
    AlertSettings,
    ChannelTest,
    ChannelTestRequest,
    ItemState,
    LineRow,
    Notification,
    StreamPause,
    StreamPauseChange,
    WorkAct,
    WorkActs,
    WorkActsDone,
    WorkItem,
    WorkItemDetails,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.worklist import channel_tests, items, notifications, pauses

router = api_router()


@router.get("/worklist", tags=["worklist"], operation_id="list_worklist")
def list_worklist(
    context: Ctx,
    principal: Asker,
    tenant: Annotated[str | None, Query(max_length=40, description="Only this tenant")] = None,
    state: Annotated[list[ItemState], Query(description="Default: everything open that is not snoozed")] = [],  # noqa: B006
    assigned_to: Annotated[str | None, Query(max_length=254)] = None,
    on: Annotated[Day | None, Query(description="Items that were open on this day; cannot be combined")] = None,
) -> Page[WorkItem]:
    """List open items over all tenants that you can see, by mail at risk: how much mail, how bad, how soon."""
    chosen = tuple(allowed for allowed in principal.tenants if tenant in (None, allowed.slug))
    if tenant is not None and not chosen:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    if on is not None:
        return Page(items=items.list_past(context, chosen, on))
    return Page(items=items.list_items(context, chosen, tuple(state), assigned_to))


Id = Annotated[int, Path(ge=1, le=2**63)]


@router.get("/tenants/{tenant}/worklist/{id}", tags=["worklist"], operation_id="get_work_item")
def get_work_item(context: Ctx, tenant: Tenant, id: Id) -> WorkItemDetails:
    """Return an item with its history."""
    return items.get_item(context, tenant, id)


@router.post("/tenants/{tenant}/worklist/{id}/actions", tags=["worklist"], operation_id="act_on_work_item")
def act_on_work_item(context: Ctx, tenant: Tenant, principal: Asker, id: Id, body: WorkAct) -> WorkItemDetails:
    """Acknowledge, assign, comment on, snooze, re-check or reopen an item, or undo what you did with it last.

    A re-check resolves it if the problem is gone.
    """
    return items.act(context, tenant, id, body, principal.email)


@router.post("/tenants/{tenant}/worklist/actions", tags=["worklist"], operation_id="act_on_work_items")
def act_on_work_items(context: Ctx, tenant: Tenant, principal: Asker, body: WorkActs) -> WorkActsDone:
    """Apply one action to several items. Items that it cannot be applied to are named; the others are changed."""
    return items.act_on_all(context, tenant, body, principal.email)


@router.post("/tenants/{tenant}/worklist/detection", tags=["worklist"], operation_id="run_detection")
def run_detection(context: Ctx, tenant: Tenant) -> Page[WorkItem]:
    """Detect problems now instead of at the next scheduled time, and return the open items."""
    items.detect(context, tenant)
    return Page(items=items.list_items(context, (tenant,), ("waiting", "open", "acknowledged", "snoozed"), None))


@router.get("/tenants/{tenant}/lines", tags=["worklist"], operation_id="list_lines")
def list_lines(context: Ctx, tenant: Tenant) -> Page[LineRow]:
    """Compare bounce and complaint rates of relays, streams, domains and providers with their watch and stop lines."""
    return Page(items=items.show_lines(context, tenant))


@router.get("/tenants/{tenant}/alert-settings", tags=["worklist"], operation_id="get_alert_settings")
def get_alert_settings(context: Ctx, tenant: Tenant) -> AlertSettings:
    """Return the alert settings: channels, delays, repetition, and whether streams are paused automatically."""
    return items.get_settings(context, tenant)


@router.post("/tenants/{tenant}/alert-tests", tags=["worklist"], operation_id="test_alert_channel")
def test_alert_channel(context: Ctx, tenant: Tenant, body: ChannelTestRequest) -> ChannelTest:
    """Send a test message to an alert channel now, and return what came of it."""
    return channel_tests.test_channel(context, tenant, body.channel)


@router.put("/tenants/{tenant}/alert-settings", tags=["worklist"], operation_id="set_alert_settings")
def set_alert_settings(context: Ctx, tenant: Tenant, body: AlertSettings) -> AlertSettings:
    """Replace the alert settings."""
    return items.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/notifications", tags=["worklist"], operation_id="list_notifications")
def list_notifications(context: Ctx, tenant: Tenant) -> Page[Notification]:
    """List the latest notifications and whether they were delivered."""
    return Page(items=notifications.list_notifications(context, tenant))


@router.get("/tenants/{tenant}/stream-pauses", tags=["worklist"], operation_id="list_stream_pauses")
def list_stream_pauses(context: Ctx, tenant: Tenant) -> Page[StreamPause]:
    """List streams that clearance holds as a whole, by relay."""
    return Page(items=pauses.list_stream_pauses(context, tenant))


@router.post("/tenants/{tenant}/stream-pauses", tags=["worklist"], operation_id="pause_stream")
def pause_stream(context: Ctx, tenant: Tenant, principal: Asker, body: StreamPauseChange) -> Page[StreamPause]:
    """Pause a stream over one relay, or over all relays if `relay` is empty."""
    return Page(items=pauses.pause_stream(context, tenant, body, principal.email))


@router.post("/tenants/{tenant}/stream-pauses/resume", tags=["worklist"], operation_id="resume_stream")
def resume_stream(context: Ctx, tenant: Tenant, principal: Asker, body: StreamPauseChange) -> Page[StreamPause]:
    """Resume a stream over a relay, with a reason."""
    return Page(items=pauses.resume_stream(context, tenant, body, principal.email))
