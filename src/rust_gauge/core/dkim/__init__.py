"""DKIM (RFC 6376, 8301, 8463): key records (`key`), messages and their canonical forms (`message`, `canonical`), the
DKIM-Signature field (`signature`), verifying (`verify`) and signing (`sign`)."""

from rust_gauge.core.dkim.canonical import canonical_body, canonical_header
from rust_gauge.core.dkim.key import DkimKey, looks_like_key, parse_dkim_key
from rust_gauge.core.dkim.message import HeaderField, MailMessage, split_message
from rust_gauge.core.dkim.sign import sign_message
from rust_gauge.core.dkim.signature import DkimSignature, read_signature
from rust_gauge.core.dkim.verify import DkimResult, DkimVerdict, verify_message

__all__ = [
    "DkimKey",
    "DkimResult",
    "DkimSignature",
    "DkimVerdict",
    "HeaderField",
    "MailMessage",
    "canonical_body",
    "canonical_header",
    "looks_like_key",
    "parse_dkim_key",
    "read_signature",
    "sign_message",
    "split_message",
    "verify_message",
]
