"""The two canonicalisations of headers and bodies (RFC 6376 §3.4).

Written with whole-buffer operations: they run over every octet of every message.
"""

import re

SIMPLE, RELAXED = "simple", "relaxed"
_BLANKS = re.compile(rb"[ \t]+")


def canonical_header(raw: bytes, how: str) -> bytes:
    """One field without its last CRLF (§3.4.1, §3.4.2)."""
    if how == SIMPLE:
        return raw
    name, _, value = raw.partition(b":")
    return name.rstrip(b" \t").lower() + b":" + _BLANKS.sub(b" ", value.replace(b"\r\n", b"")).strip(b" \t")


def canonical_body(body: bytes, how: str) -> bytes:
    """A body (§3.4.3, §3.4.4). An empty one is CRLF in simple form and nothing in relaxed form."""
    if how == RELAXED:
        body = body.replace(b"\t", b" ")
        while b"  " in body:
            body = body.replace(b"  ", b" ")
        body = body.replace(b" \r\n", b"\r\n").removesuffix(b" ")
    body = _without_empty_end(body)
    if how == RELAXED and not body:
        return b""
    return body + b"\r\n"


def _without_empty_end(body: bytes) -> bytes:
    """Without the CRLFs at its end; a single CR or LF there is content."""
    end = len(body.rstrip(b"\r\n"))
    tail = body[end:]
    if tail == b"\r\n" * (len(tail) // 2):
        return body[:end]
    while tail.endswith(b"\r\n"):
        tail = tail[:-2]
    return body[:end] + tail
