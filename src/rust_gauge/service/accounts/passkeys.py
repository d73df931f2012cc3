"""Passkeys: WebAuthn credentials of a person, and signing in with one. The library checks what the browser sends.

A passkey counts as password and second factor together, so its authenticator has to verify the user each time.
"""

import json
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any, TypeVar
from urllib.parse import urlsplit

import webauthn
from sqlalchemy import Connection
from sqlalchemy.exc import IntegrityError
from webauthn.authentication.verify_authentication_response import VerifiedAuthentication
from webauthn.helpers import base64url_to_bytes, parse_client_data_json
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    CredentialDeviceType,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from rust_gauge.contract.session import NewPasskey, Passkey, PasskeyOptions
from rust_gauge.service.accounts.attempts import count_attempt, forget_attempts
from rust_gauge.service.accounts.passwords import is_password
from rust_gauge.service.accounts.second_factor import account_of
from rust_gauge.service.accounts.sessions import open_session
from rust_gauge.service.runtime.audit_log import record
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.store import accounts, sign_in
from rust_gauge.store import passkeys as store
from rust_gauge.store.accounts import AccountRow, Principal

T = TypeVar("T")
_VALID = timedelta(minutes=5)
_MOST = 20  # passkeys of an account
_SEAL = "passkey challenge "
_ANYBODY = "(passkey)"  # whom attempts are counted for: a passkey names its account only once it was checked


def origin(context: Context) -> str:
    """Return the console's address at which passkeys work; empty where it has no name (an address is not enough)."""
    settings = context.settings
    if settings.public_url:
        parts = urlsplit(settings.public_url)
        host, found = parts.hostname or "", f"{parts.scheme}://{parts.netloc}".lower()
        named = bool(host) and not host.replace(".", "").isdigit() and ":" not in host
        return found if named and (parts.scheme == "https" or host == "localhost") else ""
    if settings.tls_cert_file is None and settings.host in ("127.0.0.1", "localhost", "::1"):
        return f"http://localhost:{settings.port}"
    return ""


def list_passkeys(context: Context, principal: Principal) -> list[Passkey]:
    account = account_of(context, principal)
    rows = context.store.transaction(lambda c: store.list_passkeys(c, account.id))
    return [
        Passkey(
            id=row.id, name=row.name, synced=row.synced, created_at=row.created_at, last_used_at=row.last_used_at
        ) for row in rows
    ]  # fmt: skip


def start(context: Context, principal: Principal, password: str, *, address: str) -> PasskeyOptions:
    """Return options for making a passkey. ServiceProblem `wrong-password`, `too-many-attempts` or `too-large`."""
    account = account_of(context, principal)
    host = _host(context)
    if account.password_hash:
        count_attempt(context, account.email, address)
        if not is_password(password, account.password_hash):
            raise ServiceProblem("wrong-password", "The password does not match")
        forget_attempts(context, account.email, address)
    known = context.store.transaction(lambda c: store.list_passkeys(c, account.id))
    if len(known) >= _MOST:
        raise ServiceProblem("too-large", f"You have {_MOST} passkeys, the limit", remedy="Delete some")
    options = webauthn.generate_registration_options(
        rp_id=host, rp_name="Rust Gauge", user_name=account.email, user_display_name=account.name,
        user_id=f"rust-gauge-{account.id}".encode(),
        authenticator_selection=AuthenticatorSelectionCriteria(
            resident_key=ResidentKeyRequirement.REQUIRED, user_verification=UserVerificationRequirement.REQUIRED
        ),
        exclude_credentials=[PublicKeyCredentialDescriptor(id=row.credential_id) for row in known],
        challenge=_new_challenge(context, account.id),
    )  # fmt: skip
    return PasskeyOptions(options=json.loads(webauthn.options_to_json(options)))


def add(context: Context, principal: Principal, new: NewPasskey) -> Passkey:
    """Store a passkey that was made. ServiceProblem `wrong-passkey`."""
    account = account_of(context, principal)
    challenge = _challenge(context, new.credential, account.id)
    made = _checked(
        lambda: webauthn.verify_registration_response(
            credential=new.credential,
            expected_challenge=challenge,
            expected_rp_id=_host(context),
            expected_origin=origin(context),
            require_user_verification=True,
        )
    )
    now, synced = context.clock(), made.credential_device_type == CredentialDeviceType.MULTI_DEVICE

    def write(connection: Connection) -> None:
        store.add_passkey(
            connection, account.id, new.name, made.credential_id, made.credential_public_key, made.sign_count, synced,
            now,
        )  # fmt: skip
        if principal.session_id is not None:
            sign_in.mark_second_factor(connection, principal.session_id)

    try:
        context.store.transaction(write)
    except IntegrityError:
        raise ServiceProblem("already-there", "This passkey belongs to an account already") from None
    return list_passkeys(context, principal)[-1]


def delete(context: Context, principal: Principal, id: int) -> None:
    account = account_of(context, principal)
    if not context.store.transaction(lambda c: store.delete_passkey(c, account.id, id)):
        raise ServiceProblem("not-found", f"Passkey {id} not found")


def start_sign_in(context: Context) -> PasskeyOptions:
    """Return options for signing in with any passkey that the browser has for this console."""
    options = webauthn.generate_authentication_options(
        rp_id=_host(context), user_verification=UserVerificationRequirement.REQUIRED,
        challenge=_new_challenge(context, None),
    )  # fmt: skip
    return PasskeyOptions(options=json.loads(webauthn.options_to_json(options)))


def sign_in_with(
    context: Context, credential: dict[str, Any], *, address: str = "", agent: str = ""
) -> tuple[str, Principal]:
    """A session's secret and who it is. ServiceProblem `wrong-passkey` or `too-many-attempts`."""
    count_attempt(context, _ANYBODY, address)
    challenge = _challenge(context, credential, None)
    account = _account_of(context, credential, challenge)
    forget_attempts(context, _ANYBODY, address)
    secret, principal = open_session(context, account, address=address, agent=agent, second_factor=True)
    record(context, "sign_in", principal=principal, address=address, after={"with": "passkey"}, about_people=True)
    return secret, principal


def _account_of(context: Context, credential: dict[str, Any], challenge: bytes) -> AccountRow:
    """Return whose passkey it is, once it was checked. Two uses of the same one are checked one after the other."""
    id, now = _checked(lambda: base64url_to_bytes(credential["id"])), context.clock()

    def use(connection: Connection) -> AccountRow | None:
        row = store.find_passkey(connection, id)
        if row is None:
            raise ServiceProblem("wrong-passkey", "This passkey belongs to no account here")

        def check() -> VerifiedAuthentication:
            return webauthn.verify_authentication_response(
                credential=credential, expected_challenge=challenge, expected_rp_id=_host(context),
                expected_origin=origin(context), credential_public_key=row.public_key,
                credential_current_sign_count=row.sign_count, require_user_verification=True,
            )  # fmt: skip

        store.note_use(connection, row.id, _checked(check).new_sign_count, now)
        return accounts.get_account(connection, row.account_id)

    account = context.store.transaction(use)
    if account is None:
        raise ServiceProblem("wrong-passkey", "The account of this passkey was deleted")
    return account


def _host(context: Context) -> str:
    host = urlsplit(origin(context)).hostname
    if not host:
        raise ServiceProblem(
            "invalid-request", "Passkeys need an address with a name and TLS",
            remedy="Set public_url in the service settings, for example https://gauge.example.test",
        )  # fmt: skip
    return host


def _new_challenge(context: Context, account_id: int | None) -> bytes:
    """Return a challenge that says itself whose it is and until when, sealed.

    Nothing is stored until it is used: strangers may ask for as many as they like.
    """
    until = context.clock() + _VALID
    return encrypt(context.settings, f"{_SEAL}{account_id or 0} {until.isoformat()}").encode()


def _challenge(context: Context, credential: dict[str, Any], account_id: int | None) -> bytes:
    """Return the challenge that a credential signed, which is used up. ServiceProblem `wrong-passkey`."""
    now = context.clock()
    found = _checked(
        lambda: parse_client_data_json(base64url_to_bytes(credential["response"]["clientDataJSON"])).challenge
    )
    text = _checked(lambda: decrypt(context.settings, found.decode("ascii")))
    if not text.startswith(f"{_SEAL}{account_id or 0} "):
        raise ServiceProblem("wrong-passkey", "This answers a request that was not made here", remedy="Retry")
    until = datetime.fromisoformat(text.rpartition(" ")[2])
    if until <= now or not context.store.transaction(lambda c: store.use_challenge(c, found, now, until)):
        raise ServiceProblem("wrong-passkey", "The time for this has run out, or it was used already", remedy="Retry")
    return found


def _checked(work: Callable[[], T]) -> T:
    """Return what the library made of a stranger's input; whatever it raises means that the input is wrong."""
    try:
        return work()
    except ServiceProblem:
        raise
    except Exception as error:
        raise ServiceProblem("wrong-passkey", f"The passkey was not accepted: {error}"[:300]) from None
