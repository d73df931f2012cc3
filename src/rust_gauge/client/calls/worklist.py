"""Calls of `client.worklist`."""

from collections.abc import Sequence
from datetime import date

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.checklist import Checklist
from rust_gauge.contract.client_reports import (
    MadeReportShare,
    NewReportShare,
    Report,
    ReportShare,
    ReportStyle,
    ReportStyleShown,
)
from rust_gauge.contract.common import Page
from rust_gauge.contract.worklist import (
    AlertSettings,
    ChannelTest,
    ChannelTestRequest,
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


def list_worklist(
    tenant: str | None, state: Sequence[str] | None, assigned_to: str | None, on: date | None
) -> Call[Page[WorkItem]]:
    day = on and on.isoformat()
    return make_call("GET", "/worklist", Page[WorkItem], tenant=tenant, state=state, assigned_to=assigned_to, on=day)


def get_work_item(tenant: str, id: int) -> Call[WorkItemDetails]:
    return make_call("GET", tenant_path(tenant, f"worklist/{id}"), WorkItemDetails)


def act_on_work_item(tenant: str, id: int, act: WorkAct) -> Call[WorkItemDetails]:
    return make_call("POST", tenant_path(tenant, f"worklist/{id}/actions"), WorkItemDetails, act)


def act_on_work_items(tenant: str, ids: Sequence[int], act: WorkAct) -> Call[WorkActsDone]:
    acts = WorkActs(ids=list(ids), **act.model_dump())
    return make_call("POST", tenant_path(tenant, "worklist/actions"), WorkActsDone, acts)


def run_detection(tenant: str) -> Call[Page[WorkItem]]:
    return repeatable(make_call("POST", tenant_path(tenant, "worklist/detection"), Page[WorkItem]))


def list_lines(tenant: str) -> Call[Page[LineRow]]:
    return make_call("GET", tenant_path(tenant, "lines"), Page[LineRow])


def get_alert_settings(tenant: str) -> Call[AlertSettings]:
    return make_call("GET", tenant_path(tenant, "alert-settings"), AlertSettings)


def test_channel(tenant: str, channel: str) -> Call[ChannelTest]:
    return make_call("POST", tenant_path(tenant, "alert-tests"), ChannelTest, ChannelTestRequest(channel=channel))


def checklist(tenant: str) -> Call[Checklist]:
    return make_call("GET", tenant_path(tenant, "checklist"), Checklist)


def set_alert_settings(tenant: str, settings: AlertSettings) -> Call[AlertSettings]:
    return repeatable(make_call("PUT", tenant_path(tenant, "alert-settings"), AlertSettings, settings))


def get_report(tenant: str, days: int, last: date | None) -> Call[Report]:
    return make_call("GET", tenant_path(tenant, "reports"), Report, days=days, last=last)


def send_report(tenant: str, days: int, last: date | None) -> Call[None]:
    return make_call("POST", tenant_path(tenant, "reports"), type(None), days=days, last=last)


def get_report_style(tenant: str) -> Call[ReportStyleShown]:
    return make_call("GET", tenant_path(tenant, "report-style"), ReportStyleShown)


def set_report_style(tenant: str, style: ReportStyle) -> Call[ReportStyleShown]:
    return repeatable(make_call("PUT", tenant_path(tenant, "report-style"), ReportStyleShown, style))


def set_report_logo(tenant: str, octets: bytes) -> Call[ReportStyleShown]:
    path = f"/api/v1{tenant_path(tenant, 'report-logo')}"
    return Call("PUT", path, TypeAdapter(ReportStyleShown), {}, octets, "application/octet-stream", True)


def delete_report_logo(tenant: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, "report-logo"), type(None))


def list_report_shares(tenant: str) -> Call[Page[ReportShare]]:
    return make_call("GET", tenant_path(tenant, "report-shares"), Page[ReportShare])


def add_report_share(tenant: str, new: NewReportShare) -> Call[MadeReportShare]:
    return make_call("POST", tenant_path(tenant, "report-shares"), MadeReportShare, new)


def delete_report_share(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"report-shares/{id}"), type(None))


def list_notifications(tenant: str) -> Call[Page[Notification]]:
    return make_call("GET", tenant_path(tenant, "notifications"), Page[Notification])


def list_stream_pauses(tenant: str) -> Call[Page[StreamPause]]:
    return make_call("GET", tenant_path(tenant, "stream-pauses"), Page[StreamPause])


def pause_stream(tenant: str, new: StreamPauseChange) -> Call[Page[StreamPause]]:
    return repeatable(make_call("POST", tenant_path(tenant, "stream-pauses"), Page[StreamPause], new))


def resume_stream(tenant: str, release: StreamPauseChange) -> Call[Page[StreamPause]]:
    return make_call("POST", tenant_path(tenant, "stream-pauses/resume"), Page[StreamPause], release)
