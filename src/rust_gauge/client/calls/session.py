"""Calls for signing in, and of `client.account`."""

import json
from typing import Any, TypeVar

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, repeatable
from rust_gauge.contract.common import Page
from rust_gauge.contract.preferences import Preferences
from rust_gauge.contract.session import (
    Code,
    Ended,
    Identity,
    NewPasskey,
    Passkey,
    PasskeyOptions,
    PasskeySignIn,
    PasswordChanged,
    RecoveryCodes,
    SecondFactor,
    SecondFactorStart,
    SessionInfo,
    SignInOptions,
    Who,
)

T = TypeVar("T")


def _secret(method: str, path: str, result: type[T], **values: str) -> Call[T]:
    """Return a call with a password in it. Not by the model: that hides the password when it is written out."""
    body = json.dumps({name: value for name, value in values.items() if value}).encode()
    return Call(method, f"/api/v1{path}", TypeAdapter(result), {}, body, repeatable=path == "/session")


def sign_in(email: str, password: str, code: str = "") -> Call[Who]:
    return _secret("POST", "/session", Who, email=email, password=password, code=code)


def get_preferences() -> Call[Preferences]:
    return make_call("GET", "/session/preferences", Preferences)


def set_preferences(preferences: Preferences) -> Call[Preferences]:
    return repeatable(make_call("PUT", "/session/preferences", Preferences, preferences))


def sign_out() -> Call[None]:
    return make_call("DELETE", "/session", type(None))


def who() -> Call[Who]:
    return make_call("GET", "/session", Who)


def accept_invitation(secret: str, name: str, password: str, code: str = "", email: str = "") -> Call[Who]:
    return _secret(
        "POST", "/invitations/acceptance", Who, secret=secret, name=name, password=password, code=code, email=email
    )


def list_sessions() -> Call[Page[SessionInfo]]:
    return make_call("GET", "/sessions", Page[SessionInfo])


def end_session(id: int) -> Call[None]:
    return make_call("DELETE", f"/sessions/{id}", type(None))


def end_other_sessions() -> Call[Ended]:
    return make_call("DELETE", "/sessions", Ended)


def change_password(current: str, new: str, tokens: str) -> Call[PasswordChanged]:
    return _secret("PUT", "/session/password", PasswordChanged, current=current, new=new, tokens=tokens)


def get_second_factor() -> Call[SecondFactor]:
    return make_call("GET", "/session/second-factor", SecondFactor)


def start_second_factor() -> Call[SecondFactorStart]:
    return make_call("POST", "/session/second-factor", SecondFactorStart)


def confirm_second_factor(code: str) -> Call[RecoveryCodes]:
    return make_call("PUT", "/session/second-factor", RecoveryCodes, Code(code=code))


def remove_second_factor(password: str) -> Call[None]:
    return _secret("POST", "/session/second-factor/removal", type(None), password=password)


def renew_recovery_codes(code: str) -> Call[RecoveryCodes]:
    return make_call("POST", "/session/second-factor/recovery-codes", RecoveryCodes, Code(code=code))


def check_second_factor(code: str) -> Call[None]:
    return make_call("POST", "/session/second-factor/check", type(None), Code(code=code))


def get_sign_in_options() -> Call[SignInOptions]:
    return make_call("GET", "/session/options", SignInOptions)


def start_passkey_sign_in() -> Call[PasskeyOptions]:
    return make_call("POST", "/session/passkey-options", PasskeyOptions)


def sign_in_with_passkey(credential: dict[str, Any]) -> Call[Who]:
    return make_call("POST", "/session/passkey", Who, PasskeySignIn(credential=credential))


def list_passkeys() -> Call[Page[Passkey]]:
    return make_call("GET", "/passkeys", Page[Passkey])


def start_passkey(password: str) -> Call[PasskeyOptions]:
    return _secret("POST", "/passkeys/options", PasskeyOptions, password=password)


def add_passkey(name: str, credential: dict[str, Any]) -> Call[Passkey]:
    return make_call("POST", "/passkeys", Passkey, NewPasskey(name=name, credential=credential))


def delete_passkey(id: int) -> Call[None]:
    return make_call("DELETE", f"/passkeys/{id}", type(None))


def list_identities() -> Call[Page[Identity]]:
    return make_call("GET", "/identities", Page[Identity])


def delete_identity(id: int) -> Call[None]:
    return make_call("DELETE", f"/identities/{id}", type(None))
