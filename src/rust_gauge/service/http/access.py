"""Who is asking, and may they? Every route under /api/v1 but signing in depends on one of these.

Programs send `Authorization: Bearer`; the console has a cookie. A request that changes something and comes with the
cookie must come from the console's own pages, which the browser states in `Origin` or `Sec-Fetch-Site`.
"""

from typing import Annotated
from urllib.parse import urlsplit

from fastapi import Depends, Path, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials

from rust_gauge.core.roles import Role
from rust_gauge.service.http.roles import ROLES
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import principal_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store.accounts import Principal, TenantAccess

COOKIE = "rust_gauge_session"
_bearer = HTTPBearer(auto_error=False, description="An API token, created in Settings or with /api/v1/tokens")
_cookie = APIKeyCookie(name=COOKIE, auto_error=False, description="Session of the console")


def get_context(request: Request) -> Context:
    context: Context = request.app.state.context
    return context


Ctx = Annotated[Context, Depends(get_context)]


def check_same_site(request: Request) -> None:
    """ServiceProblem `cross-site` when a browser says that another site's page made this request."""
    origin, site = request.headers.get("origin"), request.headers.get("sec-fetch-site")
    foreign = site in ("cross-site", "same-site") if site else False
    if origin is not None and urlsplit(origin).netloc != request.headers.get("host", ""):
        foreign = True
    if foreign:
        raise ServiceProblem("cross-site", "The request came from a page of another site")


def get_principal(
    request: Request,
    context: Ctx,
    bearer: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)],
    session: Annotated[str | None, Depends(_cookie)],
) -> Principal:
    """Return the principal of a request. ServiceProblem `not-signed-in`."""
    if bearer is not None:
        principal = principal_of(context, token=bearer.credentials)
    elif session:
        if request.method not in ("GET", "HEAD"):
            check_same_site(request)
        principal = principal_of(context, session=session)
    else:
        principal = None
    if principal is None:
        raise ServiceProblem("not-signed-in", "A valid session or token is required")
    return principal


Asker = Annotated[Principal, Depends(get_principal)]


def get_tenant(
    request: Request,
    principal: Asker,
    tenant: Annotated[str, Path(max_length=40, description="The tenant's slug")],
) -> TenantAccess:
    """The tenant in the path, if the asker may see it and do there what the route does.

    ServiceProblem `not-found` for a tenant that they may not see, as if it did not exist, and `role-too-low` for a
    route that needs more than their role in it (`roles.ROLES`).
    """
    found = next((allowed for allowed in principal.tenants if allowed.slug == tenant), None)
    if found is None:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    operation = request.scope["route"].operation_id
    if operation not in ROLES:
        raise ServiceProblem("role-too-low", "No role has access to this call")
    require_role(found, ROLES[operation])
    return found


def require_role(tenant: TenantAccess, needed: Role) -> None:
    """ServiceProblem `role-too-low` for somebody whose role in the tenant does not allow it."""
    if not tenant.role.allows(needed):
        raise ServiceProblem(
            "role-too-low",
            f"This needs the role {needed} in {tenant.slug}; you have {tenant.role}",
            remedy="Ask an admin of the tenant to do it or to change your role",
        )


Tenant = Annotated[TenantAccess, Depends(get_tenant)]
