"""Postfix's policy delegation: an MTA asks about one recipient, and gets an action (SMTPD_POLICY_README).

A request is lines of `name=value` up to an empty line; an answer is `action=...` and an empty line. One connection
carries one request after the other.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass

NOTHING = b"action=DUNNO\n\n"
MOST = 32 * 1024  # octets of a request; real ones have one or two thousand
_LINE = re.compile(rb"^(request|protocol_state|sender|recipient|instance|policy_context)=(.*)$", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class Question:
    """What an MTA asks. `context` is what its configuration sends along: the key of a gate."""

    recipient: str
    sender: str
    instance: str
    context: str
    state: str

    @property
    def is_about_a_recipient(self) -> bool:
        """Return whether the MTA asks about a recipient, and not about another stage of the session."""
        return self.state == "RCPT" and "@" in self.recipient

    @property
    def sender_domain(self) -> str:
        """The domain of the envelope sender, in lower case; empty for a bounce."""
        return self.sender.rpartition("@")[2].lower()


def read_question(block: bytes) -> Question | None:
    """Read the question in a request; None for a request of another kind."""
    found = {name: value.rstrip(b"\r").decode("utf-8", "replace") for name, value in _LINE.findall(block)}
    if found.get(b"request") != "smtpd_access_policy":
        return None
    return _question(found)


def _question(found: Mapping[bytes, str]) -> Question:
    get = found.get
    return Question(
        get(b"recipient", ""), get(b"sender", ""), get(b"instance", ""), get(b"policy_context", ""),
        get(b"protocol_state", ""),
    )  # fmt: skip


def refusal(why: str) -> bytes:
    """Refuse a recipient for good: 550 with 5.7.1, delivery not authorised (RFC 3463 §3.8)."""
    text = " ".join("".join(c if " " <= c <= "~" else "?" for c in why).split())[:300]
    return f"action=550 5.7.1 Not sent: {text}\n\n".encode()


def defer(why: str) -> bytes:
    """Have the MTA try again: our own trouble must neither let mail through that is held nor lose any."""
    return f"action=450 4.3.0 {why}\n\n".encode()
