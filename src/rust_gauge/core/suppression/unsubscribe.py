"""One-click unsubscribe: the header fields, and the sealed link in them (RFC 8058, RFC 2369).

A link names tenant, stream, domain and recipient, encrypted and authenticated in one (AES-SIV, RFC 5297): nobody can
read the address in it, change it, or make one. The same message always gets the same link.
"""

import base64
import binascii
import json
from dataclasses import dataclass
from hashlib import sha512

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESSIV

from rust_gauge.core.errors import RustGaugeError

POST_FIELD = "List-Unsubscribe=One-Click"  # value of List-Unsubscribe-Post, and body of the POST (RFC 8058 §3.1)
_PURPOSE = b"rust-gauge unsubscribe 1"


class LinkError(RustGaugeError):
    """A link that was not made here, or is cut off."""


@dataclass(frozen=True, slots=True)
class Link:
    """Who unsubscribes from what. An empty stream: from everything."""

    tenant_id: int
    stream: str
    domain: str
    recipient: str


def seal(secret: str, link: Link) -> str:
    """Write a link as text that may stand in an address: A-Z, a-z, 0-9, - and _."""
    text = json.dumps(
        [link.tenant_id, link.stream, link.domain, link.recipient], separators=(",", ":"), ensure_ascii=False
    )
    sealed = _cipher(secret).encrypt(text.encode("utf-8", "surrogatepass"), [_PURPOSE])
    return base64.urlsafe_b64encode(sealed).decode().rstrip("=")


def unseal(secret: str, token: str) -> Link:
    """Read the link in a token. LinkError for anything else."""
    try:
        octets = base64.b64decode(token + "=" * (-len(token) % 4), altchars=b"-_", validate=True)
        tenant_id, stream, domain, recipient = json.loads(_cipher(secret).decrypt(octets, [_PURPOSE]))
    except (binascii.Error, InvalidTag, ValueError, UnicodeError):
        raise LinkError("This link is invalid or incomplete") from None
    return Link(tenant_id, stream, domain, recipient)


def _cipher(secret: str) -> AESSIV:
    return AESSIV(sha512(b"unsubscribe\0" + secret.encode()).digest())


def list_unsubscribe(base_url: str, mailbox: str, token: str) -> str:
    """Return List-Unsubscribe: the address to post to, and where there is a mailbox that too (RFC 2369 §3.2)."""
    ways = [f"<{base_url.rstrip('/')}/unsubscribe/{token}>"]
    if mailbox:
        ways.append(f"<mailto:{mailbox}?subject={token}>")
    return ", ".join(ways)


def is_one_click(body: bytes, content_type: str) -> bool:
    """Return whether a POST is the one that RFC 8058 describes, as a form in either encoding."""
    text = body[:2000].decode("ascii", "replace")
    if content_type.partition(";")[0].strip().lower() == "multipart/form-data":
        return 'name="List-Unsubscribe"' in text and "One-Click" in text
    return any(part.strip() == POST_FIELD for part in text.split("&"))


def token_in_subject(subject: str) -> str:
    """Find the token that a mailto form brought, whatever a mail program put before it; empty where there is none."""
    words = [word for word in subject.replace("\r\n", "").split() if len(word) > 40]
    return words[-1] if words else ""
