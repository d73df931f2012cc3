"""Signed webhooks in the open Standard Webhooks form: the signature, its check, and when to try again.

A message has an id, a time and a body; `webhook-signature` holds HMAC-SHA256 over "id.time.body" with the shared
secret. The id stays the same over all tries, so that a receiver can drop what it has seen.
"""

import base64
import hashlib
import hmac
from collections.abc import Mapping, Sequence
from datetime import timedelta

from rust_gauge.core.errors import RustGaugeError

SECRET_PREFIX = "whsec_"  # noqa: S105 - what secrets begin with, none itself
TOLERANCE = 300  # seconds that a message may be old, or ahead
# Seconds before each retry: two days in all, as receivers are down over a weekend.
_PAUSES = (10, 60, 300, 1800, 2 * 3600, 6 * 3600, 12 * 3600, 24 * 3600)


class WebhookRefused(RustGaugeError):
    """A message whose signature or time is not right."""


def secret_text(secret: bytes) -> str:
    """Return a secret as it is shown: base64 behind its prefix."""
    return SECRET_PREFIX + base64.b64encode(secret).decode()


def sign(secret: str, message_id: str, seconds: int, body: bytes) -> str:
    """Return the value of `webhook-signature`. `seconds` since 1970. ValueError for a secret that is none."""
    return "v1," + base64.b64encode(_digest(secret, message_id, str(seconds), body)).decode()


def headers_of(secrets: Sequence[str], message_id: str, seconds: int, body: bytes) -> dict[str, str]:
    """Return the three headers of a message. Several secrets sign it while one replaces the other."""
    signature = " ".join(sign(secret, message_id, seconds, body) for secret in secrets)
    return {"webhook-id": message_id, "webhook-timestamp": str(seconds), "webhook-signature": signature}


def verify(secret: str, headers: Mapping[str, str], body: bytes, now: int) -> str:
    """Return the id of a message that is genuine and recent. WebhookRefused otherwise.

    `headers` by lower-case name. Several signatures may stand beside each other while a secret is being changed.
    """
    message_id, seconds = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    signatures = headers.get("webhook-signature", "").split()
    if not (message_id and seconds.isascii() and seconds.isdigit() and len(seconds) < 15 and signatures):
        raise WebhookRefused("webhook-id, webhook-timestamp or webhook-signature is missing")
    if abs(now - int(seconds)) > TOLERANCE:
        raise WebhookRefused(f"The message is off by more than {TOLERANCE} seconds", remedy="Check the clock")
    wanted = "v1," + base64.b64encode(_digest(secret, message_id, seconds, body)).decode()
    if not any(hmac.compare_digest(wanted.encode(), signature.encode("utf-8", "replace")) for signature in signatures):
        raise WebhookRefused("The signature does not match this secret and body", remedy="Compare the secrets")
    return message_id


def pause_after(attempts: int) -> timedelta | None:
    """How long to wait after so many tries that failed; None when it is given up, after about two days."""
    return timedelta(seconds=_PAUSES[attempts - 1]) if attempts <= len(_PAUSES) else None


def _digest(secret: str, message_id: str, seconds: str, body: bytes) -> bytes:
    key = base64.b64decode(secret.removeprefix(SECRET_PREFIX), validate=True)
    return hmac.new(key, f"{message_id}.{seconds}.".encode() + body, hashlib.sha256).digest()
