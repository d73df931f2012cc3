"""Signing a message (RFC 6376 §5): for our own test mail and the stand-ins."""

import base64
import hashlib
from collections.abc import Sequence

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
from cryptography.hazmat.primitives.asymmetric.utils import Prehashed
from cryptography.hazmat.primitives.hashes import SHA256

from rust_gauge.core.dkim.canonical import RELAXED, canonical_body, canonical_header
from rust_gauge.core.dkim.message import split_message
from rust_gauge.core.dkim.verify import _choose

PrivateKey = RSAPrivateKey | Ed25519PrivateKey
SIGNED = ("from", "to", "cc", "subject", "date", "message-id", "reply-to", "mime-version", "content-type",
          "list-unsubscribe", "list-unsubscribe-post")  # fmt: skip


def sign_message(
    raw: bytes,
    key: PrivateKey,
    *,
    domain: str,
    selector: str,
    headers: Sequence[str] = (),
    oversign: Sequence[str] = ("from",),
    header_form: str = RELAXED,
    body_form: str = RELAXED,
    identity: str = "",
    length: int | None = None,
    signed_at: int | None = None,
    expires_at: int | None = None,
    copy_fields: bool = False,
) -> bytes:
    """Return the message with a DKIM-Signature field on top.

    `headers` are the names to sign, each as often as it stands there (without it: those of `SIGNED` that are there);
    each of `oversign` once more. `length` is l= in octets of the canonical body. Times are Unix seconds.
    """
    message = split_message(raw)
    wanted = [name.lower() for name in headers]
    if not wanted:
        wanted = [name for name in SIGNED for _ in message.all(name)]
    wanted += [name.lower() for name in oversign]
    body = canonical_body(message.body, body_form)
    body_hash = hashlib.sha256(body if length is None else body[:length]).digest()
    algorithm = "rsa-sha256" if isinstance(key, RSAPrivateKey) else "ed25519-sha256"
    tags = [f"v=1; a={algorithm}; c={header_form}/{body_form}; d={domain}; s={selector};"]
    options = [f"i={identity};" if identity else "", f"l={length};" if length is not None else ""]
    options += [
        f"t={signed_at};" if signed_at is not None else "",
        f"x={expires_at};" if expires_at is not None else "",
    ]
    if any(options):
        tags.append(" ".join(option for option in options if option))
    tags.append(f"h={':'.join(wanted)};")
    if copy_fields:
        copies = [f"{f.name}:{_quoted(f.text)}" for name in dict.fromkeys(wanted) for f in message.all(name)]
        tags.append("z=" + "|\r\n\t ".join(copies) + ";")
    tags.append(f"bh={base64.b64encode(body_hash).decode()};")
    field = "DKIM-Signature: " + "\r\n\t".join([*tags, "b="])
    chosen = _choose(message, tuple(wanted))
    parts = [canonical_header(field.raw, header_form) for field in chosen if field is not None]
    parts.append(canonical_header(field.encode(), header_form))
    digest = hashlib.sha256(b"\r\n".join(parts)).digest()
    if isinstance(key, RSAPrivateKey):
        signature = key.sign(digest, PKCS1v15(), Prehashed(SHA256()))
    else:
        signature = key.sign(digest)  # RFC 8463 §3
    text = base64.b64encode(signature).decode()
    folded = "\r\n\t ".join(text[at : at + 70] for at in range(0, len(text), 70))
    head = b"\r\n".join(field.raw for field in message.fields)
    return f"{field}{folded}\r\n".encode() + head + b"\r\n\r\n" + message.body


def _quoted(text: str) -> str:
    """DKIM quoted-printable (§2.11)."""
    safe = range(0x21, 0x7F)
    return "".join(chr(o) if o in safe and chr(o) not in ";=|" else f"={o:02X}" for o in text.encode())
