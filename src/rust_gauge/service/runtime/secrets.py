"""Credentials at rest: encrypted with the key from the configuration, and never shown again.

There is one key that encrypts, and there may be earlier ones that still decrypt. `rotate_keys` encrypts everything
again with the first; the earlier ones stay for links in messages that were sent with them.
"""

import base64
import hashlib
import os
import secrets

from cryptography.fernet import Fernet, InvalidToken, MultiFernet

from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import credentials
from rust_gauge.store.engine import Store


def encrypt(settings: Settings, text: str) -> str:
    return _fernet(settings).encrypt(text.encode()).decode()


def decrypt(settings: Settings, token: str) -> str:
    """ServiceProblem `invalid-request` when none of the keys of the configuration decrypts it."""
    try:
        return _fernet(settings).decrypt(token.encode()).decode()
    except InvalidToken:
        what = "A stored credential cannot be decrypted: secret_key has changed since it was stored"
        remedy = "Enter the credential again, or set previous_secret_keys"
        raise ServiceProblem("invalid-request", what, remedy=remedy) from None


def service_key(settings: Settings) -> str:
    """The key from the configuration, for whoever seals something of its own kind."""
    return service_keys(settings)[0]


def service_keys(settings: Settings) -> list[str]:
    """That key, and the earlier ones, for whoever opens what was sealed."""
    if settings.secret_key is not None:
        return [key.get_secret_value() for key in (settings.secret_key, *settings.previous_secret_keys)]
    return _kept_keys(settings)


def make_key(settings: Settings) -> bool:
    """Put a new key before those beside the private database. False where the settings have the key."""
    if settings.secret_key is not None:
        return False
    _write(settings, [secrets.token_urlsafe(32), *_kept_keys(settings)])
    return True


def rotate_keys(settings: Settings, store: Store) -> int:
    """Encrypt every stored credential with the first key. Return how many there were. Safe while the service runs."""
    fernet = _fernet(settings)

    def again(token: str) -> str:
        try:
            return fernet.rotate(token.encode()).decode()
        except InvalidToken:
            what = "A stored credential cannot be decrypted by any key"
            raise ServiceProblem(
                "invalid-request", what, remedy="Set previous_secret_keys to the keys that it was stored with"
            ) from None

    return store.transaction(lambda connection: credentials.rewrite(connection, again))


def _fernet(settings: Settings) -> MultiFernet:
    digests = (hashlib.sha256(key.encode()).digest() for key in service_keys(settings))
    return MultiFernet([Fernet(base64.urlsafe_b64encode(digest)) for digest in digests])


def _kept_keys(settings: Settings) -> list[str]:
    """Keys that are kept beside the private database, the newest first; the first one is made when it is needed."""
    path = settings.var_dir / "secret.key"
    try:
        return path.read_text("ascii").split()
    except FileNotFoundError:
        return _first_key(settings)


def _first_key(settings: Settings) -> list[str]:
    path = settings.var_dir / "secret.key"
    path.parent.mkdir(parents=True, exist_ok=True)
    made = secrets.token_urlsafe(32)
    temporary = path.with_name(f"secret.key.{os.getpid()}.{secrets.token_hex(4)}")
    temporary.touch(mode=0o600)
    temporary.write_text(made, "ascii")
    try:
        os.link(temporary, path)  # fails when another process was faster: then that one counts
    except FileExistsError:
        return path.read_text("ascii").split()
    finally:
        temporary.unlink()
    return [made]


def _write(settings: Settings, keys: list[str]) -> None:
    path = settings.var_dir / "secret.key"
    temporary = path.with_name(f"secret.key.{os.getpid()}.{secrets.token_hex(4)}")
    temporary.touch(mode=0o600)
    temporary.write_text("\n".join(keys) + "\n", "ascii")
    temporary.replace(path)
