"""The second factor: one-time codes (RFC 6238) and the recovery codes that replace them, each once."""

import secrets
from datetime import datetime
from functools import partial

import pyotp
import segno
from sqlalchemy import Connection

from rust_gauge.contract.session import RecoveryCodes, SecondFactor, SecondFactorStart
from rust_gauge.service.accounts.attempts import count_attempt, forget_attempts
from rust_gauge.service.accounts.passwords import is_password
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.principals import digest
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt
from rust_gauge.store import accounts, sign_in
from rust_gauge.store.accounts import AccountRow, Principal

_STEP = 30  # seconds, RFC 6238 §4
_AROUND = 1  # steps that a clock may be off
_RECOVERY_CODES = 10
_LETTERS = "23456789abcdefghjkmnpqrstuvwxyz"  # without those that look alike


def get(context: Context, principal: Principal) -> SecondFactor:
    """Return whether the second factor is on."""
    account = account_of(context, principal)
    left = context.store.transaction(lambda c: sign_in.count_recovery_codes(c, account.id))
    required = [tenant.slug for tenant in principal.tenants if tenant.second_factor]
    return SecondFactor(enabled=account.code_confirmed, recovery_codes=left, required_by=required)


def start(context: Context, principal: Principal) -> SecondFactorStart:
    """Make a secret; it is in use once a code was confirmed. ServiceProblem `already-there` when one is in use."""
    account = account_of(context, principal)
    if account.code_confirmed:
        raise ServiceProblem("already-there", "The second factor is on", remedy="Turn it off first to start over")
    secret = pyotp.random_base32()
    sealed = encrypt(context.settings, secret)
    context.store.transaction(lambda c: accounts.change_account(c, account.id, code_secret=sealed, code_step=0))
    uri = pyotp.TOTP(secret).provisioning_uri(name=account.email, issuer_name="Rust Gauge")
    qr = ["".join(str(int(cell)) for cell in row) for row in segno.make(uri, error="m").matrix]
    return SecondFactorStart(secret=secret, uri=uri, qr=qr)


def confirm(context: Context, principal: Principal, code: str) -> RecoveryCodes:
    """Turn the second factor on. ServiceProblem `wrong-code`."""
    account = account_of(context, principal)
    if account.code_confirmed or not account.code_secret:
        raise ServiceProblem(
            "already-there" if account.code_confirmed else "not-found", "No second factor waits for its code"
        )
    if not _is_code(context, account, code):
        raise ServiceProblem(
            "wrong-code", "The code does not match", remedy="Check the time of your device, and enter the newest code"
        )
    codes = _new_codes()

    def write(connection: Connection) -> None:
        accounts.change_account(connection, account.id, code_confirmed=True)
        sign_in.put_recovery_codes(connection, account.id, [digest(each) for each in codes])
        if principal.session_id is not None:
            sign_in.mark_second_factor(connection, principal.session_id)
            sign_in.end_sessions(connection, account.id, but=principal.session_id)  # they were opened without one

    context.store.transaction(write)
    return RecoveryCodes(codes=codes)


def check(context: Context, principal: Principal, code: str, *, address: str = "") -> None:
    """Show the second factor in a session that was opened without one. ServiceProblem `wrong-code`."""
    account = account_of(context, principal)
    count_attempt(context, account.email, address)
    if not account.code_confirmed or not is_second_factor(context, account, code):
        raise ServiceProblem("wrong-code", "The code does not match, or was used already")
    forget_attempts(context, account.email, address)
    if principal.session_id is not None:
        id = principal.session_id
        context.store.transaction(lambda c: sign_in.mark_second_factor(c, id))


def renew_codes(context: Context, principal: Principal, code: str) -> RecoveryCodes:
    """Replace the recovery codes. ServiceProblem `wrong-code`."""
    account = account_of(context, principal)
    if not account.code_confirmed or not is_second_factor(context, account, code):
        raise ServiceProblem("wrong-code", "The code does not match")
    codes = _new_codes()
    context.store.transaction(lambda c: sign_in.put_recovery_codes(c, account.id, [digest(each) for each in codes]))
    return RecoveryCodes(codes=codes)


def remove(context: Context, principal: Principal, password: str) -> None:
    """Turn the second factor off. ServiceProblem `wrong-password`, or `second-factor-required` by a tenant."""
    account = account_of(context, principal)
    if not is_password(password, account.password_hash):
        raise ServiceProblem("wrong-password", "The password does not match")
    required = [tenant.slug for tenant in principal.tenants if tenant.second_factor]
    if required:
        raise ServiceProblem(
            "second-factor-required", f"{', '.join(required)} requires a second factor",
            remedy="Ask an admin of the tenant to no longer require it",
        )  # fmt: skip
    context.store.transaction(lambda c: clear(c, account.id))


def clear(connection: Connection, account_id: int) -> None:
    """Turn an account's one-time codes off."""
    accounts.change_account(connection, account_id, code_secret="", code_confirmed=False, code_step=0)
    sign_in.put_recovery_codes(connection, account_id, [])


def is_second_factor(context: Context, account: AccountRow, code: str) -> bool:
    """Return whether a code is the account's one-time code now, or one of its recovery codes. It is used up."""
    code = code.strip().replace(" ", "").lower()
    if code.isdigit():
        return _is_code(context, account, code)
    return context.store.transaction(lambda c: sign_in.use_recovery_code(c, account.id, digest(code.replace("-", ""))))


def _is_code(context: Context, account: AccountRow, code: str) -> bool:
    now = context.clock()
    codes = pyotp.TOTP(decrypt(context.settings, account.code_secret))
    for step in _steps(now):
        if secrets.compare_digest(codes.generate_otp(step).encode(), code.strip().encode()):
            return context.store.transaction(partial(sign_in.take_code_step, account_id=account.id, step=step))
    return False


def _steps(now: datetime) -> list[int]:
    """Return the time steps whose codes are accepted now."""
    at = int(now.timestamp()) // _STEP
    return list(range(at - _AROUND, at + _AROUND + 1))


def _new_codes() -> list[str]:
    return ["".join(secrets.choice(_LETTERS) for _ in range(10)) for _ in range(_RECOVERY_CODES)]


def account_of(context: Context, principal: Principal) -> AccountRow:
    """Return the account of who asks. ServiceProblem `person-only` for a program."""
    if principal.token_id is not None:
        raise ServiceProblem("person-only", "A token cannot do this", remedy="Sign in with a password")
    found = context.store.transaction(lambda c: accounts.get_account(c, principal.account_id))
    if found is None:
        raise ServiceProblem("not-signed-in")
    return found
