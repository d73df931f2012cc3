"""Bounces in plain words: which recipients they name, and what the other side said.

Looks for addresses that stand where such texts name a recipient, and for the reply nearest behind each. The returned
message, which nearly always follows, is cut off first, so that addresses in it are not taken for recipients.
"""

import re
from dataclasses import dataclass

from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address

_LOOKED_AT = 64 * 1024  # characters
_MAX = 200  # recipients
_ADDRESS = re.compile(r"<?([A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]{1,64}@[A-Za-z0-9-]{1,63}(?:\.[A-Za-z0-9-]{1,63}){1,10})>?")
_RETURNED = re.compile(
    r"^[ \t>]*(?:-{2,}.{0,60}(?:original|copy|returned|message|header|below|follow).{0,60}"
    r"|.{0,30}(?:below this line|this is a copy|copy of (?:the|your) message|original message (?:follows|headers?|:)"
    r"|message headers? follow|unsent message below|your message (?:reads|was):?|full copy).{0,60}"
    r"|Received: from .{0,200}|Return-Path: ?<.{0,200})$",
    re.IGNORECASE | re.MULTILINE,
)
_REPLY = re.compile(
    r"(?:^|[\s:>(\[\"'=])((?:[45]\d\d[ -](?:[45]\.\d{1,3}\.\d{1,3}\b)?|#?[45]\.\d{1,3}\.\d{1,3}\b).{3,})", re.MULTILINE
)
_SAID = re.compile(
    r"(?:user|mailbox|recipient|address|account|domain|host|inbox|quota|connection|policy|spam|reputation|relay|"
    r"loop|expired|could not|cannot|does not|unknown|full|disabled|refused|rejected)",
    re.IGNORECASE,
)
_DELAYED = re.compile(
    r"(?:has|have) (?:not yet|been delayed)|will (?:be retried|keep trying|continue to (?:try|be))|delivery attempts "
    r"will continue|still (?:trying|being)|you do not need to resend|temporarily deferred|warning message only",
    re.IGNORECASE,
)
_DAEMONS = ("mailer-daemon", "postmaster", "abuse", "noreply", "no-reply", "support", "helpdesk")


@dataclass(frozen=True, slots=True)
class FreeText:
    """`recipients` with the reply of each, `reply` if it belongs to none in particular, returned `header`."""

    recipients: tuple[tuple[str, str], ...]
    reply: str
    header: str
    delayed: bool


def read_free_text(text: str) -> FreeText:
    """Read what a bounce in plain words says."""
    text = text[:_LOOKED_AT].replace("\r\n", "\n")
    cut = _RETURNED.search(text)
    told, rest = (text[: cut.start()], text[cut.start() :]) if cut else (text, "")
    if not told.strip():
        told = text
    first = next((found.group(1) for found in _REPLY.finditer(told)), "")
    people: dict[str, str] = {}
    matches = list(_ADDRESS.finditer(told))
    for number, found in enumerate(matches):
        if len(people) >= _MAX:
            break
        try:
            address = parse_address(found.group(1).strip(".'"))
        except AddressError:
            continue
        if address.local.lower() in _DAEMONS or str(address) in people:
            continue
        others = (match.start() for match in matches[number + 1 :] if match.group(1) != found.group(1))
        until = next(others, len(told))
        behind = told[found.end() : min(until, found.end() + 1500)]
        reply = next((match_.group(1) for match_ in _REPLY.finditer(behind)), "")
        if not reply and _SAID.search(behind):
            reply = behind.strip(" :\n\t>-")
        people[str(address)] = _one_line(reply)
    if any(people.values()):
        # Where replies stand behind some addresses, those without one are mentioned for other reasons.
        people = {address: reply for address, reply in people.items() if reply}
    if rest and not rest.lstrip(" \t>").lower().startswith(("received:", "return-path:")):
        rest = rest[rest.find("\n") + 1 :]  # the line that only says that the message follows
    return FreeText(tuple(people.items()), _one_line(first), rest.strip()[:20_000], bool(_DELAYED.search(told)))


def _one_line(text: str) -> str:
    """Join a reply over several lines, up to its end: an empty line."""
    return " ".join(re.split(r"\n[ \t]*\n", text.strip(), maxsplit=1)[0].split())[:2000]
