"""Signing in with an account elsewhere: OpenID Connect 1.0, authorization code flow with PKCE (RFC 7636).

What has to come back is sealed into a cookie of the browser that set out, so any process can finish what another began.
The ID token is checked by a library: signature, issuer, audience, time and nonce.
"""

import base64
import hashlib
import json
import secrets
import threading
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import urlencode

import structlog
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError

from rust_gauge.contract.session import Identity, Issuer
from rust_gauge.gateways.issuer import IssuerClient, IssuerFailed
from rust_gauge.service.accounts.second_factor import account_of
from rust_gauge.service.accounts.sessions import open_session
from rust_gauge.service.runtime.audit_log import record
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem, unknown_name
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.service.runtime.settings import SignInIssuer
from rust_gauge.store import accounts
from rust_gauge.store import identities as store
from rust_gauge.store.accounts import AccountRow, Principal

log = structlog.get_logger()
VALID = timedelta(minutes=10)  # to sign in at the issuer
_ALGORITHMS = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"]
_FRESH = timedelta(minutes=10)  # configuration and keys of an issuer
_AGAIN = timedelta(seconds=30)  # before unknown keys are looked for once more
_LEEWAY = 60  # seconds that clocks may differ


@dataclass(frozen=True, slots=True)
class Departure:
    """Where the browser is sent, and what it carries in a cookie meanwhile."""

    address: str
    sealed: str


@dataclass(frozen=True, slots=True)
class _Known:
    configuration: dict[str, Any]
    keys: dict[str, Any]
    since: datetime


_known: dict[str, _Known] = {}
_lock = threading.Lock()


def issuers(context: Context) -> list[Issuer]:
    """Return the issuers that people can choose."""
    return [Issuer(name=name, title=each.title or name) for name, each in context.settings.sign_in_issuers.items()]


def set_out(context: Context, name: str, *, page: str = "/", link_to: int | None = None) -> Departure:
    """Begin to sign in at an issuer, or to link an account of there (`link_to`). ServiceProblem `issuer-failed`."""
    settings = _settings(context, name)
    known = _configuration(context, settings)
    state, nonce, verifier = (secrets.token_urlsafe(32) for _ in range(3))
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    query = {
        "response_type": "code", "scope": "openid email profile", "client_id": settings.client_id, "state": state,
        "redirect_uri": return_address(context, name), "nonce": nonce, "code_challenge": challenge,
        "code_challenge_method": "S256",
    }  # fmt: skip
    carried = {
        "issuer": name, "state": state, "nonce": nonce, "verifier": verifier, "page": own_page(page), "link": link_to,
        "until": (context.clock() + VALID).timestamp(),
    }  # fmt: skip
    endpoint = known.configuration["authorization_endpoint"]
    address = f"{endpoint}{'&' if '?' in endpoint else '?'}{urlencode(query)}"
    return Departure(address, encrypt(context.settings, json.dumps(carried)))


def return_address(context: Context, name: str) -> str:
    """Return the address to which an issuer sends people back; it has to be registered there."""
    return f"{context.settings.base_url}/api/v1/session/issuers/{name}/return"


def own_page(page: str) -> str:
    """Return a path of the console; the wall for anything that could lead elsewhere."""
    plain = page.startswith("/") and not page.startswith(("//", "/\\")) and page.isprintable() and "\\" not in page
    return page if plain and len(page) <= 500 else "/"


def arrive(
    context: Context, name: str, sealed: str, state: str, code: str, *, address: str = "", agent: str = ""
) -> tuple[str, str | None]:
    """Finish what was begun: return the page to show, and a session's secret unless an account was linked.

    ServiceProblem `issuer-failed`, `no-account` or `already-there`.
    """
    settings = _settings(context, name)
    carried = _opened(context, name, sealed, state)
    claims = _claims(context, settings, carried, return_address(context, name), code)
    digest = hashlib.sha256(f"{settings.issuer}\n{claims['sub']}".encode()).digest()
    email = str(claims.get("email") or "").strip().lower()[:254]
    if carried["link"] is not None:
        _link(context, name, carried["link"], digest, email, address)
        return carried["page"], None
    account = _account_for(context, name, settings, digest, email, verified=claims.get("email_verified") is True)
    methods = claims.get("amr")
    both = settings.second_factor or (isinstance(methods, list) and "mfa" in methods)  # RFC 8176 §2
    secret, principal = open_session(context, account, address=address, agent=agent, second_factor=both)
    record(context, "sign_in", principal=principal, address=address, after={"with": name}, about_people=True)
    return carried["page"], secret


def _opened(context: Context, name: str, sealed: str, state: str) -> dict[str, Any]:
    """Return what the browser carried. ServiceProblem `issuer-failed` when it is another's, or too old."""
    try:
        carried: dict[str, Any] = json.loads(decrypt(context.settings, sealed))
    except (ServiceProblem, ValueError):
        carried = {}
    same = secrets.compare_digest(str(carried.get("state", "")).encode(), state.encode())
    if not carried or not same or carried["issuer"] != name or carried["until"] < context.clock().timestamp():
        raise ServiceProblem("issuer-failed", "Signing in took too long, or began in another browser", remedy="Retry")
    return carried


def _claims(context: Context, settings: SignInIssuer, carried: dict[str, Any], back: str, code: str) -> dict[str, Any]:
    """Return the claims of the ID token that a code stands for (OpenID Connect Core 1.0 §3.1.3.7)."""
    known = _configuration(context, settings)
    form = {"grant_type": "authorization_code", "code": code, "redirect_uri": back,
            "code_verifier": carried["verifier"]}  # fmt: skip
    methods = known.configuration.get("token_endpoint_auth_methods_supported") or ["client_secret_basic"]
    try:
        answer = _client(context, settings).exchange(
            known.configuration["token_endpoint"], form, settings.client_id, settings.client_secret.get_secret_value(),
            methods if isinstance(methods, list) else [],
        )  # fmt: skip
        token = answer.get("id_token")
        if not isinstance(token, str):
            raise ServiceProblem("issuer-failed", "The issuer returned no ID token")
        claims = _decoded(context, settings, known, token)
        jwt.JWTClaimsRegistry(
            now=int(context.clock().timestamp()), leeway=_LEEWAY, iss={"essential": True, "value": settings.issuer},
            aud={"essential": True, "value": settings.client_id}, exp={"essential": True}, iat={"essential": True},
            sub={"essential": True}, nonce={"essential": True, "value": carried["nonce"]},
        ).validate(claims)  # fmt: skip
        if isinstance(claims["aud"], list) and len(claims["aud"]) > 1 and claims.get("azp") != settings.client_id:
            raise ServiceProblem("issuer-failed", "The ID token is for several programs and authorised for another")
        if not isinstance(claims["sub"], str) or not 0 < len(claims["sub"]) <= 255:
            raise ServiceProblem("issuer-failed", "The ID token names nobody")
    except IssuerFailed as error:
        raise _failed(error) from None
    except (JoseError, ValueError, KeyError, TypeError) as error:
        log.warning("id_token_refused", issuer=settings.issuer, error=str(error)[:200])
        raise ServiceProblem("issuer-failed", f"The ID token is not valid: {error}"[:200]) from None
    return claims


def _decoded(context: Context, settings: SignInIssuer, known: _Known, token: str) -> dict[str, Any]:
    """Return the claims of a token whose signature is right. Keys that are not known yet are looked for once."""
    try:
        return jwt.decode(token, KeySet.import_key_set(known.keys), algorithms=_ALGORITHMS).claims  # type: ignore[arg-type]
    except (JoseError, ValueError):
        newer = _configuration(context, settings, older_than=_AGAIN)
        if newer is known:
            raise
        return jwt.decode(token, KeySet.import_key_set(newer.keys), algorithms=_ALGORITHMS).claims  # type: ignore[arg-type]


def _account_for(
    context: Context, name: str, settings: SignInIssuer, digest: bytes, email: str, *, verified: bool
) -> AccountRow:
    """Return the account that is linked; else that of the verified address, where the issuer vouches for its domain."""
    now = context.clock()
    vouched = verified and email.rpartition("@")[2] in settings.domains

    def find(connection: Connection) -> AccountRow | None:
        linked = store.find_identity(connection, digest)
        if linked is not None:
            store.note_use(connection, linked.id, now)
            return accounts.get_account(connection, linked.account_id)
        account = accounts.find_account(connection, email) if vouched and email else None
        if account is not None:
            store.add_identity(connection, account.id, name, digest, email, now)
        return account

    try:
        account = context.store.transaction(find)
    except IntegrityError:  # the same person in two windows
        account = context.store.transaction(find)
    if account is None:
        raise ServiceProblem(
            "no-account", f"{email or 'This account'} is not linked to an account here",
            remedy="Sign in with your password and link it under Settings, Account; or ask for an invitation",
        )  # fmt: skip
    return account


def _link(context: Context, name: str, account_id: int, digest: bytes, email: str, address: str) -> None:
    now = context.clock()

    def write(connection: Connection) -> str:
        account, linked = accounts.get_account(connection, account_id), store.find_identity(connection, digest)
        if account is None or (linked is not None and linked.account_id != account_id):
            raise ServiceProblem("already-there", "It is linked to another account here")
        if linked is None:
            store.add_identity(connection, account_id, name, digest, email, now)
        return account.email

    who = context.store.transaction(write)
    record(context, "link_identity", account=who, address=address, after={"issuer": name}, about_people=True)


def list_identities(context: Context, principal: Principal) -> list[Identity]:
    account = account_of(context, principal)
    titles = {issuer.name: issuer.title for issuer in issuers(context)}
    rows = context.store.transaction(lambda c: store.list_identities(c, account.id))
    return [
        Identity(
            id=row.id, issuer=row.issuer, title=titles.get(row.issuer, row.issuer), email=row.email,
            created_at=row.created_at, last_used_at=row.last_used_at,
        ) for row in rows
    ]  # fmt: skip


def unlink(context: Context, principal: Principal, id: int) -> None:
    """Unlink an identity; the account keeps its password and passkeys."""
    account = account_of(context, principal)
    if not context.store.transaction(lambda c: store.delete_identity(c, account.id, id)):
        raise ServiceProblem("not-found", f"Identity {id} not found")


def _settings(context: Context, name: str) -> SignInIssuer:
    found = context.settings.sign_in_issuers.get(name)
    if found is None:
        raise unknown_name("The service", "issuer", name, list(context.settings.sign_in_issuers))
    return found


def _client(context: Context, settings: SignInIssuer) -> IssuerClient:
    return IssuerClient(settings.issuer, str(context.settings.tls_ca_file or ""))


def _configuration(context: Context, settings: SignInIssuer, older_than: timedelta = _FRESH) -> _Known:
    """Return an issuer's configuration and keys, which are asked for again once they are older."""
    now = context.clock()
    with _lock:
        known = _known.get(settings.issuer)
    if known is not None and now - known.since <= older_than:
        return known
    client = _client(context, settings)
    try:
        configuration = client.configuration()
        known = _Known(configuration, client.keys(configuration["jwks_uri"]), now)
    except IssuerFailed as error:
        raise _failed(error) from None
    with _lock:
        _known[settings.issuer] = known
    return known


def _failed(error: IssuerFailed) -> ServiceProblem:
    log.warning("issuer_failed", error=str(error), why=error.why)
    return ServiceProblem("issuer-failed", str(error), remedy=error.remedy or "Retry, or sign in with your password")
