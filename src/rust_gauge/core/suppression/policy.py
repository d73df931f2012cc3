"""Which events suppress an address at once.

A permanent bounce does only when its cause says that the address is bad. A refusal that speaks of our own reputation,
authentication or content says nothing about the address, and never makes an entry.
"""

from enum import StrEnum

from rust_gauge.core.mailflow.event import Event, Kind
from rust_gauge.core.replies.causes import ADDRESS_CAUSES, Cause, Permanence


class Reason(StrEnum):
    """Why an address is not to be mailed."""

    BAD_ADDRESS = "bad_address"
    COMPLAINT = "complaint"

    @property
    def meaning(self) -> str:
        return _MEANINGS[self]


_MEANINGS = {
    Reason.BAD_ADDRESS: "a permanent bounce said that this mailbox does not exist",
    Reason.COMPLAINT: "its owner reported mail of yours as unwanted",
}


def reason_to_suppress(event: Event) -> Reason | None:
    """The reason for an entry that this event gives, or None."""
    return reason_for(event.kind, event.cause, event.permanence)


def reason_for(kind: Kind, cause: Cause, permanence: Permanence) -> Reason | None:
    """The same from what decides it."""
    if kind is Kind.COMPLAINED:
        return Reason.COMPLAINT
    if kind is Kind.BOUNCED and permanence is Permanence.PERMANENT and cause in ADDRESS_CAUSES:
        return Reason.BAD_ADDRESS
    return None
