"""The field that a receiver would write about a message (RFC 8601): Authentication-Results, from what was verified."""

import base64
import re

from rust_gauge.core.arc import ArcOutcome, ArcResult
from rust_gauge.core.message import Authentication

_TOKEN = re.compile(r"[A-Za-z0-9!#$%&'*+\-.^_`{|}~@/]{1,300}")
_DOT_ATOM = re.compile(r"[A-Za-z0-9.@_-]+")


def results_field(
    server: str, found: Authentication, arc: ArcOutcome | None, *, ip: str = "", helo: str = "", mail_from: str = ""
) -> str:
    """Return the field with its name, folded. `server` is the host that would write it (authserv-id, §2.5).

    Methods are in the order spf, dkim, dmarc, arc; without any, the result is `none` (§2.2).
    """
    parts = []
    if found.spf is not None:
        outcome = found.spf.mail_from
        what = f"smtp.mailfrom={_value(mail_from)}" if mail_from else f"smtp.helo={_value(helo)}"
        comment = f" (sender IP is {ip})" if ip else ""
        parts.append(f"spf={outcome.result}{comment} {what}")
    for verdict in found.signatures:
        begins = base64.b64encode(verdict.signature.signature).decode()[:8]
        reason = "" if verdict.result == "pass" else f" reason={_value(verdict.reason)}"
        parts.append(
            f"dkim={verdict.result}{reason} header.d={_value(verdict.signature.domain)} "
            f"header.s={_value(verdict.signature.selector)}" + (f" header.b={_value(begins)}" if begins else "")
        )
    if not found.signatures:
        parts.append("dkim=none")
    if found.dmarc:
        outcome_ = found.dmarc[0]
        parts.append(f"dmarc={outcome_.result} header.from={_value(found.header_from)}")
    if arc is not None and arc.result is not ArcResult.NONE:
        parts.append(f"arc={arc.result}")
    return f"Authentication-Results: {_value(server) or 'localhost'};\r\n\t" + ";\r\n\t".join(parts)


def _value(text: str) -> str:
    """Return a value as a token, or quoted where it is none (RFC 2045 §5.1); what cannot be quoted is left out."""
    if _DOT_ATOM.fullmatch(text) or _TOKEN.fullmatch(text):
        return text
    safe = "".join(letter for letter in text[:300] if letter.isprintable() and letter not in '"\\')
    return f'"{safe}"'
