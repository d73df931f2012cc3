"""SMTP replies as values (RFC 5321 §4.2, enhanced codes by RFC 3463).

Parses what logs and notices quote, which is often a reply without its code or with text in front. The cause behind a
reply is for `causes`, next door.
"""

import re
from dataclasses import dataclass

_CODE = re.compile(r"(?:^|[\s:\[(>])([245][0-57][0-9])(?=[ \-#]|$)")
# status-code = class "." subject "." detail (RFC 3463 §2); no leading zeros
_ENHANCED = re.compile(r"(?<![0-9.])([245])\.(0|[1-9][0-9]{0,2})\.(0|[1-9][0-9]{0,2})(?![0-9.]*[0-9])")

MAX_REPLY = 4000  # characters of a reply that are kept
_CUT = " [cut]"  # how a reply ends that was longer


def cut_reply(text: str, longest: int = MAX_REPLY) -> str:
    """Return a reply of at most `longest` characters; a longer one is cut, and says so at its end."""
    return text if len(text) <= longest else text[: longest - len(_CUT)] + _CUT


@dataclass(frozen=True, slots=True)
class EnhancedStatus:
    """class.subject.detail of RFC 3463 §2."""

    klass: int
    subject: int
    detail: int

    def __str__(self) -> str:
        return f"{self.klass}.{self.subject}.{self.detail}"


@dataclass(frozen=True, slots=True)
class SmtpReply:
    """A reply as far as it could be read; `text` is what was handed in."""

    code: int | None  # 2yz, 4yz or 5yz; RFC 5321 §4.2.1 has y of 0 to 5, and some servers send 57z
    enhanced: EnhancedStatus | None
    text: str


def parse_enhanced(text: str) -> EnhancedStatus | None:
    """Return the first enhanced status code in a text (RFC 3463), or None."""
    match = _ENHANCED.search(text)
    return EnhancedStatus(*(int(group) for group in match.groups())) if match else None


def parse_reply(text: str, code: int | None = None, enhanced: str | None = None) -> SmtpReply:
    """Read a diagnostic; `code` and `enhanced` are used where the source gave them apart from the text."""
    if code is None:
        match = _CODE.search(text[:200])
        code = int(match.group(1)) if match else None
    status = parse_enhanced(enhanced or "") or parse_enhanced(text[:400])
    return SmtpReply(code, status, text)
