"""Mailbox providers under /api/v1."""

from typing import Annotated

from fastapi import Path

from rust_gauge.contract.common import Page
from rust_gauge.contract.flow import Provider, ProviderChange
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.providers import providers

router = api_router()


@router.get("/tenants/{tenant}/providers", tags=["flow"], operation_id="list_providers")
def list_providers(context: Ctx, tenant: Tenant) -> Page[Provider]:
    """List the mailbox providers that a tenant sends to."""
    return Page(items=providers.list_providers(context, tenant))


@router.patch("/tenants/{tenant}/providers/{provider}", tags=["flow"], operation_id="rename_provider")
def rename_provider(
    context: Ctx, tenant: Tenant, provider: Annotated[str, Path(max_length=253)], body: ProviderChange
) -> Provider:
    """Rename a provider for this tenant."""
    return providers.rename_provider(context, tenant, provider, body.label)
