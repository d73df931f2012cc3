"""Credentials at rest: encrypted with the key from the configuration, and never shown again."""

import base64
import hashlib
import os
import secrets

from cryptography.fernet import Fernet, InvalidToken

from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.settings import Settings


def encrypt(settings: Settings, text: str) -> str:
    return _fernet(settings).encrypt(text.encode()).decode()


def decrypt(settings: Settings, token: str) -> str:
    """ServiceProblem `invalid-request` when the key in the configuration is another one by now."""
    try:
        return _fernet(settings).decrypt(token.encode()).decode()
    except InvalidToken:
        what = "A stored credential cannot be decrypted: secret_key has changed since it was stored"
        raise ServiceProblem("invalid-request", what, remedy="Enter the credential again") from None


def service_key(settings: Settings) -> str:
    """The key from the configuration, for whoever seals something of its own kind."""
    return _key(settings)


def _fernet(settings: Settings) -> Fernet:
    return Fernet(base64.urlsafe_b64encode(hashlib.sha256(_key(settings).encode()).digest()))


def _key(settings: Settings) -> str:
    """`secret_key`, or one that is made once and kept beside the private database."""
    if settings.secret_key is not None:
        return settings.secret_key.get_secret_value()
    path = settings.var_dir / "secret.key"
    try:
        return path.read_text("ascii")
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
        made = secrets.token_urlsafe(32)
        temporary = path.with_name(f"secret.key.{os.getpid()}.{secrets.token_hex(4)}")
        temporary.touch(mode=0o600)
        temporary.write_text(made, "ascii")
        try:
            os.link(temporary, path)  # fails when another process was faster: then that one counts
        except FileExistsError:
            made = path.read_text("ascii")
        finally:
            temporary.unlink()
        return made
