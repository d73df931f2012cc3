"""DKIM (RFC 6376, 8301, 8463): so far the key record (`key`). Signing and verifying belong beside it."""

from rust_gauge.core.dkim.key import DkimKey, looks_like_key, parse_dkim_key

__all__ = ["DkimKey", "looks_like_key", "parse_dkim_key"]
