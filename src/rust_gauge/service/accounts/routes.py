"""Routes for signing in, sessions, second factors, API tokens, people, tenants, the installation and the audit log."""

from datetime import datetime
from typing import Annotated

import structlog
from fastapi import Path, Query, Request, Response
from fastapi.responses import RedirectResponse

from rust_gauge.contract.common import Moment, Page
from rust_gauge.contract.people import (
    Acceptance,
    Assignment,
    AssignmentKind,
    AuditEntry,
    ChainCheck,
    Invitation,
    InvitationSecret,
    InvitationView,
    MadeInvitation,
    Member,
    NewAssignment,
    NewInvitation,
    NewTenant,
    OwnerChange,
    Person,
    RoleChange,
    TenantSettings,
)
from rust_gauge.contract.people import Tenant as TenantView
from rust_gauge.contract.preferences import Preferences
from rust_gauge.contract.session import (
    Code,
    Ended,
    Identity,
    NewPasskey,
    NewPassword,
    Passkey,
    PasskeyOptions,
    PasskeySignIn,
    PasskeyStart,
    PasswordChanged,
    RecoveryCodes,
    Removal,
    SecondFactor,
    SecondFactorStart,
    SessionInfo,
    SignIn,
    SignInOptions,
    Who,
)
from rust_gauge.contract.tokens import MadeToken, NewToken, Rotation, Token
from rust_gauge.core.roles import Role
from rust_gauge.service.accounts import (
    audit_log,
    installation,
    issuers,
    passkeys,
    people,
    preferences,
    second_factor,
    sessions,
    tokens,
)
from rust_gauge.service.http.access import (
    Asker,
    Ctx,
    Owner,
    Tenant,
    address_of,
    check_same_site,
    cookie_name,
    locked_tenants,
)
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import principal_of
from rust_gauge.service.runtime.problems import ServiceProblem

log = structlog.get_logger()
router = api_router()
_Email = Annotated[str, Path(max_length=254, description="Email address of the account")]


# Signing in


@router.post("/session", tags=["session"], operation_id="sign_in")
def sign_in(context: Ctx, request: Request, response: Response, body: SignIn) -> Who:
    """Sign in with a password, and a code where the account has a second factor. The session is set as a cookie."""
    check_same_site(request)
    secret, principal = sessions.sign_in(
        context, body.email, body.password.get_secret_value(), body.code, address=address_of(request),
        agent=request.headers.get("user-agent", ""),
    )  # fmt: skip
    _set_cookie(context, response, secret)
    usable, locked = locked_tenants(principal)
    return sessions.describe(usable, locked)


def _set_cookie(context: Context, response: Response, secret: str) -> None:
    response.set_cookie(
        cookie_name(context), secret, max_age=context.settings.session_hours * 3600, httponly=True, samesite="strict",
        secure=context.settings.is_public, path="/",
    )  # fmt: skip


@router.get("/session", tags=["session"], operation_id="get_session")
def get_session(principal: Asker, request: Request) -> Who:
    """Return who is signed in and which tenants they can see."""
    return sessions.describe(principal, request.state.locked)


@router.get("/session/preferences", tags=["session"], operation_id="get_preferences")
def get_preferences(context: Ctx, principal: Asker) -> Preferences:
    """Return your preferences: time zone, saved views, how tables are shown."""
    return preferences.get_preferences(context, principal)


@router.put("/session/preferences", tags=["session"], operation_id="set_preferences")
def set_preferences(context: Ctx, principal: Asker, body: Preferences) -> Preferences:
    """Replace your preferences."""
    return preferences.set_preferences(context, principal, body)


@router.delete("/session", tags=["session"], status_code=204, operation_id="sign_out")
def sign_out(context: Ctx, principal: Asker, request: Request, response: Response) -> None:
    """Sign out."""
    name = cookie_name(context)
    sessions.sign_out(context, request.cookies.get(name, ""))
    response.delete_cookie(name, path="/", secure=context.settings.is_public)


@router.get("/sessions", tags=["session"], operation_id="list_sessions")
def list_sessions(context: Ctx, principal: Asker) -> Page[SessionInfo]:
    """List your sessions, the newest first."""
    return Page(items=sessions.list_sessions(context, principal))


@router.delete("/sessions", tags=["session"], operation_id="end_other_sessions")
def end_other_sessions(context: Ctx, principal: Asker) -> Ended:
    """End all your sessions but this one."""
    return sessions.end_other_sessions(context, principal)


@router.delete("/sessions/{id}", tags=["session"], status_code=204, operation_id="end_session")
def end_session(context: Ctx, principal: Asker, id: int) -> None:
    """End one of your sessions."""
    sessions.end_session(context, principal, id)


@router.put("/session/password", tags=["session"], operation_id="change_password")
def change_password(context: Ctx, principal: Asker, request: Request, body: NewPassword) -> PasswordChanged:
    """Set a new password. All other sessions end, and your tokens if you say so."""
    return sessions.change_password(context, principal, body, address=address_of(request))


@router.get("/session/second-factor", tags=["session"], operation_id="get_second_factor")
def get_second_factor(context: Ctx, principal: Asker, request: Request) -> SecondFactor:
    """Return whether your account has a second factor, and which of your tenants require one."""
    found = second_factor.get(context, principal)
    return found.model_copy(
        update={"required_by": [tenant.slug for tenant in request.state.locked] or found.required_by}
    )


@router.post("/session/second-factor", tags=["session"], operation_id="start_second_factor")
def start_second_factor(context: Ctx, principal: Asker) -> SecondFactorStart:
    """Make a secret for an authenticator app. It is in use once you confirm a code."""
    return second_factor.start(context, principal)


@router.put("/session/second-factor", tags=["session"], operation_id="confirm_second_factor")
def confirm_second_factor(context: Ctx, principal: Asker, body: Code) -> RecoveryCodes:
    """Turn the second factor on with a code of the app. Returns the recovery codes; your other sessions end."""
    return second_factor.confirm(context, principal, body.code)


@router.post("/session/second-factor/check", tags=["session"], status_code=204, operation_id="check_second_factor")
def check_second_factor(context: Ctx, principal: Asker, request: Request, body: Code) -> None:
    """Enter a code in a session that was opened without one, for tenants that require it."""
    second_factor.check(context, principal, body.code, address=address_of(request))


@router.post("/session/second-factor/removal", tags=["session"], status_code=204, operation_id="remove_second_factor")
def remove_second_factor(context: Ctx, principal: Asker, body: Removal) -> None:
    """Turn the second factor off."""
    second_factor.remove(context, principal, body.password.get_secret_value())


@router.post("/session/second-factor/recovery-codes", tags=["session"], operation_id="renew_recovery_codes")
def renew_recovery_codes(context: Ctx, principal: Asker, body: Code) -> RecoveryCodes:
    """Replace the recovery codes; the old ones stop working."""
    return second_factor.renew_codes(context, principal, body.code)


# Passkeys


@router.get("/session/options", tags=["session"], operation_id="get_sign_in_options")
def get_sign_in_options(context: Ctx) -> SignInOptions:
    """Return how people can sign in besides address and password."""
    return SignInOptions(passkey_origin=passkeys.origin(context), issuers=issuers.issuers(context))


@router.post("/session/passkey-options", tags=["session"], operation_id="start_passkey_sign_in")
def start_passkey_sign_in(context: Ctx) -> PasskeyOptions:
    """Return options for signing in with a passkey, for the browser."""
    return passkeys.start_sign_in(context)


@router.post("/session/passkey", tags=["session"], operation_id="sign_in_with_passkey")
def sign_in_with_passkey(context: Ctx, request: Request, response: Response, body: PasskeySignIn) -> Who:
    """Sign in with a passkey, which counts as password and second factor. The session is set as a cookie."""
    check_same_site(request)
    secret, principal = passkeys.sign_in_with(
        context, body.credential, address=address_of(request), agent=request.headers.get("user-agent", "")
    )
    _set_cookie(context, response, secret)
    return sessions.describe(principal)


@router.get("/passkeys", tags=["session"], operation_id="list_passkeys")
def list_passkeys(context: Ctx, principal: Asker) -> Page[Passkey]:
    """List your passkeys."""
    return Page(items=passkeys.list_passkeys(context, principal))


@router.post("/passkeys/options", tags=["session"], operation_id="start_passkey")
def start_passkey(context: Ctx, principal: Asker, request: Request, body: PasskeyStart) -> PasskeyOptions:
    """Return options for making a passkey, for the browser. Needs your password."""
    return passkeys.start(context, principal, body.password.get_secret_value(), address=address_of(request))


@router.post("/passkeys", tags=["session"], status_code=201, operation_id="add_passkey")
def add_passkey(context: Ctx, principal: Asker, body: NewPasskey) -> Passkey:
    """Add a passkey that the browser has made."""
    return passkeys.add(context, principal, body)


@router.delete("/passkeys/{id}", tags=["session"], status_code=204, operation_id="delete_passkey")
def delete_passkey(context: Ctx, principal: Asker, id: int) -> None:
    """Delete a passkey: nobody can sign in with it any more."""
    passkeys.delete(context, principal, id)


# Accounts elsewhere

_IssuerName = Annotated[str, Path(max_length=40, description="Name of the issuer in the service settings")]


@router.get(
    "/session/issuers/{name}", tags=["session"], operation_id="leave_for_issuer", status_code=302,
    response_class=RedirectResponse,
)  # fmt: skip
def leave_for_issuer(
    context: Ctx,
    request: Request,
    name: _IssuerName,
    page: Annotated[str, Query(max_length=500, description="Page of the console to show afterwards")] = "/",
    link: Annotated[bool, Query(description="Link the account there to yours, instead of signing in")] = False,
) -> RedirectResponse:
    """Send the browser to an OpenID Connect issuer to sign in there."""
    principal = principal_of(context, session=request.cookies.get(cookie_name(context), "")) if link else None
    if link and principal is None:
        raise ServiceProblem("not-signed-in", "Sign in first, then link the account")
    departure = issuers.set_out(context, name, page=page, link_to=principal.account_id if principal else None)
    response = RedirectResponse(departure.address, 302)
    # Lax: the browser comes back from another site.
    response.set_cookie(
        _leaving(context), departure.sealed, max_age=int(issuers.VALID.total_seconds()), httponly=True, samesite="lax",
        secure=context.settings.is_public, path="/",
    )  # fmt: skip
    return response


@router.get(
    "/session/issuers/{name}/return", tags=["session"], operation_id="return_from_issuer", status_code=302,
    response_class=RedirectResponse,
)  # fmt: skip
def return_from_issuer(
    context: Ctx,
    request: Request,
    name: _IssuerName,
    state: Annotated[str, Query(max_length=200)] = "",
    code: Annotated[str, Query(max_length=4096)] = "",
    error: Annotated[str, Query(max_length=200, description="Why the issuer refused (RFC 6749 §4.1.2.1)")] = "",
) -> RedirectResponse:
    """Finish signing in at an issuer. Shows the console, with `problem` in its address when it failed."""
    sealed = request.cookies.get(_leaving(context), "")
    secret = None
    try:
        if error or not code:
            raise ServiceProblem("issuer-failed", f"The issuer refused: {error or 'no code'}")
        page, secret = issuers.arrive(
            context, name, sealed, state, code, address=address_of(request),
            agent=request.headers.get("user-agent", ""),
        )  # fmt: skip
    except ServiceProblem as problem:
        log.warning("sign_in_at_issuer_failed", issuer=name, problem=problem.kind.slug, detail=problem.detail)
        page = f"/?problem={problem.kind.slug}"
    response = RedirectResponse(page, 302)
    if secret is not None:
        _set_cookie(context, response, secret)
    response.delete_cookie(_leaving(context), path="/", secure=context.settings.is_public)
    return response


def _leaving(context: Context) -> str:
    return f"{cookie_name(context)}_leaving"


@router.get("/identities", tags=["session"], operation_id="list_identities")
def list_identities(context: Ctx, principal: Asker) -> Page[Identity]:
    """List the accounts at issuers with which you can sign in."""
    return Page(items=issuers.list_identities(context, principal))


@router.delete("/identities/{id}", tags=["session"], status_code=204, operation_id="delete_identity")
def delete_identity(context: Ctx, principal: Asker, id: int) -> None:
    """Unlink an account at an issuer."""
    issuers.unlink(context, principal, id)


# Tokens


@router.get("/tokens", tags=["session"], operation_id="list_tokens")
def list_tokens(context: Ctx, principal: Asker) -> Page[Token]:
    """List your API tokens, without their secrets. A token sees itself only."""
    return Page(items=tokens.list_tokens(context, principal))


@router.post("/tokens", tags=["session"], status_code=201, operation_id="add_token")
def add_token(context: Ctx, principal: Asker, body: NewToken) -> MadeToken:
    """Create an API token for a program. Its secret is in this answer and is not shown again."""
    return tokens.add_token(context, principal, body)


@router.post("/tokens/{id}/rotation", tags=["session"], operation_id="rotate_token")
def rotate_token(context: Ctx, principal: Asker, id: int, body: Rotation) -> MadeToken:
    """Give a token a new secret. The one before stays valid for a while, so that programs can change over."""
    return tokens.rotate_token(context, principal, id, body)


@router.delete("/tokens/{id}", tags=["session"], status_code=204, operation_id="delete_token")
def delete_token(context: Ctx, principal: Asker, id: int) -> None:
    """Revoke an API token. A token can revoke itself only."""
    tokens.delete_token(context, principal, id)


# People of a tenant


@router.get("/tenants/{tenant}/members", tags=["people"], operation_id="list_members")
def list_members(context: Ctx, tenant: Tenant) -> Page[Member]:
    """List the people who can see this tenant and can be assigned its items."""
    return Page(items=people.list_members(context, tenant))


@router.put("/tenants/{tenant}/members/{email}", tags=["people"], operation_id="change_role")
def change_role(context: Ctx, tenant: Tenant, email: _Email, body: RoleChange) -> Member:
    """Give a member another role."""
    return people.change_role(context, tenant, email, Role(body.role))


@router.delete("/tenants/{tenant}/members/{email}", tags=["people"], status_code=204, operation_id="remove_member")
def remove_member(context: Ctx, tenant: Tenant, email: _Email) -> None:
    """Take a member's access to this tenant away. Their account and their access to other tenants stay."""
    people.remove_member(context, tenant, email)


@router.get("/tenants/{tenant}/invitations", tags=["people"], operation_id="list_invitations")
def list_invitations(context: Ctx, tenant: Tenant) -> Page[Invitation]:
    """List invitations that can still be accepted."""
    return Page(items=people.list_invitations(context, tenant))


@router.post("/tenants/{tenant}/invitations", tags=["people"], status_code=201, operation_id="invite")
def invite(context: Ctx, principal: Asker, tenant: Tenant, body: NewInvitation) -> MadeInvitation:
    """Invite somebody by mail, with a link that works once. Without a mail relay, the link is in the answer."""
    return people.invite(context, tenant, principal, body)


@router.delete("/tenants/{tenant}/invitations/{id}", tags=["people"], status_code=204, operation_id="delete_invitation")
def delete_invitation(context: Ctx, tenant: Tenant, id: int) -> None:
    """Withdraw an invitation: its link stops working."""
    people.delete_invitation(context, tenant, id)


@router.post("/invitations/view", tags=["people"], operation_id="look_at_invitation")
def look_at_invitation(context: Ctx, body: InvitationSecret) -> InvitationView:
    """Return what the link of an invitation is for."""
    return people.look_at(context, body.secret)


@router.post("/invitations/acceptance", tags=["people"], operation_id="accept_invitation")
def accept_invitation(context: Ctx, request: Request, response: Response, body: Acceptance) -> Who:
    """Accept an invitation, with a new account or the password of your own. The session is set as a cookie."""
    check_same_site(request)
    secret, principal = people.accept(
        context, body, address=address_of(request), agent=request.headers.get("user-agent", "")
    )
    _set_cookie(context, response, secret)
    usable, locked = locked_tenants(principal)
    return sessions.describe(usable, locked)


@router.get("/tenants/{tenant}/settings", tags=["people"], operation_id="get_tenant_settings")
def get_tenant_settings(context: Ctx, tenant: Tenant) -> TenantSettings:
    """Return the tenant's name and whether it requires a second factor."""
    return installation.get_tenant_settings(context, tenant)


@router.put("/tenants/{tenant}/settings", tags=["people"], operation_id="set_tenant_settings")
def set_tenant_settings(context: Ctx, principal: Asker, tenant: Tenant, body: TenantSettings) -> TenantSettings:
    """Change the tenant's name, and whether its members need a second factor."""
    return installation.set_tenant_settings(context, principal, tenant, body)


# The installation


@router.get("/installation/tenants", tags=["installation"], operation_id="list_tenants")
def list_tenants(context: Ctx, owner: Owner) -> Page[TenantView]:
    """List all tenants of the installation."""
    return Page(items=installation.list_tenants(context))


@router.post("/installation/tenants", tags=["installation"], status_code=201, operation_id="add_tenant")
def add_tenant(context: Ctx, owner: Owner, body: NewTenant) -> TenantView:
    """Add a tenant. You become its admin."""
    return installation.add_tenant(context, owner, body)


@router.delete("/installation/tenants/{slug}", tags=["installation"], status_code=204, operation_id="delete_tenant")
def delete_tenant(
    context: Ctx,
    owner: Owner,
    slug: Annotated[str, Path(max_length=40)],
    confirm: Annotated[str, Query(max_length=40, description="The slug once more")] = "",
) -> None:
    """Delete a tenant with all its data. It is closed at once; its data are deleted in the background."""
    installation.delete_tenant(context, slug, confirm)


@router.get("/installation/people", tags=["installation"], operation_id="list_people")
def list_people(context: Ctx, owner: Owner) -> Page[Person]:
    """List all accounts of the installation."""
    return Page(items=installation.list_people(context))


@router.get("/installation/people/{email}", tags=["installation"], operation_id="get_person")
def get_person(context: Ctx, owner: Owner, email: _Email) -> Person:
    """Return an account."""
    return installation.get_person(context, email)


@router.put("/installation/people/{email}", tags=["installation"], operation_id="change_owner")
def change_owner(context: Ctx, owner: Owner, email: _Email, body: OwnerChange) -> Person:
    """Make somebody an owner of the installation, or no longer."""
    return installation.change_owner(context, email, body.is_owner)


@router.delete("/installation/people/{email}", tags=["installation"], status_code=204, operation_id="delete_person")
def delete_person(context: Ctx, owner: Owner, email: _Email) -> None:
    """Delete an account with its sessions and tokens. What the person did stays in the audit log."""
    installation.delete_person(context, email)


@router.post(
    "/installation/people/{email}/second-factor-reset", tags=["installation"], status_code=204,
    operation_id="reset_second_factor",
)  # fmt: skip
def reset_second_factor(context: Ctx, owner: Owner, email: _Email) -> None:
    """Turn off the second factor of somebody who has lost the device and the recovery codes."""
    installation.reset_second_factor(context, email)


@router.get("/installation/invitations", tags=["installation"], operation_id="list_owner_invitations")
def list_owner_invitations(context: Ctx, owner: Owner) -> Page[Invitation]:
    """List invitations to own the installation."""
    return Page(items=installation.list_invitations(context))


@router.post("/installation/invitations", tags=["installation"], status_code=201, operation_id="invite_owner")
def invite_owner(context: Ctx, owner: Owner, body: NewInvitation) -> MadeInvitation:
    """Invite somebody to own the installation."""
    return installation.invite_owner(context, owner, body)


@router.delete(
    "/installation/invitations/{id}", tags=["installation"], status_code=204, operation_id="delete_owner_invitation"
)
def delete_owner_invitation(context: Ctx, owner: Owner, id: int) -> None:
    """Withdraw an invitation to own the installation."""
    people.delete_invitation(context, None, id)


@router.get("/installation/assignments", tags=["installation"], operation_id="list_assignments")
def list_assignments(context: Ctx, owner: Owner) -> Page[Assignment]:
    """List the addresses, domains, folders and hosts of feeds and the tenants that they belong to."""
    return Page(items=installation.list_assignments(context))


@router.post("/installation/assignments", tags=["installation"], status_code=201, operation_id="add_assignment")
def add_assignment(context: Ctx, owner: Owner, body: NewAssignment) -> Assignment:
    """Assign an address, a domain, a folder or a host of feeds to a tenant."""
    return installation.add_assignment(context, owner, body)


@router.delete("/installation/assignments", tags=["installation"], status_code=204, operation_id="delete_assignment")
def delete_assignment(
    context: Ctx, owner: Owner, kind: AssignmentKind, value: Annotated[str, Query(max_length=320)]
) -> None:
    """Take an assignment back. Feeds that use it stop receiving."""
    installation.delete_assignment(context, kind, value)


# The audit log

_Text = Annotated[str, Query(max_length=200)]
_Cursor = Annotated[str | None, Query(max_length=200)]
_Limit = Annotated[int, Query(ge=1, le=1000)]


@router.get("/tenants/{tenant}/audit-log", tags=["people"], operation_id="list_audit_log")
def list_audit_log(
    context: Ctx, tenant: Tenant, account: _Text = "", action: _Text = "", text: _Text = "",
    since: Moment | None = None, until: Moment | None = None, cursor: _Cursor = None, limit: _Limit = 100,
) -> Page[AuditEntry]:  # fmt: skip
    """List who did what in this tenant, the newest first."""
    return audit_log.list_entries(context, tenant, _asked(account, action, text, since, until), cursor, limit)


@router.get("/installation/audit-log", tags=["installation"], operation_id="list_installation_audit_log")
def list_installation_audit_log(
    context: Ctx, owner: Owner, account: _Text = "", action: _Text = "", text: _Text = "",
    since: Moment | None = None, until: Moment | None = None, cursor: _Cursor = None, limit: _Limit = 100,
) -> Page[AuditEntry]:  # fmt: skip
    """List who did what in the whole installation, the newest first."""
    return audit_log.list_entries(context, None, _asked(account, action, text, since, until), cursor, limit)


def _asked(account: str, action: str, text: str, since: datetime | None, until: datetime | None) -> audit_log.Asked:
    return audit_log.Asked(account, action, text, since, until)


@router.get("/installation/audit-log/check", tags=["installation"], operation_id="check_audit_log")
def check_audit_log(context: Ctx, owner: Owner) -> ChainCheck:
    """Check that no entry of the audit log was changed, removed or inserted."""
    return audit_log.check(context)
