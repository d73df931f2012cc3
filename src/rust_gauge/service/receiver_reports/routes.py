"""Receivers' reports under /api/v1: taking them in, who sends as a domain, policies tried on past reports."""

from typing import Annotated

from fastapi import Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.common import Day, Page
from rust_gauge.contract.jobs import Job, ReportFilesRequest
from rust_gauge.contract.receiver_reports import (
    PathAdvance,
    PathSettings,
    PolicyPath,
    Receiver,
    Rehearsal,
    RehearsalPolicy,
    RejectedReport,
    ReportDetails,
    ReportedDomain,
    ReportKind,
    ReportReplay,
    ReportRetention,
    ReportSummary,
    Source,
    SourceClaim,
    SourceDecision,
    SourceDetails,
    SourceOverview,
    StoredReport,
    StreamAlignment,
    TlsOverview,
)
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.receiver_reports import files, paths, rehearsal, reports, sources, storing, streams, tls

router = api_router()
Id = Annotated[int, Path(ge=1)]
Name = Annotated[str, Path(max_length=1000, description="A domain name")]
SourceName = Annotated[str, Query(max_length=255, description="Name of the source, as listed")]
Days = Annotated[int, Query(ge=1, le=400, description="Length of the period")]
LastDay = Annotated[Day | None, Query(description="Last day; default: today")]


@router.post("/tenants/{tenant}/receiver-reports", tags=["reports"], operation_id="add_receiver_report")
async def add_receiver_report(context: Ctx, tenant: Tenant, request: Request) -> StoredReport:
    """Store a report of a receiver: DMARC aggregate (RFC 7489), failure (RFC 6591) or TLS (RFC 8460); XML or JSON,
    gzip, zip, or the message that carried it. Safe to repeat. One that is not read is set aside with the reason.
    """
    body = await request.body()
    return await run_in_threadpool(storing.store_report, context, tenant.id, body, "upload")


@router.post(
    "/tenants/{tenant}/report-files", tags=["reports"], status_code=201, operation_id="start_report_files"
)  # fmt: skip
def start_report_files(context: Ctx, tenant: Tenant, principal: Asker, body: ReportFilesRequest) -> Job:
    """Start storing the reports of a file: a zip or tar archive of many, or one that is large. Upload it in pieces to
    the job, then run it.
    """
    return files.start(context, tenant, body.name, principal.email)


@router.get("/tenants/{tenant}/receiver-reports", tags=["reports"], operation_id="list_receiver_reports")
def list_receiver_reports(
    context: Ctx,
    tenant: Tenant,
    domain: Annotated[str, Query(max_length=253, description="About this domain")] = "",
    kind: Annotated[ReportKind | None, Query()] = None,
    receiver: Annotated[str, Query(max_length=200, description="From this receiver")] = "",
    ours: Annotated[bool | None, Query(description="About domains of the tenant, or about others")] = None,
    cursor: Cursor = None,
    limit: Limit = 100,
) -> Page[ReportSummary]:
    """List stored reports, newest first."""
    return reports.list_reports(
        context, tenant, cursor, limit, domain=domain, kind=kind or "", receiver=receiver, ours=ours
    )


@router.get("/tenants/{tenant}/receiver-reports/rejected", tags=["reports"], operation_id="list_rejected_reports")
def list_rejected_reports(
    context: Ctx, tenant: Tenant, cursor: Cursor = None, limit: Limit = 100
) -> Page[RejectedReport]:
    """List reports that were set aside, newest first, each with its reason."""
    return reports.list_rejected(context, tenant, cursor, limit)


@router.post("/tenants/{tenant}/receiver-reports/rejected/replay", tags=["reports"], operation_id="replay_reports")
def replay_reports(
    context: Ctx, tenant: Tenant, id: Annotated[int | None, Query(ge=1, description="Only this report")] = None
) -> ReportReplay:
    """Read rejected reports again, the newest 200 or one."""
    return reports.replay(context, tenant, id)


@router.delete(
    "/tenants/{tenant}/receiver-reports/rejected/{id}", tags=["reports"], status_code=204,
    operation_id="delete_rejected_report",
)  # fmt: skip
def delete_rejected_report(context: Ctx, tenant: Tenant, id: Id) -> None:
    """Delete a rejected report."""
    reports.delete_rejected(context, tenant, id)


@router.get("/tenants/{tenant}/receivers", tags=["reports"], operation_id="list_receivers")
def list_receivers(context: Ctx, tenant: Tenant, days: Days = 30) -> Page[Receiver]:
    """List receivers that report, and those that stopped."""
    return Page(items=reports.list_receivers(context, tenant, days))


@router.get("/tenants/{tenant}/reported-domains", tags=["reports"], operation_id="list_reported_domains")
def list_reported_domains(context: Ctx, tenant: Tenant, days: Days = 30, last: LastDay = None) -> Page[ReportedDomain]:
    """List domains that receivers reported about, with their mail by whose it is."""
    return Page(items=sources.list_domains(context, tenant, days, last))


@router.get("/tenants/{tenant}/receiver-reports/{id}", tags=["reports"], operation_id="get_receiver_report")
def get_receiver_report(context: Ctx, tenant: Tenant, id: Id) -> ReportDetails:
    """Return a report with its rows."""
    return reports.get_report(context, tenant, id)


@router.get("/tenants/{tenant}/receiver-reports/{id}/original", tags=["reports"], operation_id="get_report_original")
def get_report_original(context: Ctx, tenant: Tenant, id: Id) -> Response:
    """Return a report as it came."""
    octets = reports.get_original(context, tenant, id)
    headers = {"content-disposition": f'attachment; filename="report-{id}"', "x-content-type-options": "nosniff"}
    return Response(octets, media_type="application/octet-stream", headers=headers)


@router.delete(
    "/tenants/{tenant}/receiver-reports/{id}", tags=["reports"], status_code=204,
    operation_id="delete_receiver_report",
)  # fmt: skip
def delete_receiver_report(context: Ctx, tenant: Tenant, id: Id) -> None:
    """Delete a report, its rows, and what they count in sums."""
    reports.delete_report(context, tenant, id)


@router.get("/tenants/{tenant}/report-retention", tags=["reports"], operation_id="get_report_retention")
def get_report_retention(context: Ctx, tenant: Tenant) -> ReportRetention:
    """Return how long reports are kept."""
    return reports.get_retention(context, tenant)


@router.put("/tenants/{tenant}/report-retention", tags=["reports"], operation_id="set_report_retention")
def set_report_retention(context: Ctx, tenant: Tenant, body: ReportRetention) -> ReportRetention:
    """Set how long reports are kept. What is older is deleted within the hour."""
    return reports.put_retention(context, tenant, body)


@router.get("/tenants/{tenant}/domains/{name}/sources", tags=["reports"], operation_id="get_source_overview")
def get_source_overview(
    context: Ctx, tenant: Tenant, name: Name, days: Days = 30, last: LastDay = None
) -> SourceOverview:
    """Return who sends as a domain, by what receivers reported: sources, days, unknown subdomains."""
    return sources.get_overview(context, tenant, name, days, last)


@router.get("/tenants/{tenant}/domains/{name}/source", tags=["reports"], operation_id="get_source")
def get_source(
    context: Ctx, tenant: Tenant, name: Name, source: SourceName, days: Days = 90, last: LastDay = None
) -> SourceDetails:
    """Return one source with its addresses, days and identities."""
    return sources.get_source(context, tenant, name, source, days, last)


@router.get("/tenants/{tenant}/domains/{name}/stream-alignment", tags=["reports"], operation_id="get_stream_alignment")
def get_stream_alignment(
    context: Ctx, tenant: Tenant, name: Name, days: Days = 30, last: LastDay = None
) -> StreamAlignment:
    """Return which streams of a domain are not aligned, at which receivers, since when, and what changed then."""
    return streams.get_streams(context, tenant, name, days, last)


@router.post("/tenants/{tenant}/domains/{name}/source/claim", tags=["reports"], operation_id="claim_source")
def claim_source(
    context: Ctx, tenant: Tenant, principal: Asker, name: Name, source: SourceName, body: SourceClaim
) -> Source:
    """Decide that a source is ours. It becomes a relay, and part of the record plan, where these are named."""
    return sources.claim(context, tenant, name, source, body, principal.email)


@router.post("/tenants/{tenant}/domains/{name}/source/decision", tags=["reports"], operation_id="decide_source")
def decide_source(
    context: Ctx, tenant: Tenant, principal: Asker, name: Name, source: SourceName, body: SourceDecision
) -> Source:
    """Decide that a source forwards our mail or is not ours; null takes the decision back."""
    return sources.decide(context, tenant, name, source, body, principal.email)


@router.post("/tenants/{tenant}/domains/{name}/rehearsal", tags=["reports"], operation_id="rehearse_policy")
def rehearse_policy(context: Ctx, tenant: Tenant, name: Name, body: RehearsalPolicy) -> Rehearsal:
    """Try a DMARC policy on past reports: whose mail it would have hit, where, and what to fix first."""
    return rehearsal.rehearse(context, tenant, name, body)


@router.get("/tenants/{tenant}/domains/{name}/policy-path", tags=["reports"], operation_id="get_policy_path")
def get_policy_path(context: Ctx, tenant: Tenant, name: Name) -> PolicyPath:
    """Return how far a domain is on its way to `p=reject`, and what the next stage waits for."""
    return paths.get_path(context, tenant, name)


@router.put("/tenants/{tenant}/domains/{name}/policy-path", tags=["reports"], operation_id="set_policy_path")
def set_policy_path(context: Ctx, tenant: Tenant, principal: Asker, name: Name, body: PathSettings) -> PolicyPath:
    """Begin a domain's way to `p=reject`, or change what its next stage waits for."""
    return paths.put_settings(context, tenant, name, body, principal.email)


@router.delete(
    "/tenants/{tenant}/domains/{name}/policy-path", tags=["reports"], status_code=204, operation_id="stop_policy_path"
)
def stop_policy_path(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Stop watching a domain's way. Its record stays as it is."""
    paths.stop(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/policy-path/stage", tags=["reports"], operation_id="choose_path_stage")
def choose_path_stage(context: Ctx, tenant: Tenant, name: Name, body: PathAdvance) -> PolicyPath:
    """Put a stage into the domain's record plan. Publish the record from there; the path follows what is published."""
    return paths.advance(context, tenant, name, body)


@router.get("/tenants/{tenant}/domains/{name}/tls", tags=["reports"], operation_id="get_tls_overview")
def get_tls_overview(context: Ctx, tenant: Tenant, name: Name, days: Days = 30, last: LastDay = None) -> TlsOverview:
    """Return how mail to a domain was encrypted, by TLS reports, and what MTA-STS in mode enforce would have done."""
    return tls.get_tls(context, tenant, name, days, last)
