"""Unsubscribe links under /api/v1."""

from typing import Annotated

from fastapi import APIRouter, Query

from rust_gauge.contract.checks import MailLinks, MailLinksRequest, Unsubscribes
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.parameters import problems
from rust_gauge.service.unsubscribes import unsubscribes

router = APIRouter(prefix="/api/v1", responses=problems)


@router.post("/tenants/{tenant}/unsubscribe-links", tags=["suppression"], operation_id="add_unsubscribe_links")
def add_unsubscribe_links(context: Ctx, tenant: Tenant, body: MailLinksRequest) -> list[MailLinks]:
    """Values of List-Unsubscribe and List-Unsubscribe-Post for recipients of a stream."""
    return unsubscribes.links(context, tenant, body)


@router.get("/tenants/{tenant}/unsubscribes", tags=["suppression"], operation_id="list_unsubscribes")
def list_unsubscribes(context: Ctx, tenant: Tenant, days: Annotated[int, Query(ge=1, le=400)] = 30) -> Unsubscribes:
    """How unsubscriptions went, against the two days that are allowed."""
    return unsubscribes.overview(context, tenant, days)
