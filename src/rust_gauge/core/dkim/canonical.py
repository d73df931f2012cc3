"""The two canonicalisations of headers and bodies (RFC 6376 §3.4).

Written with whole-buffer operations: they run over every octet of every message.
"""

import re

import numpy as np

SIMPLE, RELAXED = "simple", "relaxed"
_BLANKS = re.compile(rb"[ \t]+")
_LINE_ENDS = (b"", b"\r", b"\n")


def canonical_header(raw: bytes, how: str) -> bytes:
    """One field without its last CRLF (§3.4.1, §3.4.2)."""
    if how == SIMPLE:
        return raw
    name, _, value = raw.partition(b":")
    if b"\n" in value:
        value = value.replace(b"\r\n", b"")
    if b"\t" in value or b"  " in value:
        value = _BLANKS.sub(b" ", value)
    return name.rstrip(b" \t").lower() + b":" + value.strip(b" \t")


def canonical_body(body: bytes, how: str) -> bytes:
    """Canonicalise a body (§3.4.3, §3.4.4). An empty one is CRLF in simple form and nothing in relaxed form."""
    if how == RELAXED:
        body = _with_single_blanks(body).removesuffix(b" ")
    if body.endswith(b"\r\n") and body[-3:-2] not in _LINE_ENDS:  # as nearly all: no copy is made
        return body
    body = _without_empty_end(body)
    if how == RELAXED and not body:
        return b""
    return body + b"\r\n"


def _with_single_blanks(body: bytes) -> bytes:
    """Each run of blanks as one space, and none before a CRLF: a space goes when a space or a CRLF follows it."""
    if b"\t" in body:
        body = body.replace(b"\t", b" ")
    octets = np.frombuffer(body, np.uint8)
    if octets.size < 2:
        return body
    space = octets == 0x20
    drop = octets[1:] == 0x0D  # worked on in place: each array more would push the message out of the cache
    drop[:-1] &= octets[2:] == 0x0A
    drop[-1] = False  # a CR at the very end has no LF behind it
    drop |= space[1:]
    drop &= space[:-1]
    if not drop.any():
        return body
    kept: bytes = octets[:-1][np.logical_not(drop, out=drop)].tobytes()
    return kept + body[-1:]


def _without_empty_end(body: bytes) -> bytes:
    """Without the CRLFs at its end; a single CR or LF there is content."""
    end = len(body.rstrip(b"\r\n"))
    tail = body[end:]
    if tail == b"\r\n" * (len(tail) // 2):
        return body[:end]
    while tail.endswith(b"\r\n"):
        tail = tail[:-2]
    return body[:end] + tail
