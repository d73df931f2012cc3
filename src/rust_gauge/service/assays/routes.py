"""Assays under /api/v1."""

from typing import Annotated

from fastapi import Query, Request
from fastapi.concurrency import run_in_threadpool

from rust_gauge.contract.assays import Assay, AssayRuleView, AssaySettings, TextModelView
from rust_gauge.contract.common import Page
from rust_gauge.service.assays import assays, learning
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.routing import api_router

router = api_router()


@router.post("/tenants/{tenant}/assays", tags=["assays"], operation_id="assay_message")
async def assay_message(
    context: Ctx,
    tenant: Tenant,
    request: Request,
    ip: Annotated[str, Query(max_length=45, description="IP that the message was or will be sent from")] = "",
    helo: Annotated[str, Query(max_length=1000, description="HELO name")] = "",
    mail_from: Annotated[str, Query(max_length=400, description="MAIL FROM")] = "",
) -> Assay:
    """Examine a message before it is sent: its findings, and a mark of 100 less what they take off. Nothing is stored,
    and nothing that the message links to is fetched. Without `ip`, SPF is not evaluated.
    """
    return await run_in_threadpool(assays.assay_message, context, tenant, await request.body(), ip, helo, mail_from)


@router.get("/tenants/{tenant}/assay-rules", tags=["assays"], operation_id="list_assay_rules")
def list_assay_rules(context: Ctx, tenant: Tenant) -> Page[AssayRuleView]:
    """List the rules of the examination, as they ship and as they count for the tenant."""
    return Page(items=assays.list_rules(context, tenant))


@router.get("/tenants/{tenant}/text-model", tags=["assays"], operation_id="get_text_model")
def get_text_model(context: Ctx, tenant: Tenant) -> TextModelView:
    """Return the tenant's text model: whether there is one, how often it is right, and what it goes by."""
    return learning.get_model(context, tenant)


@router.post("/tenants/{tenant}/text-model", tags=["assays"], operation_id="learn_text_model")
def learn_text_model(context: Ctx, tenant: Tenant) -> TextModelView:
    """Learn now from caught messages whose template is the name of a campaign; otherwise that is done once a day."""
    return learning.start_learning(context, tenant)


@router.get("/tenants/{tenant}/assay-settings", tags=["assays"], operation_id="get_assay_settings")
def get_assay_settings(context: Ctx, tenant: Tenant) -> AssaySettings:
    """Return how the tenant adjusts the examination: levels and points of rules, words."""
    return assays.get_settings(context, tenant)


@router.put("/tenants/{tenant}/assay-settings", tags=["assays"], operation_id="set_assay_settings")
def set_assay_settings(context: Ctx, tenant: Tenant, body: AssaySettings) -> AssaySettings:
    """Adjust the examination. Messages that were examined before keep their mark until they are examined again."""
    return assays.put_settings(context, tenant, body)
