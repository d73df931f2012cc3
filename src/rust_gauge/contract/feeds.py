"""Feeds: configured sources of events, each with its mapping, its position and its rejected rows."""

from typing import Annotated, Any, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, ProblemError, UtcTime

FeedKind = Literal["http", "mail", "mailbox", "log", "queue", "reports"]
FeedName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
_Path = Annotated[str, StringConstraints(max_length=500)]


class UnwrapStep(Model):
    """Decodes the value at a JSONPath: text that holds JSON, base64, or both."""

    at: _Path = Field(examples=["$.Records[*].body"])
    form: Literal["json", "base64", "base64-json"]


class FieldSource(Model):
    """Where one field of an event comes from: a path or a constant, a table of values, a default, a form."""

    path: _Path = Field("", description="In the row ($...) or in the match of `each` (@...)")
    constant: Any = None
    table: dict[str, Any] | None = Field(None, description="Maps a source value to ours; null skips the row")
    default: Any = None
    form: Literal["", "seconds", "milliseconds", "rfc5322", "lower", "number"] = ""


class FeedMapping(Model):
    """How rows of a source become events. Paths are JSONPath (RFC 9535)."""

    unwrap: list[UnwrapStep] = Field(default=[], max_length=10)
    rows: _Path = "$"
    each: _Path = ""
    fields: dict[str, FieldSource] = Field(max_length=40)


class FeedSource(Model):
    """Where a feed reads. Required fields depend on its kind. mail: `addresses`; mailbox: `path` (Maildir or mbox) or
    `host`, `user`, `folder`; log: `path`; queue: `host` and `queue`; reports (of receivers): `addresses`, or `path`
    (Maildir, mbox or a folder with files), or `host`, `user`, `folder`, or nothing for those that are posted.
    """

    addresses: list[Annotated[str, StringConstraints(max_length=320)]] = Field(
        default=[], max_length=50, description="Addresses, or @domain for a whole domain"
    )
    path: str = Field("", max_length=500)
    host: str = Field("", max_length=253)
    port: int | None = Field(None, ge=1, le=65535)
    tls: bool = True
    user: str = Field("", max_length=254)
    folder: str = Field("INBOX", max_length=200)
    queue: str = Field("", max_length=200)
    virtual_host: str = Field("/", max_length=200)


class FeedDefaults(Model):
    """Values for events where the source gives none. With `tray`, messages are caught there instead of read."""

    domain: str = Field("", max_length=253)
    stream: str = Field("", max_length=60)
    relay: str = Field("", max_length=60)
    tray: str = Field("", max_length=40, description="For mail and mailbox: the tray that messages go to, unread")


class NewFeed(Model):
    """A feed to add. `password` is for mailboxes and queues; it is stored encrypted."""

    name: FeedName = Field(examples=["driftline"])
    kind: FeedKind
    source: FeedSource = FeedSource()
    mapping: FeedMapping | None = None
    defaults: FeedDefaults = FeedDefaults()
    password: str = Field("", max_length=500)


class FeedChange(Model):
    """New settings of a feed. Fields that are left out stay unchanged."""

    source: FeedSource | None = None
    mapping: FeedMapping | None = None
    defaults: FeedDefaults | None = None
    password: str | None = Field(None, max_length=500)
    paused: bool | None = None


class Feed(Model):
    """A feed and its state."""

    name: str
    kind: FeedKind
    source: FeedSource
    mapping: FeedMapping | None
    defaults: FeedDefaults
    paused: bool
    key: str = Field(description="Last part of its URL: POST to /api/v1/intake/KEY")
    position: str = Field("", description="Read position, as text")
    created_at: UtcTime
    last_arrival_at: UtcTime | None = None
    last_event_at: UtcTime | None = None
    usual_lag: float | None = Field(None, description="Seconds from event to arrival, recent median")
    lag: float | None = Field(None, description="Seconds from the newest event to its arrival")
    stored_today: int = 0
    rejected: int = Field(0, description="Stored rejected rows")
    error: str = Field("", description="Error that stops the feed")
    summary: str = Field("", description="Status, as text")


class MadeFeed(Feed):
    """A feed with its secrets, shown only once: a bearer token, and the key that signs."""

    token: str
    secret: str


class RejectedRow(Model):
    """A rejected row: its content and the reason."""

    id: int
    arrived_at: UtcTime
    item: str
    problems: list[ProblemError]


class ReplayResult(Model):
    """The outcome of a retry of rejected rows."""

    tried: int
    stored: int
    duplicates: int
    rejected: int


class MappingDryRun(Model):
    """A sample, and the mapping to try it with (without one: the feed's own)."""

    sample: str = Field(max_length=1_000_000)
    mapping: FeedMapping | None = None
    defaults: FeedDefaults = FeedDefaults()


class TrialStep(Model):
    """One field: where it was looked for, what was there, and the resulting value."""

    field: str
    path: str
    found: Any
    value: Any


class TrialRow(Model):
    """One row of the sample as an event, or the reason why it is rejected."""

    left_out: bool
    steps: list[TrialStep]
    event: dict[str, Any] | None
    problems: list[ProblemError]


class MappingDryRunResult(Model):
    """What a sample becomes."""

    problem: str = ""
    remedy: str = ""
    rows: list[TrialRow] = []
