"""Record plans: what a domain should publish, compared with what it publishes."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.domains import Selector

PlanState = Literal[
    "matches", "differs", "dangling", "missing", "misplaced", "duplicated", "spreading", "unanswered", "waiting"
]  # fmt: skip
_Address = Annotated[str, StringConstraints(max_length=320, pattern=r"^(?:[^\s@;,!]+@[^\s@;,!]+)?$")]
_Term = Annotated[str, StringConstraints(max_length=260, pattern=r"^[^\s]+$")]


class SpfWay(Model):
    """How a relay gets into the SPF record: its addresses listed, its streams moved to a subdomain, or left out."""

    relay: str = Field(max_length=60)
    way: Literal["list", "move", "drop"]


class PlanSettings(Model):
    """Choices about a domain's plan."""

    stage: Literal["", "watch", "quarantine", "reject"] = Field(
        "", description="DMARC policy; empty keeps the current one, or starts with none"
    )
    policy_percent: int = Field(
        100, ge=1, le=100, description="At stage quarantine: percentage of failing mail that it applies to (a trial)"
    )
    reports_to: _Address = Field(
        "", description="Recipients of aggregate reports", examples=["dmarc@glasswort.example"]
    )
    spf_ending: Literal["", "~all", "-all"] = Field("", description="Empty keeps the published term, or uses ~all")
    spf_ways: list[SpfWay] = Field(default=[], max_length=50)
    keep_terms: list[_Term] = Field(
        default=[], max_length=50, description="SPF terms of senders that are not relays here"
    )
    ttl: int = Field(3600, ge=30, le=604_800)
    mta_sts: Literal["", "testing", "enforce"] = ""
    mta_sts_host: str = Field("", max_length=253, description="Serves the MTA-STS policy over HTTPS")
    tls_reports_to: _Address = ""


class RecordForms(Model):
    """A record in the forms that control panels expect, each to be copied exactly."""

    host: str = Field(description="Relative to the zone, @ for the apex")
    host_or_blank: str
    host_full: str
    host_with_dot: str
    value: str = Field(description="Without quotes; hosts without trailing dot")
    value_quoted: str = Field(description="Text quoted and split at 255 bytes; hosts with trailing dot")
    value_with_priority: str
    zone_line: str


class RecordCause(Model):
    """Why a published record differs from the plan. `column` counts from 1 in the published text; 0: no place."""

    key: str
    text: str
    column: int
    length: int


class RecordPiece(Model):
    """A piece of planned text and the piece of published text in its place."""

    kind: Literal["same", "missing", "extra", "changed"]
    planned: str
    published: str


class RecordCheck(Model):
    """The state of a planned record."""

    state: PlanState
    published: list[str]
    causes: list[RecordCause]
    pieces: list[RecordPiece]
    found_at: str = Field(description="Wrong name at which it is published")
    found_value: str
    lacking: list[str] = Field(description="Name servers of the zone without it")
    detail: str


class PlanRecord(Model):
    """A record to publish. `elsewhere`: somebody else publishes it, because it is outside the zone."""

    key: str
    purpose: str
    name: str
    type: str
    value: str
    priority: int | None
    ttl: int
    why: str
    relay: str
    waits_for: str = Field(description="What is missing to determine the value")
    elsewhere: bool
    forms: RecordForms
    check: RecordCheck | None = None


class SpfChoice(Model):
    """A way to need fewer look-ups, and its cost."""

    way: Literal["list", "move", "drop"]
    relay: str
    saves: int
    lookups_after: int
    price: str
    value: str


class SpfShare(Model):
    """The look-ups that a relay costs in an SPF record."""

    relay: str
    lookups: int


class SpfMerge(Model):
    """The merged SPF record of one name."""

    name: str
    value: str
    lookups: int
    per_relay: list[SpfShare]
    options: list[SpfChoice]
    problems: list[str]


class PlanAdvice(Model):
    """A remark on the plan."""

    title: str
    why: str


class Plan(Model):
    """All records that a domain should publish. With `checked_at`, they were compared with the published ones."""

    domain: str
    zone: str
    settings: PlanSettings
    records: list[PlanRecord]
    spf: list[SpfMerge]
    advice: list[PlanAdvice]
    sts_policy: str
    servers: list[str] = Field(description="Name servers of the zone that were queried")
    checked_at: UtcTime | None = None
    right: int = Field(0, description="Matching records, of those that you publish")
    total: int = 0


class StsStep(Model):
    """A step of a change of the MTA-STS policy, in its order."""

    kind: Literal["policy", "mx", "record"]
    title: str
    why: str
    seconds: int = Field(description="To wait after it, before the next step")
    policy: str = Field(description="The policy file to serve at this step, where it changes")


class StsServing(Model):
    """The MTA-STS policy that Rust Gauge serves for `mta-sts.<domain>`, and the way to the planned one."""

    domain: str
    host: str
    served: str = Field(description="Empty: none is served yet")
    planned: str = Field(description="Empty: MTA-STS is not part of the plan")
    id: str = Field(description="Of the record at _mta-sts")
    steps: list[StsStep]


class NewKey(Model):
    """A DKIM key to create."""

    selector: Selector
    kind: Literal["rsa2048", "ed25519"] = "rsa2048"
    replace: bool = Field(False, description="Replace the key that the plan has at this selector")


class MadeKey(Model):
    """A new DKIM key. The private key is shown only once and not stored."""

    name: str
    selector: str
    kind: str
    record: str
    private_key: str = Field(description="PEM (PKCS #8)")
