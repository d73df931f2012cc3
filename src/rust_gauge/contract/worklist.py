"""The worklist: what to do next, and who is notified."""

from datetime import date, datetime
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, ProblemError, UtcTime

Level = Literal["stop", "fix", "investigate", "info"]
ItemState = Literal["waiting", "open", "acknowledged", "snoozed", "resolved"]
_Text = Annotated[str, StringConstraints(min_length=1, max_length=2000, strip_whitespace=True)]


class WorkItem(Model):
    """One problem: what is wrong, since when, the evidence, the exact remedy.

    `level`: `stop`: this path is or will be stopped; `fix`: it costs deliveries; `investigate`: it may cost deliveries;
    `info`: nothing of your own is wrong. `state`: `waiting` items were detected and nobody is notified yet;
    `acknowledged` ones have been taken by somebody.
    """

    id: int
    tenant: str
    tenant_name: str
    kind: str
    subject: str
    name: str
    title: str
    text: str
    level: Level
    state: ItemState
    since: UtcTime
    found_at: UtcTime
    seen_at: UtcTime
    notified_at: UtcTime | None = None
    resolved_at: UtcTime | None = None
    until: UtcTime | None = Field(None, description="End of the snooze")
    mail: int = Field(description="Affected messages of one week")
    order: str = Field(description="What the item is sorted by", examples=["fix, 2,812 messages a week"])
    remedy: str
    record: str
    evidence: list[str]
    recheck: str
    assigned_to: str = ""
    returns: int = Field(0, description="Number of returns after it was closed")


class WorkStep(Model):
    """One step in the history of an item."""

    at: UtcTime
    by: str
    what: str
    text: str = ""


class WorkItemDetails(WorkItem):
    """An item with its history."""

    steps: list[WorkStep]


class WorkAct(Model):
    """An action on an item: `acknowledge` (assign it to yourself), `assign`, `comment`, `snooze` (with `until` and a
    reason), `recheck` (measure now, and resolve the item if the problem is gone), `reopen` (end the snooze or the
    acknowledgement), `undo` (of your own `acknowledge`, `assign`, `snooze` or `reopen`, if nobody acted on it since).
    """

    act: Literal["acknowledge", "assign", "comment", "snooze", "recheck", "reopen", "undo"]
    text: str = Field("", max_length=2000)
    to: str = Field("", max_length=254, description="With assign: email of a member; empty: nobody")
    until: datetime | None = Field(None, description="With snooze: when it ends")


class WorkActs(WorkAct):
    """The same action on several items of a tenant. A re-check takes up to 20 at a time."""

    ids: list[Annotated[int, Field(ge=1, le=2**63)]] = Field(min_length=1, max_length=500)


class WorkActsDone(Model):
    """What came of an action on several items: those that it was applied to, and what was wrong with the others."""

    changed: list[WorkItem]
    problems: list[ProblemError] = Field(description="`field` is the item's place in `ids`, for example `ids.3`")


class AlertChannel(Model):
    """An alert channel: mail to addresses, or a chat's incoming webhook with a template.

    A template can use `{title}`, `{text}`, `{level}`, `{what}`, `{tenant}`, `{remedy}` and `{link}`; values are
    inserted as JSON text.
    """

    kind: Literal["mail", "chat"]
    name: str = Field(min_length=1, max_length=60)
    to: list[Annotated[str, StringConstraints(max_length=254)]] = Field(default=[], max_length=20)
    url: str = Field("", max_length=500)
    template: str = Field('{"text": "{what}: {title}\\n{text}\\n{link}"}', max_length=2000)
    min_level: Level = Field("investigate", description="Lowest level of items to notify of")
    quiet_from: str = Field(
        "", pattern=r"^([01]\d|2[0-3]):[0-5]\d$|^$", description="UTC; notifications are sent afterwards"
    )
    quiet_to: str = Field("", pattern=r"^([01]\d|2[0-3]):[0-5]\d$|^$")


class ChannelTestRequest(Model):
    """Which channel to test."""

    channel: str = Field(min_length=1, max_length=60)


class ChannelTest(Model):
    """What came of a test message."""

    channel: str
    at: datetime
    taken: bool
    response: str = Field(description="What the relay or the chat answered")


class AlertSettings(Model):
    """Who is notified of problems and when, and whether streams are paused automatically at a stop line."""

    wait_minutes: float = Field(15, ge=0, le=24 * 60, description="Before the first notification")
    repeat_hours: float = Field(24, ge=0, le=24 * 30, description="Before a reminder; 0: never")
    resolve_hours: float = Field(
        2, ge=0, le=24 * 7, description="Time without the problem after which it is resolved automatically"
    )
    confidence: float = Field(0.9, ge=0.5, le=0.999, description="Confidence needed to report a crossed line")
    auto_pause: bool = Field(
        False, description="At a stop line, pause the stream on that relay until somebody resumes it"
    )
    channels: list[AlertChannel] = Field(default=[], max_length=20)
    report_every: Literal["", "week", "month"] = Field("", description="On Mondays, or on the first of the month")
    report_to: list[Annotated[str, StringConstraints(max_length=254)]] = Field(default=[], max_length=20)


class Notification(Model):
    """One notification about an item on one channel, and its delivery."""

    id: int
    channel: str
    title: str
    what: str
    state: Literal["waiting", "delivered", "dead"]
    attempts: int
    response: str
    made_at: UtcTime
    next_at: UtcTime | None
    finished_at: UtcTime | None


class StreamPause(Model):
    """A stream over a relay that clearance holds until somebody resumes it."""

    stream: str
    relay: str
    since: UtcTime
    why: str
    by: str = Field("", description="Author; empty: paused by a crossed stop line")


class StreamPauseChange(Model):
    """A stream to pause or resume over a relay."""

    stream: str = Field(max_length=60)
    relay: str = Field(max_length=60)
    why: _Text


class LineRow(Model):
    """A rate compared with its lines, and the probability that it is above them."""

    subject: Literal["domain", "stream", "relay", "provider"]
    name: str
    rate: Literal["bounces", "complaints"]
    value: float | None = Field(description="Rate: `events` of `mail`; null without mail on these days")
    events: int = Field(description="Bounces or complaints on the last `days` days")
    mail: int = Field(description="Messages on these days; for complaints: at providers that report them")
    days: int = Field(7, description="Days that `events`, `mail` and `value` count, today included")
    estimate: float = Field(
        description="Rate that is compared with the lines: recent mail counts more, and few messages change it little"
    )
    watch: float
    stop: float
    watch_chance: float = Field(description="Probability that the rate is above the watch line")
    stop_chance: float = Field(description="Probability that the rate is above the stop line")
    crossed: Literal["", "watch", "stop"]
    own: bool = Field(False, description="Lines of the relay itself")
    next: Literal["", "watch", "stop"] = Field("", description="Next line to be crossed at the current pace")
    next_on: date | None = Field(None, description="Day at that pace; at most three days ahead")
