"""Calls of `client.worklist`."""

from collections.abc import Sequence
from datetime import date

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.worklist import (
    AlertSettings,
    LineRow,
    Member,
    Notification,
    Report,
    StreamPause,
    StreamPauseChange,
    WorkAct,
    WorkItem,
    WorkItemDetails,
)


def list_worklist(
    tenant: str | None, state: Sequence[str] | None, assigned_to: str | None, on: date | None
) -> Call[list[WorkItem]]:
    day = on and on.isoformat()
    return make_call("GET", "/worklist", list[WorkItem], tenant=tenant, state=state, assigned_to=assigned_to, on=day)


def get_work_item(tenant: str, id: int) -> Call[WorkItemDetails]:
    return make_call("GET", tenant_path(tenant, f"worklist/{id}"), WorkItemDetails)


def act_on_work_item(tenant: str, id: int, act: WorkAct) -> Call[WorkItemDetails]:
    return make_call("POST", tenant_path(tenant, f"worklist/{id}/actions"), WorkItemDetails, act)


def run_detection(tenant: str) -> Call[list[WorkItem]]:
    return repeatable(make_call("POST", tenant_path(tenant, "worklist/detection"), list[WorkItem]))


def list_lines(tenant: str) -> Call[list[LineRow]]:
    return make_call("GET", tenant_path(tenant, "lines"), list[LineRow])


def get_alert_settings(tenant: str) -> Call[AlertSettings]:
    return make_call("GET", tenant_path(tenant, "alert-settings"), AlertSettings)


def set_alert_settings(tenant: str, settings: AlertSettings) -> Call[AlertSettings]:
    return repeatable(make_call("PUT", tenant_path(tenant, "alert-settings"), AlertSettings, settings))


def get_report(tenant: str, days: int) -> Call[Report]:
    return make_call("GET", tenant_path(tenant, "reports"), Report, days=days)


def send_report(tenant: str, days: int) -> Call[None]:
    return make_call("POST", tenant_path(tenant, "reports"), type(None), days=days)


def list_members(tenant: str) -> Call[list[Member]]:
    return make_call("GET", tenant_path(tenant, "members"), list[Member])


def list_notifications(tenant: str) -> Call[list[Notification]]:
    return make_call("GET", tenant_path(tenant, "notifications"), list[Notification])


def list_stream_pauses(tenant: str) -> Call[list[StreamPause]]:
    return make_call("GET", tenant_path(tenant, "stream-pauses"), list[StreamPause])


def pause_stream(tenant: str, new: StreamPauseChange) -> Call[list[StreamPause]]:
    return repeatable(make_call("POST", tenant_path(tenant, "stream-pauses"), list[StreamPause], new))


def resume_stream(tenant: str, release: StreamPauseChange) -> Call[list[StreamPause]]:
    return make_call("POST", tenant_path(tenant, "stream-pauses/resume"), list[StreamPause], release)
