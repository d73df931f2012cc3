"""Why a message was refused or put off: our own list of causes, found by ordered rules.

The text is asked before the enhanced code, because providers misuse codes: reputation blocks come as 5.1.1, full
mailboxes as 5xx. Each result names the rule that decided. The first rule that fits decides.
"""

import re
from dataclasses import dataclass
from enum import StrEnum

from rust_gauge.core.replies.reply import SmtpReply


class Cause(StrEnum):
    """What is behind a refusal. Appending is safe; the order is the number that the store keeps."""

    NONE = "none"
    NO_SUCH_MAILBOX = "no_such_mailbox"
    MAILBOX_DISABLED = "mailbox_disabled"
    MAILBOX_FULL = "mailbox_full"
    NO_SUCH_DOMAIN = "no_such_domain"
    HOST_UNREACHABLE = "host_unreachable"
    REPUTATION = "reputation"
    BLOCKLISTED = "blocklisted"
    AUTHENTICATION = "authentication"
    CONTENT = "content"
    POLICY = "policy"
    RATE_LIMITED = "rate_limited"
    GREYLISTED = "greylisted"
    TOO_LARGE = "too_large"
    RELAY_DENIED = "relay_denied"
    TLS_REQUIRED = "tls_required"
    LOOP = "loop"
    EXPIRED = "expired"
    PROTOCOL_ERROR = "protocol_error"
    UNCLASSIFIED = "unclassified"
    PROVIDER_TROUBLE = "provider_trouble"  # the receiving system itself is out of order (RFC 3463 §3.4)

    @property
    def number(self) -> int:
        return _CAUSE_NUMBERS[self]

    @classmethod
    def from_number(cls, number: int) -> "Cause":
        return _CAUSES[number]


_CAUSES = tuple(Cause)
_CAUSE_NUMBERS = {cause: index for index, cause in enumerate(_CAUSES)}

# A permanent refusal for one of these says that the address is bad, whoever asks.
ADDRESS_CAUSES = frozenset({Cause.NO_SUCH_MAILBOX, Cause.MAILBOX_DISABLED, Cause.NO_SUCH_DOMAIN})
# These say that we are not wanted; the address may be perfectly good.
SENDER_CAUSES = frozenset(
    {Cause.REPUTATION, Cause.BLOCKLISTED, Cause.AUTHENTICATION, Cause.CONTENT, Cause.POLICY, Cause.RELAY_DENIED}
)


class Permanence(StrEnum):
    """Whether trying again can help."""

    NONE = "none"
    TRANSIENT = "transient"
    PERMANENT = "permanent"

    @property
    def number(self) -> int:
        return _PERMANENCES.index(self)

    @classmethod
    def from_number(cls, number: int) -> "Permanence":
        return _PERMANENCES[number]


_PERMANENCES = tuple(Permanence)


@dataclass(frozen=True, slots=True)
class Classified:
    """The cause, the permanence, and the name of the rule that decided."""

    cause: Cause
    permanence: Permanence
    rule: str


def _text(name: str, cause: Cause, pattern: str) -> tuple[str, Cause, re.Pattern[str]]:
    return f"text:{name}", cause, re.compile(pattern, re.IGNORECASE)


# What we are told about ourselves comes first: it must never be taken for a bad address.
_TEXT_RULES = (
    _text("blocklist", Cause.BLOCKLISTED, r"\b(?:block|black|deny|dns)[- ]?list|\blisted (?:at|by|in|on)\b|\bDNSBL\b"),
    _text("authentication", Cause.AUTHENTICATION, r"\b(?:SPF|DKIM|DMARC)\b|unauthenticated|not authenticated"),
    _text("reputation", Cause.REPUTATION, r"reputation|poor sender|too many complaints|not trusted"),
    _text("greylist", Cause.GREYLISTED, r"gr[ea]y[- ]?list"),
    _text("rate", Cause.RATE_LIMITED, r"rate[- ]?limit|too many (?:messages|connections|recipients)|throttl|too fast"),
    _text("content", Cause.CONTENT, r"\bspam\b|content (?:refused|rejected|not)|virus|malware|unsolicited"),
    _text("relay", Cause.RELAY_DENIED, r"relay(?:ing)? (?:access )?(?:denied|not permitted|not allowed)"),
    _text("full", Cause.MAILBOX_FULL, r"mailbox (?:is )?full|over ?quota|quota exceeded|insufficient storage"),
    _text(
        "no-mailbox",
        Cause.NO_SUCH_MAILBOX,
        r"no such (?:user|mailbox|recipient|address)|(?:user|mailbox|recipient|address)[^.]{0,40}"
        r"(?:unknown|does not exist|not found|no longer exists)|unknown (?:user|recipient|mailbox)",
    ),
    _text(
        "disabled", Cause.MAILBOX_DISABLED, r"(?:mailbox|account|user)[^.]{0,30}(?:disabled|inactive|suspended|closed)"
    ),
    _text(
        "no-domain", Cause.NO_SUCH_DOMAIN, r"(?:domain|host)[^.]{0,30}(?:not found|does not exist)|NXDOMAIN|null ?MX"
    ),
    _text("tls", Cause.TLS_REQUIRED, r"(?:TLS|STARTTLS|encryption)[^.]{0,20}required|must issue a STARTTLS"),
    _text("size", Cause.TOO_LARGE, r"(?:message|size)[^.]{0,30}(?:too (?:large|big)|exceeds)"),
    _text("loop", Cause.LOOP, r"\bloop\b|too many hops"),
    _text("expired", Cause.EXPIRED, r"expired|(?:max|maximum) time|retry time(?:out)? exceeded"),
    _text(
        "unreachable",
        Cause.HOST_UNREACHABLE,
        r"connect(?:ion)? (?:refused|timed out)|no route|unreachable|lost connection",
    ),
    _text("policy", Cause.POLICY, r"\bpolicy\b|access denied|administratively|not accepted from"),
)

# RFC 3463 §3: (subject, detail) to cause
_ENHANCED_RULES = {
    (1, 1): Cause.NO_SUCH_MAILBOX,
    (1, 2): Cause.NO_SUCH_DOMAIN,
    (1, 3): Cause.NO_SUCH_MAILBOX,
    (1, 6): Cause.NO_SUCH_MAILBOX,
    (1, 10): Cause.NO_SUCH_DOMAIN,  # null MX (RFC 7505)
    (2, 1): Cause.MAILBOX_DISABLED,
    (2, 2): Cause.MAILBOX_FULL,
    (2, 3): Cause.TOO_LARGE,
    (3, 0): Cause.PROVIDER_TROUBLE,
    (3, 1): Cause.PROVIDER_TROUBLE,
    (3, 2): Cause.PROVIDER_TROUBLE,
    (3, 4): Cause.TOO_LARGE,
    (4, 1): Cause.HOST_UNREACHABLE,
    (4, 2): Cause.HOST_UNREACHABLE,
    (4, 4): Cause.HOST_UNREACHABLE,
    (4, 6): Cause.LOOP,
    (4, 7): Cause.EXPIRED,
    (7, 1): Cause.POLICY,
    (7, 8): Cause.AUTHENTICATION,
    (7, 20): Cause.AUTHENTICATION,  # RFC 7372: no passing DKIM signature
    (7, 23): Cause.AUTHENTICATION,  # RFC 7372: SPF failed
    (7, 25): Cause.POLICY,  # RFC 7372: reverse DNS
    (7, 26): Cause.AUTHENTICATION,  # RFC 7372: several checks failed
}


def classify(reply: SmtpReply) -> Classified:
    """Cause and permanence of a refusal, and the rule that found them."""
    cause, rule = _cause(reply)
    return Classified(cause, _permanence(reply), rule)


def _cause(reply: SmtpReply) -> tuple[Cause, str]:
    # Step 1: the words, which are more honest than the codes.
    text = reply.text[:2000]
    for name, cause, pattern in _TEXT_RULES:
        if pattern.search(text):
            return cause, name
    # Step 2: the enhanced status. Subject 7 is security or policy, so the address itself may be fine (RFC 3463 §3.8).
    status = reply.enhanced
    if status is not None:
        known = _ENHANCED_RULES.get((status.subject, status.detail))
        if known is not None:
            return known, f"enhanced:{status.subject}.{status.detail}"
        if status.subject in (5, 6):
            return Cause.PROTOCOL_ERROR, f"enhanced:{status.subject}.x"
        if status.subject == 7:
            return Cause.POLICY, "enhanced:7.x"
    # Step 3: the basic code says little about the cause (RFC 5321 §4.2.3).
    if reply.code in (500, 501, 502, 503, 504):
        return Cause.PROTOCOL_ERROR, f"code:{reply.code}"
    if reply.code == 552:
        return Cause.MAILBOX_FULL, "code:552"
    return Cause.UNCLASSIFIED, "none"


def _permanence(reply: SmtpReply) -> Permanence:
    """5yz and 5.x.x will not help to repeat, 4yz and 4.x.x may (RFC 5321 §4.2.1); the basic code rules the protocol."""
    first = reply.code // 100 if reply.code else reply.enhanced.klass if reply.enhanced else None
    return {4: Permanence.TRANSIENT, 5: Permanence.PERMANENT}.get(first or 0, Permanence.NONE)
