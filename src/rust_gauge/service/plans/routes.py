"""Record plans, propagation watches and publishing under /api/v1."""

from typing import Annotated

from fastapi import Path

from rust_gauge.contract.common import Page
from rust_gauge.contract.plans import MadeKey, NewKey, Plan, PlanSettings, StsServing
from rust_gauge.contract.publishing import NewUpdateServer, Publication, UpdateServer, ZoneChange, ZoneChangeRequest
from rust_gauge.contract.watches import Watch, WatchRequest, WatchSettings
from rust_gauge.service.http.access import Asker, Ctx, Tenant
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.plans import plans, propagation, publishing, sts

router = api_router()

Name = Annotated[str, Path(max_length=1000, description="A domain name")]


@router.get("/tenants/{tenant}/domains/{name}/plan", tags=["plans"], operation_id="get_plan")
def get_plan(context: Ctx, tenant: Tenant, name: Name) -> Plan:
    """Return all records that the domain should publish, in every form."""
    return plans.get_plan(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/plan/checks", tags=["plans"], operation_id="check_plan")
def check_plan(context: Ctx, tenant: Tenant, name: Name) -> Plan:
    """Compare the plan with what the zone's own name servers answer now: states, causes, and where a misplaced record
    is.
    """
    return plans.check_plan(context, tenant, name)


@router.put("/tenants/{tenant}/domains/{name}/plan/settings", tags=["plans"], operation_id="set_plan_settings")
def set_plan_settings(context: Ctx, tenant: Tenant, name: Name, body: PlanSettings) -> Plan:
    """Set the DMARC stage, the report addresses, and how to stay within the SPF look-up limit."""
    return plans.put_settings(context, tenant, name, body)


@router.post("/tenants/{tenant}/domains/{name}/plan/keys", tags=["plans"], status_code=201, operation_id="add_plan_key")
def add_plan_key(context: Ctx, tenant: Tenant, name: Name, body: NewKey) -> MadeKey:
    """Create a DKIM key for a selector. The private key is in this answer and is not stored."""
    return plans.add_plan_key(context, tenant, name, body)


@router.post("/tenants/{tenant}/domains/{name}/watches", tags=["watches"], status_code=201, operation_id="start_watch")
def start_watch(context: Ctx, tenant: Tenant, name: Name, body: WatchRequest) -> Watch:
    """Watch the records of the plan at the zone's name servers and at resolvers until all of them answer with the new
    ones.
    """
    return propagation.start_watch(context, tenant, name, body)


@router.get("/tenants/{tenant}/domains/{name}/watches", tags=["watches"], operation_id="list_watches")
def list_watches(context: Ctx, tenant: Tenant, name: Name) -> Page[Watch]:
    """List a domain's latest watches."""
    return Page(items=propagation.list_watches(context, tenant, name))


@router.get("/tenants/{tenant}/watches/{id}", tags=["watches"], operation_id="get_watch")
def get_watch(context: Ctx, tenant: Tenant, id: int) -> Watch:
    """Return which servers have the records, which do not, and when all will at the latest."""
    return propagation.get_watch(context, tenant, id)


@router.post("/tenants/{tenant}/watches/{id}/cancel", tags=["watches"], operation_id="cancel_watch")
def cancel_watch(context: Ctx, tenant: Tenant, id: int) -> Watch:
    """Stop a watch. What it observed is kept."""
    return propagation.cancel_watch(context, tenant, id)


@router.post("/tenants/{tenant}/watches/{id}/recheck", tags=["watches"], operation_id="recheck_watch")
def recheck_watch(context: Ctx, tenant: Tenant, id: int) -> Watch:
    """Re-check now instead of at the next scheduled time."""
    return propagation.recheck_watch(context, tenant, id)


@router.get("/tenants/{tenant}/watch-settings", tags=["watches"], operation_id="get_watch_settings")
def get_watch_settings(context: Ctx, tenant: Tenant) -> WatchSettings:
    """List the resolvers that watches ask."""
    return propagation.get_settings(context, tenant)


@router.put("/tenants/{tenant}/watch-settings", tags=["watches"], operation_id="set_watch_settings")
def set_watch_settings(context: Ctx, tenant: Tenant, body: WatchSettings) -> WatchSettings:
    """Set resolvers that watches ask beside the built-in ones. Public addresses only."""
    return propagation.put_settings(context, tenant, body)


@router.get("/tenants/{tenant}/update-servers", tags=["publishing"], operation_id="list_update_servers")
def list_update_servers(context: Ctx, tenant: Tenant) -> Page[UpdateServer]:
    """List the zones that can be changed by dynamic update. Secrets are not shown."""
    return Page(items=publishing.list_servers(context, tenant))


Zone = Annotated[str, Path(max_length=253, description="Zone")]


@router.put("/tenants/{tenant}/update-servers/{zone}", tags=["publishing"], operation_id="set_update_server")
def set_update_server(context: Ctx, tenant: Tenant, zone: Zone, body: NewUpdateServer) -> UpdateServer:
    """Store the primary server of a zone and the TSIG key that can change it (RFC 2136, RFC 8945)."""
    return publishing.put_server(context, tenant, zone, body)


@router.delete(
    "/tenants/{tenant}/update-servers/{zone}", tags=["publishing"], status_code=204, operation_id="delete_update_server"
)
def delete_update_server(context: Ctx, tenant: Tenant, zone: Zone) -> None:
    """Delete a server and its key."""
    publishing.forget_server(context, tenant, zone)


@router.post("/tenants/{tenant}/domains/{name}/plan/changes", tags=["publishing"], operation_id="preview_publication")
def preview_publication(context: Ctx, tenant: Tenant, name: Name, body: ZoneChangeRequest) -> ZoneChange:
    """Preview exactly what publishing the plan would change in the zone. Nothing is changed."""
    return publishing.preview_publication(context, tenant, name, body)


@router.post(
    "/tenants/{tenant}/domains/{name}/publications",
    tags=["publishing"],
    status_code=201,
    operation_id="add_publication",
)
def add_publication(context: Ctx, tenant: Tenant, name: Name, principal: Asker, body: ZoneChangeRequest) -> Publication:
    """Publish the previewed change, all of it or nothing, and check the result."""
    return publishing.add_publication(context, tenant, name, body, principal.email)


@router.get("/tenants/{tenant}/domains/{name}/publications", tags=["publishing"], operation_id="list_publications")
def list_publications(context: Ctx, tenant: Tenant, name: Name) -> Page[Publication]:
    """List the changes published for a domain, newest first."""
    return Page(items=publishing.list_publications(context, tenant, name))


@router.post("/tenants/{tenant}/publications/{id}/rollback", tags=["publishing"], operation_id="roll_back_publication")
def roll_back_publication(context: Ctx, tenant: Tenant, id: int, principal: Asker) -> Publication:
    """Undo a change: restore what was there before, unless somebody changed it since."""
    return publishing.roll_back_publication(context, tenant, id, principal.email)


@router.get("/tenants/{tenant}/domains/{name}/sts-policy", tags=["plans"], operation_id="get_sts_policy")
def get_sts_policy(context: Ctx, tenant: Tenant, name: Name) -> StsServing:
    """Return the MTA-STS policy that is served for a domain, the planned one, and the steps from one to the other."""
    return sts.get_serving(context, tenant, name)


@router.post("/tenants/{tenant}/domains/{name}/sts-policy", tags=["plans"], operation_id="serve_sts_policy")
def serve_sts_policy(context: Ctx, tenant: Tenant, name: Name) -> StsServing:
    """Serve the policy of the next step under a new id. Publish the record with that id afterwards."""
    return sts.serve_step(context, tenant, name)
