"""Sending limits under /api/v1."""

from typing import Annotated

from fastapi import Path, Query

from rust_gauge.contract.relays import RelayUsage
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.sending import limits

router = api_router()


@router.get("/tenants/{tenant}/relays/{relay}/usage", tags=["domains"], operation_id="get_relay_usage")
def get_relay_usage(
    context: Ctx, tenant: Tenant,
    relay: Annotated[str, Path(max_length=60, description="Name of the relay")],
    days: Annotated[int, Query(ge=1, le=30, description="Period of hits and of replies about senders")] = 7,
) -> RelayUsage:  # fmt: skip
    """Return how far a relay's limits are used, when they were hit and by which replies, and what is not proven."""
    return limits.relay_usage(context, tenant, relay, days)
