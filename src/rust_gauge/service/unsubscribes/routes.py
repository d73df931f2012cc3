"""Unsubscribe links under /api/v1."""

from typing import Annotated

from fastapi import Query

from rust_gauge.contract.checks import MailLinks, MailLinksRequest, Unsubscribes
from rust_gauge.contract.common import Day, Page
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.unsubscribes import unsubscribes

router = api_router()


@router.post("/tenants/{tenant}/unsubscribe-links", tags=["suppression"], operation_id="add_unsubscribe_links")
def add_unsubscribe_links(context: Ctx, tenant: Tenant, body: MailLinksRequest) -> Page[MailLinks]:
    """Return List-Unsubscribe and List-Unsubscribe-Post values (RFC 8058) for recipients of a stream."""
    return Page(items=unsubscribes.links(context, tenant, body))


@router.get("/tenants/{tenant}/unsubscribes", tags=["suppression"], operation_id="list_unsubscribes")
def list_unsubscribes(
    context: Ctx,
    tenant: Tenant,
    days: Annotated[int, Query(ge=1, le=400)] = 30,
    last: Annotated[Day | None, Query(description="Last day, UTC; default: today")] = None,
) -> Unsubscribes:
    """Return how unsubscribe requests were handled, against the two days that are allowed."""
    return unsubscribes.overview(context, tenant, days, last)
