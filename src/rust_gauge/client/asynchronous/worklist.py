"""`client.worklist`: what to do next, alerts, lines and stream pauses."""

import builtins
from collections.abc import Sequence
from datetime import date

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import worklist as calls
from rust_gauge.contract.checklist import Checklist
from rust_gauge.contract.client_reports import (
    MadeReportShare,
    NewReportShare,
    Report,
    ReportShare,
    ReportStyle,
    ReportStyleShown,
)
from rust_gauge.contract.worklist import (
    AlertSettings,
    ChannelTest,
    LineRow,
    Notification,
    StreamPause,
    StreamPauseChange,
    WorkAct,
    WorkActsDone,
    WorkItem,
    WorkItemDetails,
)


class Worklist(Part):
    """The worklist, alerts, lines and stream pauses."""

    async def list(
        self,
        *,
        tenant: str | None = None,
        state: Sequence[str] | None = None,
        assigned_to: str | None = None,
        on: date | None = None,
    ) -> list[WorkItem]:
        """Yield open items, of all tenants unless one is named; snoozed and resolved ones only by their states.

        `on`: what was open on that day instead, whatever happened to it since.
        """
        return (await self._client.send(calls.list_worklist(tenant, state, assigned_to, on))).items

    async def get(self, tenant: str, id: int) -> WorkItemDetails:
        """Return an item with its history. NotFoundError."""
        return await self._client.send(calls.get_work_item(tenant, id))

    async def act(self, tenant: str, id: int, act: WorkAct) -> WorkItemDetails:
        """Acknowledge, assign, comment on, snooze, re-check or reopen an item, or undo your last action on it."""
        return await self._client.send(calls.act_on_work_item(tenant, id, act))

    async def act_on_all(self, tenant: str, ids: Sequence[int], act: WorkAct) -> WorkActsDone:
        """Apply one action to up to 500 items. Those that it cannot be applied to are in `problems`."""
        return await self._client.send(calls.act_on_work_items(tenant, ids, act))

    async def detect(self, tenant: str) -> builtins.list[WorkItem]:
        """Detect problems now, and return the open items."""
        return (await self._client.send(calls.run_detection(tenant))).items

    async def lines(self, tenant: str) -> builtins.list[LineRow]:
        """Return rates compared with their lines."""
        return (await self._client.send(calls.list_lines(tenant))).items

    async def settings(self, tenant: str) -> AlertSettings:
        """Return who is notified of what, how soon and how often."""
        return await self._client.send(calls.get_alert_settings(tenant))

    async def set_settings(self, tenant: str, settings: AlertSettings) -> AlertSettings:
        """Replace the alert settings."""
        return await self._client.send(calls.set_alert_settings(tenant, settings))

    async def test_channel(self, tenant: str, channel: str) -> ChannelTest:
        """Send a test to an alert channel now; return what came of it."""
        return await self._client.send(calls.test_channel(tenant, channel))

    async def checklist(self, tenant: str) -> Checklist:
        """Return what is set up of a tenant, and what is next."""
        return await self._client.send(calls.checklist(tenant))

    async def report(self, tenant: str, *, days: int = 7, last: date | None = None) -> Report:
        """Return the report of a period: its values, its text, and a self-contained HTML page."""
        return await self._client.send(calls.get_report(tenant, days, last))

    async def send_report(self, tenant: str, *, days: int = 7, last: date | None = None) -> None:
        """Send the report of a period now to the people in the alert settings."""
        await self._client.send(calls.send_report(tenant, days, last))

    async def report_style(self, tenant: str) -> ReportStyleShown:
        """Return the look of the tenant's reports."""
        return await self._client.send(calls.get_report_style(tenant))

    async def set_report_style(self, tenant: str, style: ReportStyle) -> ReportStyleShown:
        """Replace the look of the tenant's reports; the logo stays."""
        return await self._client.send(calls.set_report_style(tenant, style))

    async def set_report_logo(self, tenant: str, octets: bytes) -> ReportStyleShown:
        """Upload a logo: a PNG or JPEG picture of at most 512 KiB."""
        return await self._client.send(calls.set_report_logo(tenant, octets))

    async def delete_report_logo(self, tenant: str) -> None:
        """Delete the logo."""
        await self._client.send(calls.delete_report_logo(tenant))

    async def report_shares(self, tenant: str) -> builtins.list[ReportShare]:
        """Return the links that share a report, newest first."""
        return (await self._client.send(calls.list_report_shares(tenant))).items

    async def add_report_share(self, tenant: str, new: NewReportShare) -> MadeReportShare:
        """Share the report of a period by a link that needs no account. Its address is returned only now."""
        return await self._client.send(calls.add_report_share(tenant, new))

    async def delete_report_share(self, tenant: str, id: int) -> None:
        """Revoke a link."""
        await self._client.send(calls.delete_report_share(tenant, id))

    async def notifications(self, tenant: str) -> builtins.list[Notification]:
        """Return the latest notifications and their delivery."""
        return (await self._client.send(calls.list_notifications(tenant))).items

    async def pauses(self, tenant: str) -> builtins.list[StreamPause]:
        """Return the streams that clearance holds as a whole, by relay."""
        return (await self._client.send(calls.list_stream_pauses(tenant))).items

    async def pause_stream(self, tenant: str, new: StreamPauseChange) -> builtins.list[StreamPause]:
        """Pause a stream over a relay."""
        return (await self._client.send(calls.pause_stream(tenant, new))).items

    async def resume_stream(self, tenant: str, release: StreamPauseChange) -> builtins.list[StreamPause]:
        """Resume it, with a reason."""
        return (await self._client.send(calls.resume_stream(tenant, release))).items
