"""The words of the suppression list: why an address stands on it, how far that reaches, its state, what changed.

Each has a number, which the store keeps: appending is safe.
"""

from enum import StrEnum


class Reason(StrEnum):
    """Why an address is not to be mailed."""

    INVALID_ADDRESS = "invalid_address"
    COMPLAINT = "complaint"
    UNSUBSCRIBED = "unsubscribed"
    REPEATED_BOUNCES = "repeated_bounces"
    DOMAIN_INVALID = "domain_invalid"
    MANUAL = "manual"
    SPAM_TRAP = "spam_trap"
    ROLE_ADDRESS = "role_address"
    UNRESPONSIVE = "unresponsive"
    TRY_LATER = "try_later"  # better not before a while; the address is clear

    @property
    def number(self) -> int:
        """The number that the store writes for this reason; 0 means none."""
        return _REASONS.index(self) + 1

    @classmethod
    def from_number(cls, number: int) -> "Reason":
        """Return the reason that the store wrote as `number`."""
        return _REASONS[number - 1]

    @property
    def meaning(self) -> str:
        """What the reason means, as a sentence for people."""
        return _MEANINGS[self]


_REASONS = tuple(Reason)
_MEANINGS = {
    Reason.INVALID_ADDRESS: "a permanent bounce: the mailbox does not exist",
    Reason.COMPLAINT: "the recipient reported your mail as spam",
    Reason.UNSUBSCRIBED: "the recipient unsubscribed",
    Reason.REPEATED_BOUNCES: "repeated bounces without a delivery between",
    Reason.DOMAIN_INVALID: "its domain no longer accepts mail",
    Reason.MANUAL: "added manually",
    Reason.SPAM_TRAP: "it may be a spam trap",
    Reason.ROLE_ADDRESS: "it is a role address",
    Reason.UNRESPONSIVE: "no open, click or reply for a long time",
    Reason.TRY_LATER: "its last rejection is temporary: retry later",
}

# What events make by the policy, so what can be withdrawn when an event turns out to have been read wrongly.
FROM_BOUNCES = frozenset({Reason.INVALID_ADDRESS, Reason.REPEATED_BOUNCES, Reason.DOMAIN_INVALID, Reason.TRY_LATER})
PROPOSED = frozenset({Reason.SPAM_TRAP, Reason.ROLE_ADDRESS, Reason.UNRESPONSIVE})


class Scope(StrEnum):
    """Which mail an entry holds: all of the tenant's, that of one sending domain, or of one stream."""

    TENANT = "tenant"
    DOMAIN = "domain"
    STREAM = "stream"

    @property
    def number(self) -> int:
        """The number that the store writes for this scope."""
        return _SCOPES.index(self) + 1

    @classmethod
    def from_number(cls, number: int) -> "Scope":
        """Return the scope that the store wrote as `number`."""
        return _SCOPES[number - 1]


_SCOPES = tuple(Scope)


class State(StrEnum):
    """What an entry does now. Ended ones are kept: an address that comes back is known to have been there."""

    ENDED = "ended"
    HELD = "held"
    PROPOSED = "proposed"  # waits for somebody to confirm it; the address is clear meanwhile
    RESTING = "resting"  # clear, with advice not to try before `until`

    @property
    def number(self) -> int:
        """The number that the store writes for this state."""
        return _STATES.index(self)

    @classmethod
    def from_number(cls, number: int) -> "State":
        """Return the state that the store wrote as `number`."""
        return _STATES[number]


_STATES = tuple(State)


class Change(StrEnum):
    """What happened to an entry."""

    MADE = "made"
    CAME_BACK = "came_back"
    PROLONGED = "prolonged"
    PROPOSED = "proposed"
    CONFIRMED = "confirmed"
    DISMISSED = "dismissed"
    LIFTED = "lifted"  # by a person or a program, who said why
    ENDED = "ended"  # its time was over
    DELIVERED = "delivered"  # mail was delivered after all
    WITHDRAWN = "withdrawn"  # what it was made from was read otherwise afterwards

    @property
    def number(self) -> int:
        """The number that the store writes for this change."""
        return _CHANGES.index(self) + 1

    @classmethod
    def from_number(cls, number: int) -> "Change":
        """Return the change that the store wrote as `number`."""
        return _CHANGES[number - 1]


_CHANGES = tuple(Change)
