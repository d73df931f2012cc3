"""Who is asking, and may they? Every route under /api/v1 but signing in depends on one of these.

Programs send `Authorization: Bearer`; the console has a cookie. A request that changes something and comes with the
cookie must come from the console's own pages, which the browser states in `Origin` or `Sec-Fetch-Site`.
"""

from dataclasses import replace
from typing import Annotated
from urllib.parse import urlsplit

import structlog
from fastapi import Depends, Path, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials

from rust_gauge.core.roles import Role
from rust_gauge.service.http.roles import ROLES, allows, scope_of
from rust_gauge.service.runtime.audit_log import record
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import is_within, principal_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import tokens
from rust_gauge.store.accounts import Principal, TenantAccess

log = structlog.get_logger()

COOKIE = "rust_gauge_session"
PUBLIC_COOKIE = f"__Host-{COOKIE}"  # over TLS: no other host and no plain page can set it
_bearer = HTTPBearer(auto_error=False, description="An API token, created in Settings or with /api/v1/tokens")
_cookie = APIKeyCookie(name=COOKIE, auto_error=False, description="Session of the console")


def cookie_name(context: Context) -> str:
    """Return the name of the session's cookie."""
    return PUBLIC_COOKIE if context.settings.is_public else COOKIE


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


def address_of(request: Request) -> str:
    """Return the address that a request came from; behind a named proxy the one that the proxy states."""
    return request.client.host if request.client else ""


def get_principal(
    request: Request,
    context: Ctx,
    bearer: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)],
    session: Annotated[str | None, Depends(_cookie)],
) -> Principal:
    """Return the principal of a request. ServiceProblem `not-signed-in`, `wrong-network` or `scope-missing`.

    Tenants that require a second factor which the session lacks are left out; `request.state.locked` has them.
    """
    if bearer is not None:
        principal = principal_of(context, token=bearer.credentials)
    elif secret := session or request.cookies.get(cookie_name(context)):
        if request.method not in ("GET", "HEAD"):
            check_same_site(request)
        principal = principal_of(context, session=secret)
    else:
        principal = None
    if principal is None:
        raise ServiceProblem("not-signed-in", "A valid session or token is required")
    if principal.token_id is not None:
        _check_token(context, request, principal)
    principal, request.state.locked = locked_tenants(principal)
    request.state.principal = principal
    return principal


def locked_tenants(principal: Principal) -> tuple[Principal, tuple[TenantAccess, ...]]:
    """Return a principal with the tenants that are open to it, and those that require a second factor first."""
    if principal.second_factor or principal.token_id is not None:
        return principal, ()
    locked = tuple(tenant for tenant in principal.tenants if tenant.second_factor)
    return replace(principal, tenants=tuple(t for t in principal.tenants if not t.second_factor)), locked


def _check_token(context: Context, request: Request, principal: Principal) -> None:
    """Refuse a token from outside its networks, and one whose scopes do not include the call."""
    id, address = principal.token_id or 0, address_of(request)
    now = context.clock()
    if not is_within(address, principal.networks):
        if context.store.transaction(lambda c: tokens.note_refusal(c, id, address, now)):
            log.warning("token_refused", token=id, account=principal.email, address=address)
            record(
                context, "token_refused", principal=principal, address=address,
                request_id=getattr(request.state, "request_id", ""), subject=request.url.path, about_people=True,
            )  # fmt: skip
        raise ServiceProblem("wrong-network", f"This token may not be used from {address}")
    context.store.transaction(lambda c: tokens.note_use(c, id, address, now))
    needed = scope_of(request.scope["route"])
    if principal.scopes and needed is not None and not allows(principal.scopes, needed):
        raise ServiceProblem("scope-missing", f"This call needs the scope {needed}")


Asker = Annotated[Principal, Depends(get_principal)]


def get_owner(principal: Asker) -> Principal:
    """Return the principal if it is an owner of the installation. ServiceProblem `role-too-low`."""
    if not principal.is_owner:
        raise ServiceProblem("role-too-low", "This needs an owner of the installation")
    return principal


Owner = Annotated[Principal, Depends(get_owner)]


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
    if found is None and any(locked.slug == tenant for locked in request.state.locked):
        raise ServiceProblem(
            "second-factor-required", f"{tenant} requires a second factor",
            remedy="Set up a second factor in Settings, Account",
        )  # fmt: skip
    if found is None:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    operation = request.scope["route"].operation_id
    if operation not in ROLES:
        raise ServiceProblem("role-too-low", "No role has access to this call")
    require_role(found, ROLES[operation])
    request.state.tenant = found
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
