"""Events as they are sent and as they are stored."""

import re
from typing import Annotated, Literal

from pydantic import AwareDatetime, BeforeValidator, Field, StringConstraints

from rust_gauge.contract.common import LooseModel, Model, ProblemError, UtcTime

Kind = Literal[
    "accepted",
    "delivered",
    "delayed",
    "bounced",
    "complained",
    "unsubscribed",
    "opened",
    "clicked",
    "withheld",
]
Cause = Literal[
    "none",
    "no_such_mailbox",
    "mailbox_disabled",
    "mailbox_full",
    "no_such_domain",
    "host_unreachable",
    "reputation",
    "blocklisted",
    "authentication",
    "content",
    "policy",
    "rate_limited",
    "greylisted",
    "too_large",
    "relay_denied",
    "tls_required",
    "loop",
    "expired",
    "protocol_error",
    "unclassified",
    "provider_trouble",
    "sender_unproven",
]
Permanence = Literal["none", "transient", "permanent"]
Label = Annotated[str, StringConstraints(max_length=60, pattern=r"^[^\x00-\x1f\x7f]*$", strip_whitespace=True)]
Tag = Annotated[str, StringConstraints(min_length=1, max_length=60, pattern=r"^[^,\x00-\x1f\x7f]*$")]
Line = Annotated[str, StringConstraints(max_length=255, pattern=r"^[^\x00-\x1f\x7f]*$")]


_RFC_3339 = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d:\d\d")


def _only_rfc3339(value: object) -> object:
    """Return the time as UTC. Numbers are rejected: they could be seconds or milliseconds. ValueError says
    what is expected.
    """
    if isinstance(value, str) and not _RFC_3339.match(value):
        raise ValueError("not an RFC 3339 time such as 2026-11-20T08:00:00Z")
    if isinstance(value, int | float):
        raise ValueError("a number is ambiguous; write it as 2026-11-20T08:00:00Z")
    return value


Time = Annotated[AwareDatetime, BeforeValidator(_only_rfc3339)]


class NewEvent(LooseModel):
    """Something that happened to one message for one recipient. An event that is sent twice counts once: two events
    are the same when kind, time, recipient and `id` are equal, or, without an `id`, message id, domain, stream,
    relay, campaign and attempt.
    """

    kind: Kind
    time: Time = Field(description="RFC 3339 time with UTC offset", examples=["2026-11-20T08:00:00Z"])
    domain: Annotated[str, StringConstraints(max_length=1000)] = Field(
        description="The sending domain", examples=["news.glasswort.example"]
    )
    recipient: Annotated[str, StringConstraints(max_length=2000)] = Field(examples=["someone@tidepost.example"])
    id: Line = Field("", description="Id of the event at the source")
    stream: Label = Field("", examples=["newsletter"])
    relay: Label = Field("", examples=["driftline"])
    message_id: Line = ""
    reply_code: int | None = Field(None, ge=200, le=599)
    enhanced_code: Annotated[str, StringConstraints(pattern=r"^[245]\.\d{1,3}\.\d{1,3}$")] | None = Field(
        None, description="RFC 3463", examples=["5.1.1"]
    )
    diagnostic: str = Field(
        "",
        description="The reply. What exceeds 4,000 characters is cut off; the reply then ends in [cut]",
    )
    cause: Cause | None = Field(None, description="Omit it to have the reply classified")
    permanence: Permanence | None = None
    remote_host: Line = ""
    sending_ip: Line = ""
    campaign: Label = ""
    tags: list[Tag] = Field(default=[], max_length=10, description="Free labels, to compare variants")
    attempt: int | None = Field(None, ge=0, le=10_000)
    seconds_taken: float | None = Field(None, ge=0, le=10_000_000)


class IntakeResult(Model):
    """The outcome of an upload of events: every row is stored, already known, or rejected with its reason."""

    received: int
    stored: int
    duplicates: int
    rejected: int
    rejections: list[ProblemError] = Field(description="The first 200 of the rejected rows")


class Event(Model):
    """A stored event, with what was derived from it."""

    sender_lacks: str = Field("", description="What its From domain and stream lack today: verification, alignment")

    kind: Kind
    time: UtcTime
    arrived_at: UtcTime
    domain: str
    recipient: str
    provider: str
    stream: str
    relay: str
    message_id: str
    reply_code: int | None
    enhanced_code: str | None
    diagnostic: str
    cause: Cause
    permanence: Permanence
    cause_rule: str = Field(description="Rule that determined the cause")
    remote_host: str
    sending_ip: str
    campaign: str
    tags: list[str] = []
    attempt: int | None
    seconds_taken: float | None
