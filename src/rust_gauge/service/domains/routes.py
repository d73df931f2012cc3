"""Sending domains under /api/v1: audits, batches, relays, proofs."""

from typing import Annotated

from fastapi import Path, Query, Request
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.audits import (
    Audit,
    AuditComparison,
    AuditSettings,
    AuditSummary,
    BatchRequest,
    BatchResult,
    HistoryEntry,
    MessageCheck,
    ReceiverReport,
    SpfCheck,
    SpfCheckRequest,
)
from rust_gauge.contract.common import Page
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain
from rust_gauge.contract.jobs import Job
from rust_gauge.contract.proofs import NewProof, Proof, ProofCode, Sender
from rust_gauge.contract.relays import Relay, RelayDescription, RelayName
from rust_gauge.service.domains import audits, batches, domains, proofs, relays
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router

router = api_router()


@router.get("/tenants/{tenant}/domains", tags=["domains"], operation_id="list_domains")
def list_domains(
    context: Ctx, tenant: Tenant, cursor: Cursor = None, limit: Limit = 100,
    search: Annotated[str, Query(max_length=253, description="Part of the name")] = "",
) -> Page[Domain]:  # fmt: skip
    """List a tenant's sending domains by name, each with the summary of its latest audit."""
    return domains.list_domains(context, tenant, cursor, limit, search)


@router.post("/tenants/{tenant}/domains", tags=["domains"], status_code=201, operation_id="add_domain")
def add_domain(context: Ctx, tenant: Tenant, body: NewDomain) -> Domain:
    """Add a sending domain. It is audited from now on."""
    return domains.add_domain(context, tenant, body)


Name = Annotated[str, Path(max_length=1000, description="A domain name")]


@router.get("/tenants/{tenant}/domains/{name}", tags=["domains"], operation_id="get_domain")
def get_domain(context: Ctx, tenant: Tenant, name: Name) -> Domain:
    """Return one domain."""
    return domains.show_domain(tenant, domains.find_domain(context, tenant, name))


@router.patch("/tenants/{tenant}/domains/{name}", tags=["domains"], operation_id="update_domain")
def update_domain(context: Ctx, tenant: Tenant, name: Name, body: DomainChange) -> Domain:
    """Change a domain's settings."""
    return domains.update_domain(context, tenant, name, body)


@router.delete("/tenants/{tenant}/domains/{name}", tags=["domains"], status_code=204, operation_id="delete_domain")
def delete_domain(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Stop auditing a domain. Its past audits are kept."""
    domains.delete_domain(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/audits", tags=["audits"], status_code=201, operation_id="run_audit")
def run_audit(context: Ctx, tenant: Tenant, name: Name) -> Audit:
    """Audit a domain now."""
    return audits.run_audit(context, tenant, name)


@router.get("/tenants/{tenant}/domains/{name}/audits", tags=["audits"], operation_id="list_audits")
def list_audits(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 50
) -> Page[AuditSummary]:
    """List a domain's audits, newest first."""
    return audits.list_audits(context, tenant, name, cursor, limit)


@router.get("/tenants/{tenant}/domains/{name}/audits/newest", tags=["audits"], operation_id="get_newest_audit")
def get_newest_audit(context: Ctx, tenant: Tenant, name: Name) -> Audit:
    """Return a domain's latest audit."""
    return audits.get_audit(context, tenant, name, None)


@router.get("/tenants/{tenant}/domains/{name}/audits/compare", tags=["audits"], operation_id="compare_audits")
def compare_audits(
    context: Ctx,
    tenant: Tenant,
    name: Name,
    before: Annotated[int | None, Query(ge=1, description="The earlier audit; default: the one before `after`")] = None,
    after: Annotated[int | None, Query(ge=1, description="The later audit; default: the newest")] = None,
) -> AuditComparison:
    """Compare two audits of a domain: records, findings, requirements."""
    return audits.compare_audits(context, tenant, name, before, after)


@router.get("/tenants/{tenant}/domains/{name}/audits/{id}", tags=["audits"], operation_id="get_audit")
def get_audit(context: Ctx, tenant: Tenant, name: Name, id: Annotated[int, Path(ge=1)]) -> Audit:
    """Return one audit."""
    return audits.get_audit(context, tenant, name, id)


@router.get("/tenants/{tenant}/domains/{name}/history", tags=["audits"], operation_id="list_history")
def list_history(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 100
) -> Page[HistoryEntry]:
    """List what changed at a domain, newest first: records, and findings that appeared or disappeared."""
    return audits.list_history(context, tenant, name, cursor, limit)


@router.post("/tenants/{tenant}/spf-checks", tags=["audits"], operation_id="check_spf")
def check_spf(context: Ctx, tenant: Tenant, body: SpfCheckRequest) -> SpfCheck:
    """Check whether a message from this address would pass SPF. A record can be given that is not published yet."""
    return audits.check_spf(context, body)


@router.post(
    "/tenants/{tenant}/message-checks",
    tags=["audits"],
    operation_id="check_message",
)
async def check_message(
    context: Ctx,
    tenant: Tenant,
    request: Request,
    ip: Annotated[str, Query(max_length=45, description="IP of the client")] = "",
    helo: Annotated[str, Query(max_length=1000, description="HELO name")] = "",
    mail_from: Annotated[str, Query(max_length=400, description="MAIL FROM")] = "",
) -> MessageCheck:
    """Verify SPF, DKIM and DMARC of a captured message, with the reason for each result. Only the selectors that sign
    for the tenant's own domains are stored; audits check their keys from then on.
    """
    body = await request.body()
    return await run_in_threadpool(audits.check_message, context, tenant, body, ip, helo, mail_from)


@router.post(
    "/tenants/{tenant}/feedback-reports",
    tags=["audits"],
    operation_id="read_feedback_report",
)
async def read_feedback_report(context: Ctx, tenant: Tenant, request: Request) -> ReceiverReport:
    """Read an aggregate report (RFC 7489) or a report on TLS (RFC 8460): XML or JSON, gzip, zip, or the message that
    carried it. Only the selectors that sign for the tenant's own domains are stored; audits check their keys from then
    on.
    """
    body = await request.body()
    return await run_in_threadpool(audits.read_feedback_report, context, tenant, body)


@router.post("/tenants/{tenant}/batches", tags=["audits"], status_code=202, operation_id="start_batch")
def start_batch(context: Ctx, tenant: Tenant, principal: Asker, body: BatchRequest) -> Job:
    """Audit many domains as a job. They do not have to be domains of the tenant."""
    return batches.start_batch(context, tenant, body, principal.email)


@router.get("/tenants/{tenant}/batches/{id}/results", tags=["audits"], operation_id="list_batch_results")
def list_batch_results(
    context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1)], cursor: Cursor = None, limit: Limit = 100
) -> Page[BatchResult]:
    """List the results of a batch, in the order of the names."""
    return batches.list_results(context, tenant, id, cursor, limit)


@router.get("/tenants/{tenant}/audit-settings", tags=["audits"], operation_id="get_audit_settings")
def get_audit_settings(context: Ctx, tenant: Tenant) -> AuditSettings:
    """Return the tenant's audit settings: DNS lists, usual selectors, requirements for bulk mail."""
    return audits.get_settings(context, tenant)


@router.put("/tenants/{tenant}/audit-settings", tags=["audits"], operation_id="set_audit_settings")
def set_audit_settings(context: Ctx, tenant: Tenant, body: AuditSettings) -> AuditSettings:
    """Replace the tenant's audit settings."""
    return audits.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/relays", tags=["plans"], operation_id="list_relays")
def list_relays(context: Ctx, tenant: Tenant) -> Page[Relay]:
    """List the relays that were described, that a stream names, or that events name."""
    return Page(items=relays.list_relays(context, tenant))


@router.put("/tenants/{tenant}/relays/{relay}", tags=["plans"], operation_id="set_relay")
def set_relay(context: Ctx, tenant: Tenant, relay: RelayName, body: RelayDescription) -> Relay:
    """Describe a relay: what it is, which records it needs, and what it allows."""
    return relays.set_relay(context, tenant, relay, body)


@router.delete("/tenants/{tenant}/relays/{relay}", tags=["plans"], status_code=204, operation_id="delete_relay")
def delete_relay(context: Ctx, tenant: Tenant, relay: RelayName) -> None:
    """Delete the description of a relay."""
    relays.delete_relay(context, tenant, relay)


@router.post("/tenants/{tenant}/proofs", tags=["proofs"], status_code=201, operation_id="start_proof")
def start_proof(context: Ctx, tenant: Tenant, body: NewProof) -> Proof:
    """Start to verify a domain (by a record or a message) or a sender address (by a message)."""
    return proofs.start_proof(context, tenant, body)


@router.get("/tenants/{tenant}/proofs", tags=["proofs"], operation_id="list_proofs")
def list_proofs(context: Ctx, tenant: Tenant) -> Page[Proof]:
    """List a tenant's proofs and their state."""
    return Page(items=proofs.list_proofs(context, tenant))


@router.post("/tenants/{tenant}/proofs/{id}/recheck", tags=["proofs"], operation_id="recheck_proof")
def recheck_proof(context: Ctx, tenant: Tenant, id: int) -> Proof:
    """Re-check the record now."""
    return proofs.check_record(context, tenant, id)


@router.post("/tenants/{tenant}/proofs/{id}/code", tags=["proofs"], operation_id="confirm_proof")
def confirm_proof(context: Ctx, tenant: Tenant, id: int, body: ProofCode) -> Proof:
    """Confirm a proof with the code from the message. Five attempts are allowed."""
    return proofs.confirm_proof(context, tenant, id, body.code)


@router.get("/tenants/{tenant}/senders", tags=["proofs"], operation_id="list_senders")
def list_senders(context: Ctx, tenant: Tenant) -> Page[Sender]:
    """List every domain that mail is sent as, by stream: verified or not, aligned or not."""
    return Page(items=proofs.list_senders(context, tenant))
