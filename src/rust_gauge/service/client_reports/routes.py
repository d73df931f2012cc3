"""Client reports under /api/v1: the report of a period, its look, and links that share one."""

from typing import Annotated

from fastapi import Path, Query, Request
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.client_reports import (
    MadeReportShare,
    NewReportShare,
    Report,
    ReportShare,
    ReportStyle,
    ReportStyleShown,
)
from rust_gauge.contract.common import Day, Page
from rust_gauge.service.client_reports import mailing, report, sharing, styles
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.routing import api_router

router = api_router()
ReportDays = Annotated[int, Query(ge=1, le=90)]
LastDay = Annotated[Day | None, Query(description="Last day, UTC; default: today")]
ShareId = Annotated[int, Path(ge=1, le=2**32 - 1)]


@router.get("/tenants/{tenant}/reports", tags=["worklist"], operation_id="get_report")
def get_report(context: Ctx, tenant: Tenant, days: ReportDays = 7, last: LastDay = None) -> Report:
    """Return the report: a period of days, and as many before it."""
    return report.get_report(context, tenant, days, last)


@router.post("/tenants/{tenant}/reports", tags=["worklist"], status_code=204, operation_id="send_report")
def send_report(context: Ctx, tenant: Tenant, days: ReportDays = 7, last: LastDay = None) -> None:
    """Send the report now to the people in the alert settings."""
    mailing.send_now(context, tenant, days, last)


@router.get("/tenants/{tenant}/report-style", tags=["worklist"], operation_id="get_report_style")
def get_report_style(context: Ctx, tenant: Tenant) -> ReportStyleShown:
    """Return the look of the tenant's reports."""
    return styles.get_style(context, tenant)


@router.put("/tenants/{tenant}/report-style", tags=["worklist"], operation_id="set_report_style")
def set_report_style(context: Ctx, tenant: Tenant, body: ReportStyle) -> ReportStyleShown:
    """Replace the look of the tenant's reports. The logo has a route of its own and stays."""
    return styles.put_style(context, tenant, body)


@router.put("/tenants/{tenant}/report-logo", tags=["worklist"], operation_id="set_report_logo")
async def set_report_logo(context: Ctx, tenant: Tenant, request: Request) -> ReportStyleShown:
    """Upload a logo, PNG or JPEG, of at most 512 KiB. It is stored as a PNG of at most 480 × 144 pixels."""
    octets = await request.body()
    return await run_in_threadpool(styles.put_logo, context, tenant, octets)


@router.delete("/tenants/{tenant}/report-logo", tags=["worklist"], status_code=204, operation_id="delete_report_logo")
def delete_report_logo(context: Ctx, tenant: Tenant) -> None:
    """Delete the logo. Reports show the name of their sender instead."""
    styles.delete_logo(context, tenant)


@router.get("/tenants/{tenant}/report-shares", tags=["worklist"], operation_id="list_report_shares")
def list_report_shares(context: Ctx, tenant: Tenant) -> Page[ReportShare]:
    """List the links that share a report, newest first. Their addresses are not stored and cannot be shown again."""
    return Page(items=sharing.list_shares(context, tenant))


@router.post("/tenants/{tenant}/report-shares", tags=["worklist"], status_code=201, operation_id="add_report_share")
def add_report_share(context: Ctx, tenant: Tenant, principal: Asker, body: NewReportShare) -> MadeReportShare:
    """Share the report of a period by a link that needs no account. The report stays as it is now."""
    return sharing.add_share(context, tenant, body, principal.name)


@router.delete(
    "/tenants/{tenant}/report-shares/{share}", tags=["worklist"], status_code=204, operation_id="delete_report_share"
)
def delete_report_share(context: Ctx, tenant: Tenant, share: ShareId) -> None:
    """Revoke a link: it opens nothing any more."""
    sharing.delete_share(context, tenant, share)
