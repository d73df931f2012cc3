"""The suppression list and clearance."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime

Reason = Literal["bad_address", "complaint"]


class Evidence(Model):
    """The event behind an entry, as it was told."""

    kind: str
    time: UtcTime
    cause: str
    domain: str
    stream: str
    message_id: str
    diagnostic: str


class SuppressionEntry(Model):
    """An address that is not to be mailed, why, and since when."""

    id: int
    address: str
    reason: Reason
    reach: Literal["tenant"] = "tenant"
    made_by: str
    since: UtcTime
    until: UtcTime | None = None
    times: int = Field(description="How many events have asked for this entry")
    evidence: list[Evidence] = Field(description="The first events that did, oldest first")


class ClearanceRequest(Model):
    """May I mail these?"""

    addresses: list[Annotated[str, StringConstraints(max_length=2000)]] = Field(
        min_length=1, max_length=10_000, examples=[["someone@tidepost.example"]]
    )
    stream: str | None = Field(None, max_length=60)


class ClearanceAnswer(Model):
    """The answer for one address."""

    address: str
    verdict: Literal["clear", "held"]
    reason: str = Field("", description="bad_address, complaint, or no_address where the text is none")
    why: str = ""
    since: UtcTime | None = None
    until: UtcTime | None = None


class ClearanceResult(Model):
    """Answers in the order of the addresses."""

    clear: int
    held: int
    answers: list[ClearanceAnswer]
