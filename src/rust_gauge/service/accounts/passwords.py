"""Passwords: what is accepted, how they are stored (argon2id) and checked. Measured the same wherever one is set."""

import secrets
import unicodedata

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from zxcvbn import zxcvbn

from rust_gauge.service.runtime.problems import ServiceProblem

LEAST, MOST = 10, 256  # characters, in NFC
_LOOKED_AT = 72  # characters whose strength is estimated: the time for it grows with the square of the length
_GUESSES = 1e8  # below this a list of common passwords and their usual changes finds it
_hasher = PasswordHasher(time_cost=3, memory_cost=19_456, parallelism=1)
# Checked when there is no such account, so that the answer takes as long as for one that exists.
_NOBODY = _hasher.hash(secrets.token_hex(16))


def hash_password(password: str) -> str:
    """Return what is stored of a password."""
    return _hasher.hash(_normal(password))


def is_password(password: str, password_hash: str | None) -> bool:
    """Return whether it is the password. It takes as long without a hash, for an account that does not exist."""
    try:
        _hasher.verify(password_hash or _NOBODY, _normal(password))
    except (VerificationError, InvalidHashError):
        return False
    return bool(password_hash)


def check_password(password: str, *of_person: str) -> None:
    """ServiceProblem `weak-password` for one that is too short, too long or easy to guess.

    `of_person`: address and name of whoever sets it; what contains them is easy to guess.
    """
    password = _normal(password)
    if not LEAST <= len(password) <= MOST:
        raise ServiceProblem(
            "weak-password", f"The password has {len(password):,} characters; {LEAST} to {MOST} are accepted"
        )
    known = [part.lower() for text in of_person for part in (text, *text.replace("@", " ").replace(".", " ").split())]
    own = next((part for part in known if len(part) >= 5 and part in password.lower()), None)
    if own is not None and len(password) - len(own) < LEAST - 2:
        raise ServiceProblem("weak-password", "The password consists of your own name or address", remedy=_REMEDY)
    found = zxcvbn(
        password[:_LOOKED_AT], user_inputs=[*known, "rustgauge", "rust gauge", "deliverability"], max_length=_LOOKED_AT
    )
    if found["guesses"] < _GUESSES:
        raise ServiceProblem("weak-password", "The password is easy to guess", remedy=_REMEDY)


_REMEDY = "Use several words that do not belong together, or let a password manager make one"


def _normal(password: str) -> str:
    return unicodedata.normalize("NFC", password)
