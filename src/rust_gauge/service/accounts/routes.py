"""Routes for signing in and for API tokens, under /api/v1."""

from fastapi import Request, Response

from rust_gauge.contract.common import Page
from rust_gauge.contract.session import MadeToken, NewToken, SignIn, Token, Who
from rust_gauge.service.accounts import accounts
from rust_gauge.service.http.access import COOKIE, Asker, Ctx, check_same_site
from rust_gauge.service.http.routing import api_router

router = api_router()


@router.post("/session", tags=["session"], operation_id="sign_in")
def sign_in(context: Ctx, request: Request, response: Response, body: SignIn) -> Who:
    """Sign in with a password. The session is set as a cookie."""
    check_same_site(request)
    secret, principal = accounts.sign_in(context, body.email, body.password.get_secret_value())
    response.set_cookie(
        COOKIE,
        secret,
        max_age=context.settings.session_hours * 3600,
        httponly=True,
        samesite="strict",
        secure=context.settings.public_url.startswith("https://"),
        path="/",
    )
    return accounts.describe(principal)


@router.get("/session", tags=["session"], operation_id="get_session")
def get_session(principal: Asker) -> Who:
    """Return who is signed in and which tenants they can see."""
    return accounts.describe(principal)


@router.delete("/session", tags=["session"], status_code=204, operation_id="sign_out")
def sign_out(context: Ctx, principal: Asker, request: Request, response: Response) -> None:
    """Sign out."""
    accounts.sign_out(context, request.cookies.get(COOKIE, ""))
    response.delete_cookie(COOKIE, path="/")


@router.get("/tokens", tags=["session"], operation_id="list_tokens")
def list_tokens(context: Ctx, principal: Asker) -> Page[Token]:
    """List your API tokens, without their secrets."""
    return Page(items=accounts.list_tokens(context, principal))


@router.post("/tokens", tags=["session"], status_code=201, operation_id="add_token")
def add_token(context: Ctx, principal: Asker, body: NewToken) -> MadeToken:
    """Create an API token for a program. Its secret is in this answer and is not shown again."""
    return accounts.add_token(context, principal, body)


@router.delete("/tokens/{id}", tags=["session"], status_code=204, operation_id="delete_token")
def delete_token(context: Ctx, principal: Asker, id: int) -> None:
    """Revoke an API token."""
    accounts.delete_token(context, principal, id)
