"""Recipient data: what is stored about one person, and its erasure."""

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.events import Event
from rust_gauge.contract.suppression import ListChange, SuppressionEntry


class RecipientData(Model):
    """All data that a tenant stores about one recipient."""

    tenant: str
    address: str
    made_at: UtcTime
    events: list[Event] = Field(description="Newest first")
    entries: list[SuppressionEntry]
    changes: list[ListChange]
    rejected: list[str] = Field(description="Rejected rows that contain the address")
    caught: list[str] = Field(default=[], description="Test messages in trays from or to the address")
    failures: list[str] = Field(default=[], description="Failure reports of receivers that name the address")
    verdicts: list[str] = Field(default=[], description="What outside verifiers said of the address")


class ErasureRequest(Model):
    """Whose data to erase, and why."""

    address: str = Field(max_length=1000)
    reason: str = Field("", max_length=500, examples=["requested on 12 November, ticket 812"])
    may_be_mailed_again: bool = Field(
        False, description="Delete suppression entries, too. Otherwise they stay, by digest only"
    )


class Erasure(Model):
    """A record that data was erased. It does not say whose."""

    erased_at: UtcTime
    erased_by: str
    reason: str
    events: int
    others: int = Field(description="Suppression entries, rejected rows, test messages and verdicts")
