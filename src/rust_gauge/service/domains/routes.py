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
    FeedbackReport,
    HistoryEntry,
    MessageCheck,
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
def list_domains(context: Ctx, tenant: Tenant, cursor: Cursor = None, limit: Limit = 100) -> Page[Domain]:
    """A tenant's sending domains by name, with the summary of each one's newest audit."""
    return domains.list_domains(context, tenant, cursor, limit)


@router.post("/tenants/{tenant}/domains", tags=["domains"], status_code=201, operation_id="add_domain")
def add_domain(context: Ctx, tenant: Tenant, body: NewDomain) -> Domain:
    """Watch a domain."""
    return domains.add_domain(context, tenant, body)


Name = Annotated[str, Path(max_length=1000, description="A domain name")]


@router.get("/tenants/{tenant}/domains/{name}", tags=["domains"], operation_id="get_domain")
def get_domain(context: Ctx, tenant: Tenant, name: Name) -> Domain:
    """One domain."""
    return domains.show_domain(tenant, domains.find_domain(context, tenant, name))


@router.patch("/tenants/{tenant}/domains/{name}", tags=["domains"], operation_id="update_domain")
def update_domain(context: Ctx, tenant: Tenant, name: Name, body: DomainChange) -> Domain:
    """Change a domain's settings."""
    return domains.update_domain(context, tenant, name, body)


@router.delete("/tenants/{tenant}/domains/{name}", tags=["domains"], status_code=204, operation_id="delete_domain")
def delete_domain(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Stop watching a domain; what is known of it stays."""
    domains.delete_domain(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/audits", tags=["audits"], status_code=201, operation_id="run_audit")
def run_audit(context: Ctx, tenant: Tenant, name: Name) -> Audit:
    """Audit a domain now."""
    return audits.run_audit(context, tenant, name)


@router.get("/tenants/{tenant}/domains/{name}/audits", tags=["audits"], operation_id="list_audits")
def list_audits(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 50
) -> Page[AuditSummary]:
    """A domain's audits, newest first."""
    return audits.list_audits(context, tenant, name, cursor, limit)


@router.get("/tenants/{tenant}/domains/{name}/audits/newest", tags=["audits"], operation_id="get_newest_audit")
def get_newest_audit(context: Ctx, tenant: Tenant, name: Name) -> Audit:
    """A domain's newest audit."""
    return audits.get_audit(context, tenant, name, None)


@router.get("/tenants/{tenant}/domains/{name}/audits/compare", tags=["audits"], operation_id="compare_audits")
def compare_audits(
    context: Ctx,
    tenant: Tenant,
    name: Name,
    before: Annotated[int | None, Query(ge=1, description="The earlier audit; default: the one before `after`")] = None,
    after: Annotated[int | None, Query(ge=1, description="The later audit; default: the newest")] = None,
) -> AuditComparison:
    """Two audits of a domain beside each other: records, findings, check-list."""
    return audits.compare_audits(context, tenant, name, before, after)


@router.get("/tenants/{tenant}/domains/{name}/audits/{id}", tags=["audits"], operation_id="get_audit")
def get_audit(context: Ctx, tenant: Tenant, name: Name, id: Annotated[int, Path(ge=1)]) -> Audit:
    """One audit."""
    return audits.get_audit(context, tenant, name, id)


@router.get("/tenants/{tenant}/domains/{name}/history", tags=["audits"], operation_id="list_history")
def list_history(
    context: Ctx, tenant: Tenant, name: Name, cursor: Cursor = None, limit: Limit = 100
) -> Page[HistoryEntry]:
    """What changed at a domain, newest first: records, findings that appeared or went."""
    return audits.list_history(context, tenant, name, cursor, limit)


@router.post("/tenants/{tenant}/spf-checks", tags=["audits"], operation_id="check_spf")
def check_spf(context: Ctx, tenant: Tenant, body: SpfCheckRequest) -> SpfCheck:
    """Would a message from this address pass SPF? With a record, before it is published."""
    return audits.check_spf(context, body)


@router.post(
    "/tenants/{tenant}/message-checks",
    tags=["audits"],
    operation_id="check_message",
    openapi_extra={
        "requestBody": {"required": True, "content": {"message/rfc822": {"schema": {"type": "string"}}}},
    },
)
async def check_message(
    context: Ctx,
    tenant: Tenant,
    request: Request,
    ip: Annotated[str, Query(max_length=45, description="IP of the client")] = "",
    helo: Annotated[str, Query(max_length=1000, description="HELO name")] = "",
    mail_from: Annotated[str, Query(max_length=400, description="MAIL FROM")] = "",
) -> MessageCheck:
    """SPF, DKIM and DMARC of a message as it was captured, with the reason for each result.

    Nothing of it is kept but the selectors that sign for the tenant's own domains: audits look at their keys from then.
    """
    body = await request.body()
    return await run_in_threadpool(audits.check_message, context, tenant, body, ip, helo, mail_from)


@router.post(
    "/tenants/{tenant}/feedback-reports",
    tags=["audits"],
    operation_id="read_feedback_report",
    openapi_extra={
        "requestBody": {
            "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        },
    },
)
async def read_feedback_report(context: Ctx, tenant: Tenant, request: Request) -> FeedbackReport:
    """What an aggregate report (RFC 7489) detail: XML, gzip, zip, or the message that carried it.

    Nothing of it is kept but the selectors that sign for the tenant's own domains: audits look at their keys from then.
    """
    body = await request.body()
    return await run_in_threadpool(audits.read_feedback_report, context, tenant, body)


@router.post("/tenants/{tenant}/batches", tags=["audits"], status_code=202, operation_id="start_batch")
def start_batch(context: Ctx, tenant: Tenant, principal: Asker, body: BatchRequest) -> Job:
    """Audit many domains as a job; none of them has to be watched."""
    return batches.start_batch(context, tenant, body, principal.email)


@router.get("/tenants/{tenant}/batches/{id}/results", tags=["audits"], operation_id="list_batch_results")
def list_batch_results(
    context: Ctx, tenant: Tenant, id: Annotated[int, Path(ge=1)], cursor: Cursor = None, limit: Limit = 100
) -> Page[BatchResult]:
    """Results in the order of the names."""
    return batches.list_results(context, tenant, id, cursor, limit)


@router.get("/tenants/{tenant}/audit-settings", tags=["audits"], operation_id="get_audit_settings")
def get_audit_settings(context: Ctx, tenant: Tenant) -> AuditSettings:
    """What the tenant's audits look at: DNS lists, usual selectors, requirements for bulk mail."""
    return audits.get_settings(context, tenant)


@router.put("/tenants/{tenant}/audit-settings", tags=["audits"], operation_id="set_audit_settings")
def set_audit_settings(context: Ctx, tenant: Tenant, body: AuditSettings) -> AuditSettings:
    """Replace what the tenant's audits look at."""
    return audits.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/relays", tags=["plans"], operation_id="list_relays")
def list_relays(context: Ctx, tenant: Tenant) -> Page[Relay]:
    """Relays that were described, named by a stream, or seen in events."""
    return Page(items=relays.list_relays(context, tenant))


@router.put("/tenants/{tenant}/relays/{relay}", tags=["plans"], operation_id="set_relay")
def set_relay(context: Ctx, tenant: Tenant, relay: RelayName, body: RelayDescription) -> Relay:
    """Say what a relay is, what it wants published, and what it allows."""
    return relays.set_relay(context, tenant, relay, body)


@router.delete("/tenants/{tenant}/relays/{relay}", tags=["plans"], status_code=204, operation_id="delete_relay")
def delete_relay(context: Ctx, tenant: Tenant, relay: RelayName) -> None:
    """Forget what was said of a relay."""
    relays.delete_relay(context, tenant, relay)


@router.post("/tenants/{tenant}/proofs", tags=["proofs"], status_code=201, operation_id="start_proof")
def start_proof(context: Ctx, tenant: Tenant, body: NewProof) -> Proof:
    """Begin to prove a domain (by a record or a message) or a sender address (by a message)."""
    return proofs.start_proof(context, tenant, body)


@router.get("/tenants/{tenant}/proofs", tags=["proofs"], operation_id="list_proofs")
def list_proofs(context: Ctx, tenant: Tenant) -> Page[Proof]:
    """Proofs of a tenant, and how they stand."""
    return Page(items=proofs.list_proofs(context, tenant))


@router.post("/tenants/{tenant}/proofs/{id}/recheck", tags=["proofs"], operation_id="recheck_proof")
def recheck_proof(context: Ctx, tenant: Tenant, id: int) -> Proof:
    """Look for the record now."""
    return proofs.check_record(context, tenant, id)


@router.post("/tenants/{tenant}/proofs/{id}/code", tags=["proofs"], operation_id="confirm_proof")
def confirm_proof(context: Ctx, tenant: Tenant, id: int, body: ProofCode) -> Proof:
    """The code of the message; five tries."""
    return proofs.confirm_proof(context, tenant, id, body.code)


@router.get("/tenants/{tenant}/senders", tags=["proofs"], operation_id="list_senders")
def list_senders(context: Ctx, tenant: Tenant) -> Page[Sender]:
    """Every domain that mail is sent as, stream by stream: verified or not, aligned or not."""
    return Page(items=proofs.list_senders(context, tenant))
