"""Outside verifiers and new recipients under /api/v1."""

from typing import Annotated

from fastapi import Path, Query, Request
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.checks import AddressCheck, AddressCheckRequest, Verdict
from rust_gauge.contract.common import Page
from rust_gauge.contract.verification import (
    Accepted,
    Disagreement,
    NewRecipient,
    NewRecipients,
    NewRecipientSource,
    NewVerifier,
    RecipientSource,
    VerificationGauge,
    VerificationSettings,
    Verifier,
    VerifierChange,
    VerifierDryRun,
    VerifierDryRunResult,
)
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.parameters import Cursor, Limit
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.verification import checking, following, new_recipients, verifiers

router = api_router()
Name = Annotated[str, Path(max_length=40)]
Key = Annotated[str, Path(max_length=60, description="Key of the source")]


@router.post("/tenants/{tenant}/address-verifications", tags=["verification"], operation_id="verify_addresses")
def verify_addresses(context: Ctx, tenant: Tenant, body: AddressCheckRequest) -> Page[AddressCheck]:
    """Check addresses as `address-checks` does, and ask outside verifiers about what is still open, which may cost
    money. What a verifier said lately is not paid for again.
    """
    return Page(items=checking.check(context, tenant, body))


@router.get("/tenants/{tenant}/verifiers", tags=["verification"], operation_id="list_verifiers")
def list_verifiers(context: Ctx, tenant: Tenant) -> Page[Verifier]:
    """List outside verifiers in their order of preference, with what they cost and their records."""
    return Page(items=verifiers.list_verifiers(context, tenant))


@router.post("/tenants/{tenant}/verifiers", tags=["verification"], status_code=201, operation_id="add_verifier")
def add_verifier(context: Ctx, tenant: Tenant, body: NewVerifier) -> Verifier:
    """Add a verifier. It is asked after those that are there."""
    return verifiers.add_verifier(context, tenant, body)


@router.post("/tenants/{tenant}/verifiers/try", tags=["verification"], operation_id="try_verifier")
def try_verifier(context: Ctx, tenant: Tenant, body: VerifierDryRun) -> VerifierDryRunResult:
    """Ask a verifier about one address, or read a given answer. Nothing is stored; a question may cost money."""
    return verifiers.try_verifier(context, tenant, body)


@router.get("/tenants/{tenant}/verifiers/{name}", tags=["verification"], operation_id="get_verifier")
def get_verifier(context: Ctx, tenant: Tenant, name: Name) -> Verifier:
    """Return a verifier."""
    return verifiers.get_verifier(context, tenant, name)


@router.patch("/tenants/{tenant}/verifiers/{name}", tags=["verification"], operation_id="update_verifier")
def update_verifier(context: Ctx, tenant: Tenant, name: Name, body: VerifierChange) -> Verifier:
    """Change a verifier, or its place in the order of preference."""
    return verifiers.update_verifier(context, tenant, name, body)


@router.delete(
    "/tenants/{tenant}/verifiers/{name}", tags=["verification"], status_code=204, operation_id="delete_verifier"
)
def delete_verifier(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Delete a verifier with its verdicts."""
    verifiers.delete_verifier(context, tenant, name)


@router.get("/tenants/{tenant}/verification-settings", tags=["verification"], operation_id="get_verification_settings")
def get_verification_settings(context: Ctx, tenant: Tenant) -> VerificationSettings:
    """Return what holds for all verifiers."""
    return verifiers.get_settings(context, tenant.id)


@router.put("/tenants/{tenant}/verification-settings", tags=["verification"], operation_id="set_verification_settings")
def set_verification_settings(context: Ctx, tenant: Tenant, body: VerificationSettings) -> VerificationSettings:
    """Set what holds for all verifiers."""
    return verifiers.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/verification-gauge", tags=["verification"], operation_id="get_verification_gauge")
def get_verification_gauge(
    context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=366, description="Up to today")] = 30
) -> VerificationGauge:
    """Return how addresses were decided, and what that cost and saved."""
    return following.gauge(context, tenant, days)


@router.get("/tenants/{tenant}/verification-disagreements", tags=["verification"], operation_id="list_disagreements")
def list_disagreements(context: Ctx, tenant: Tenant) -> Page[Disagreement]:
    """List addresses about which verifiers contradict each other or the mail that went there, newest first."""
    return Page(items=following.disagreements(context, tenant))


@router.get("/tenants/{tenant}/new-recipients", tags=["verification"], operation_id="list_new_recipients")
def list_new_recipients(
    context: Ctx, tenant: Tenant, verdict: Verdict | None = None, cursor: Cursor = None, limit: Limit = 100
) -> Page[NewRecipient]:
    """List recipients that came in with what was found, newest first."""
    return new_recipients.list_recipients(context, tenant, verdict, cursor, limit)


@router.post("/tenants/{tenant}/new-recipients", tags=["verification"], status_code=202,
             operation_id="add_new_recipients")  # fmt: skip
def add_new_recipients(context: Ctx, tenant: Tenant, body: NewRecipients) -> Accepted:
    """Hand in recipients that just came in. They are checked in a moment, and webhooks hear what was found."""
    return new_recipients.take(context, tenant, body)


@router.get("/tenants/{tenant}/recipient-sources", tags=["verification"], operation_id="list_recipient_sources")
def list_recipient_sources(context: Ctx, tenant: Tenant) -> Page[RecipientSource]:
    """List the addresses that forms post new recipients to."""
    return Page(items=new_recipients.list_sources(context, tenant))


@router.post("/tenants/{tenant}/recipient-sources", tags=["verification"], status_code=201,
             operation_id="add_recipient_source")  # fmt: skip
def add_recipient_source(context: Ctx, tenant: Tenant, body: NewRecipientSource) -> RecipientSource:
    """Add an address that a form posts new recipients to."""
    return new_recipients.add_source(context, tenant, body)


@router.delete("/tenants/{tenant}/recipient-sources/{name}", tags=["verification"], status_code=204,
               operation_id="delete_recipient_source")  # fmt: skip
def delete_recipient_source(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Delete a source: nothing comes in by its address any more."""
    new_recipients.delete_source(context, tenant, name)


@router.post("/new-recipients/{key}", tags=["verification"], status_code=202, operation_id="receive_recipients")
async def receive_recipients(context: Ctx, key: Key, request: Request) -> Accepted:
    """Take in what a form posts: JSON with addresses at the path of the source. Its key proves the sender."""
    octets = await request.body()
    return await run_in_threadpool(new_recipients.receive, context, key, octets)
