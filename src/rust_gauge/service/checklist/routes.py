"""The checklist under /api/v1."""

from rust_gauge.contract.checklist import Checklist
from rust_gauge.service.checklist import checklist
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.routing import api_router

router = api_router()


@router.get("/tenants/{tenant}/checklist", tags=["people"], operation_id="get_checklist")
def get_checklist(context: Ctx, tenant: Tenant) -> Checklist:
    """Return what is set up of a tenant, and what is next."""
    return checklist.get_checklist(context, tenant)
