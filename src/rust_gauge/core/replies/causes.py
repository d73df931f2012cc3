"""Why a message was refused or deferred: our own list of causes. `rules` finds them."""

from dataclasses import dataclass
from enum import StrEnum


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
    SENDER_UNPROVEN = "sender_unproven"  # the relay does not know that the sender is ours: no provider has judged it

    @property
    def number(self) -> int:
        """The number that the store writes for this cause."""
        return _CAUSE_NUMBERS[self]

    @classmethod
    def from_number(cls, number: int) -> "Cause":
        """Return the cause that the store wrote as `number`."""
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
    """Return whether trying again can help."""

    NONE = "none"
    TRANSIENT = "transient"
    PERMANENT = "permanent"

    @property
    def number(self) -> int:
        """The number that the store writes for this permanence."""
        return _PERMANENCES.index(self)

    @classmethod
    def from_number(cls, number: int) -> "Permanence":
        """Return the permanence that the store wrote as `number`."""
        return _PERMANENCES[number]


_PERMANENCES = tuple(Permanence)


@dataclass(frozen=True, slots=True)
class Classified:
    """The cause, the permanence, and the name of the rule that decided."""

    cause: Cause
    permanence: Permanence
    rule: str
