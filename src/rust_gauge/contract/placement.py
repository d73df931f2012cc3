"""Placement: seeds, outlets, runs, and where each copy landed."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.flow import Rate

Address = Annotated[str, StringConstraints(min_length=3, max_length=254)]
Host = Annotated[str, StringConstraints(min_length=1, max_length=253, strip_whitespace=True, to_lower=True)]
Secret = Annotated[str, StringConstraints(max_length=500)]
User = Annotated[str, StringConstraints(max_length=254, pattern=r"^[^\x00-\x1f\x7f]*$")]
Folder = Annotated[str, StringConstraints(min_length=1, max_length=200, pattern=r"^[^\x00-\x1f\x7f]+$")]
ListName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
FolderMeans = Literal["inbox", "spam", "other"]
OutletName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
CopyOutcome = Literal["queued", "sent", "inbox", "spam", "other", "missing", "refused", "not_sent", "unread"]
RunState = Literal["awaiting", "running", "done", "cancelled", "failed"]


class SeedFolder(Model):
    """A folder of a seed, and what the provider files into it. `label` says which category, where it is another one."""

    folder: Folder = Field(examples=["INBOX"])
    means: FolderMeans
    label: str = Field("", max_length=60, examples=["Offers"])


class AccessProblem(Model):
    """Why a seed cannot be read, or an outlet does not send. `kind` is stable; the texts are for people."""

    kind: str = Field(examples=["sign-in"])
    what: str
    remedy: str


class NewSeed(Model):
    """A mailbox of your own at a provider."""

    address: Address = Field(examples=["seed1@tidepost.example"])
    provider: str = Field("", max_length=120, description="Mailbox provider; default: found by the MX of the address")
    host: Host = Field(description="IMAP server", examples=["imap.tidepost.example"])
    port: int = Field(993, ge=1, le=65535)
    security: Literal["tls", "none"] = Field("tls", description="none: only for hosts that the service settings name")
    user: User = Field("", description="Default: the address")
    password: Secret = Field(description="Often an application password; stored encrypted and never shown")
    folders: list[SeedFolder] = Field(
        default=[SeedFolder(folder="INBOX", means="inbox", label="")], min_length=1, max_length=20,
        description="Folders that are looked through for copies, in this order",
    )  # fmt: skip
    lists: list[ListName] = Field(default=[], max_length=20, description="Seed lists that it is in")
    note: str = Field("", max_length=500)
    enabled: bool = True


class SeedChange(Model):
    """New settings of a seed. Fields that are left out stay unchanged."""

    provider: str | None = Field(None, min_length=1, max_length=120)
    host: Host | None = None
    port: int | None = Field(None, ge=1, le=65535)
    security: Literal["tls", "none"] | None = None
    user: User | None = None
    password: Secret | None = None
    folders: list[SeedFolder] | None = Field(None, min_length=1, max_length=20)
    lists: list[ListName] | None = Field(None, max_length=20)
    note: str | None = Field(None, max_length=500)
    enabled: bool | None = None


class Seed(Model):
    """A seed. `checked_at` is when it was last read; without a `problem` that went well."""

    id: int
    address: str
    provider: str
    host: str
    port: int
    security: str
    user: str
    folders: list[SeedFolder]
    lists: list[str]
    note: str
    enabled: bool
    checked_at: UtcTime | None
    problem: AccessProblem | None
    seen_folders: list[str] = Field(description="Folders that the mailbox had when it was checked")
    created_at: UtcTime


class OutletField(Model):
    """A header field that copies get; it takes the place of fields of that name."""

    name: str = Field(min_length=1, max_length=80, examples=["X-Campaign"])
    value: str = Field(max_length=900)


class NewOutlet(Model):
    """A way by which copies go out."""

    name: OutletName = Field(examples=["driftline"])
    host: Host = Field(description="SMTP server", examples=["smtp.driftline.example"])
    port: int = Field(587, ge=1, le=65535)
    security: Literal["starttls", "tls", "none"] = Field(
        "starttls", description="none: only for hosts that the service settings name"
    )
    user: User = Field("", description="Empty: without signing in")
    password: Secret = Field("", description="Stored encrypted and never shown")
    from_name: str = Field("", max_length=120)
    from_address: str = Field("", max_length=254, description="Takes the place of the message's From; empty: it stays")
    mail_from: Address = Field(description="Envelope sender", examples=["bounce@news.glasswort.example"])
    relay: str = Field("", max_length=80, description="Relay that this stands for")
    stream: str = Field("", max_length=80, description="Stream that this stands for")
    extra: list[OutletField] = Field(default=[], max_length=20)


class OutletChange(Model):
    """New settings of an outlet. Fields that are left out stay unchanged."""

    host: Host | None = None
    port: int | None = Field(None, ge=1, le=65535)
    security: Literal["starttls", "tls", "none"] | None = None
    user: User | None = None
    password: Secret | None = None
    from_name: str | None = Field(None, max_length=120)
    from_address: str | None = Field(None, max_length=254)
    mail_from: Address | None = None
    relay: str | None = Field(None, max_length=80)
    stream: str | None = Field(None, max_length=80)
    extra: list[OutletField] | None = Field(None, max_length=20)


class Outlet(Model):
    """An outlet. It is tested when it is saved; without a `problem` that went well."""

    name: str
    host: str
    port: int
    security: str
    user: str
    from_name: str
    from_address: str
    mail_from: str
    relay: str
    stream: str
    extra: list[OutletField]
    checked_at: UtcTime | None
    problem: AccessProblem | None
    created_at: UtcTime


class NewRun(Model):
    """A placement run. Without `tray` and `message` it waits for its message: by mail to its address, or handed in."""

    outlet: OutletName
    title: str = Field("", max_length=200)
    seeds: list[int] = Field(default=[], max_length=500, description="Numbers of seeds; default: all that are on")
    lists: list[ListName] = Field(default=[], max_length=20, description="Seed lists whose seeds that are on take part")
    tray: str = Field("", max_length=40, description="With `message`: a caught message")
    message: int | None = Field(None, ge=1, lt=2**63)
    keep_custom: bool = Field(True, description="Keep header fields of the sender's own choice, such as X-Template")
    wait_minutes: int = Field(60, ge=1, le=2880, description="A copy that was not found by then is missing")


class ProviderPlacement(Model):
    """What became of the copies to one provider. Rates are of the copies whose fate is known."""

    provider: str
    label: str = Field(description="What the tenant calls it")
    copies: dict[CopyOutcome, int] = Field(description="Number of copies by outcome")
    inbox: Rate | None
    spam: Rate | None
    missing: Rate | None = Field(description="Missing or refused")


class RunSummary(Model):
    """A run as lists show it."""

    id: int
    title: str
    outlet: str
    state: RunState
    subject: str
    header_from: str
    mark: float | None = Field(description="Of the message's assay")
    schedule: str = Field(description="Name of the schedule that started it; empty: a person did")
    why: str = Field(description="Why the schedule started it", examples=["on time"])
    created_by: str
    created_at: UtcTime
    started_at: UtcTime | None = Field(description="When its message was there")
    ended_at: UtcTime | None
    copies: dict[CopyOutcome, int]
    inbox: Rate | None = Field(description="Of all copies whose fate is known")
    providers: list[ProviderPlacement]


class CopyHop(Model):
    """One server on the way of a copy. `seconds` since the hop before; null where a time cannot be read."""

    from_host: str
    by_host: str
    protocol: str
    at: UtcTime | None
    seconds: float | None


class CopyResult(Model):
    """One result that the receiver recorded (RFC 8601)."""

    method: str = Field(examples=["dkim"])
    result: str = Field(examples=["pass"])
    properties: str = Field(examples=["header.d=news.glasswort.example"])


class CopyChange(Model):
    """What arrived otherwise than it was sent; `where` is a header field or `body`."""

    where: str
    before: str
    after: str


class PlacementCopy(Model):
    """One copy and what became of it."""

    seed: int | None
    address: str
    provider: str
    outcome: CopyOutcome
    folder: str
    label: str = Field(description="Of the folder, where it is another category")
    reply: str = Field(description="Of the outlet's server")
    problem: str = Field(description="Why it was not sent, or the seed not read, and what to do")
    sent_at: UtcTime | None
    arrived_at: UtcTime | None = Field(description="When the provider took it, as the mailbox says")
    seconds: float | None = Field(description="From sending to arrival")
    hops: list[CopyHop]
    verified: list[CopyResult]
    changes: list[CopyChange]


class PlacementRun(RunSummary):
    """A run with its copies."""

    address: str = Field(description="Where to mail the message to, while it is awaited; empty without a bench domain")
    keep_custom: bool
    wait_minutes: int
    error: str
    results: list[PlacementCopy]


class PlacementPoint(Model):
    """What became of the copies of one run, or of all runs of a day, to one provider."""

    run: int = Field(description="Number of the run; 0: all runs of the day")
    at: UtcTime
    outlet: str
    inbox: int
    spam: int
    other: int
    lost: int = Field(description="Missing or refused")
    judged: int = Field(description="Copies whose fate is known: the sum of these")


class TurnChange(Model):
    """Something that changed between the last run before a turn and the first run after it."""

    day: date
    kind: str = Field(description="As annotations have it, or `outlet` or `content`", examples=["record"])
    text: str


class PlacementTurn(Model):
    """When placement at a provider turned. That something changed then does not prove that it was the reason."""

    at: UtcTime = Field(description="First run of the new state")
    last_before: UtcTime
    before: Rate
    after: Rate
    worse: bool
    chance: float = Field(description="Share of shuffled series that show as much of a turn")
    changes: list[TurnChange]


class DayReading(Model):
    """The reading of a day."""

    day: date
    value: float = Field(description="0 to 100")


class ProviderHistory(Model):
    """Placement at one provider over time."""

    provider: str
    label: str = Field(description="What the tenant calls it")
    points: list[PlacementPoint] = Field(description="By run or by day, oldest first")
    readings: list[DayReading] = Field(
        description="Readings of `domain` at this provider; days without one are missing"
    )
    turn: PlacementTurn | None = Field(description="null where chance may explain what differs")


class PlacementHistory(Model):
    """Placement of a period."""

    first: date
    last: date
    outlet: str
    outlets: list[str] = Field(description="Outlets with runs in the period")
    runs: int
    by: Literal["run", "day"] = Field(description="What a point is: a run, or a day where there are more than 400 runs")
    domain: str = Field(description="From domain of the newest run: the one whose readings and changes are shown")
    providers: list[ProviderHistory]
    changes: list[TurnChange] = Field(description="What else changed in the period, oldest first")


class Rhythm(Model):
    """When a schedule runs. Hourly without `hours` means every hour."""

    every: Literal["hourly", "daily", "weekly", "monthly"]
    hours: list[Annotated[int, Field(ge=0, le=23)]] = Field(default=[], max_length=24, examples=[[9, 15]])
    minute: int = Field(0, ge=0, le=59)
    weekdays: list[Annotated[int, Field(ge=1, le=7)]] = Field(
        default=[], max_length=7, description="For weekly: 1 is Monday"
    )
    month_days: list[Annotated[int, Field(ge=1, le=31)]] = Field(
        default=[], max_length=31, description="For monthly; a day that a month does not have is its last one"
    )
    time_zone: str = Field("UTC", max_length=60, examples=["Atlantic/Faroe"])


class ScheduleAlert(Model):
    """When an item opens on the worklist, once per incident, with its notifications.

    It opens for each provider where at least `share` of a run's copies, and at least `copies` of them, were in spam or
    missing `after_minutes` after the start of the run.
    """

    share: float = Field(0.5, gt=0, le=1)
    copies: int = Field(2, ge=1, le=500)
    after_minutes: int = Field(30, ge=1, le=2880, description="For relays that queue: only then is a copy missing")


class ScheduleSettings(Model):
    """What a schedule does. Without a rhythm it runs after changes only."""

    outlet: OutletName
    rhythm: Rhythm | None = None
    after_records: bool = Field(
        False, description="Run when a record of the From or envelope domain, or of a domain above it, changed"
    )
    after_template: bool = Field(False, description="Run when the message differs from the one copied last")
    tray: str = Field("", max_length=40, description="Copy the newest message of this tray; empty: the one handed in")
    template: str = Field("", max_length=200, description="With `tray`: the newest of this template")
    seeds: list[int] = Field(default=[], max_length=500, description="Numbers of seeds; default: all that are on")
    lists: list[ListName] = Field(default=[], max_length=20)
    without_providers: list[Annotated[str, StringConstraints(min_length=1, max_length=255)]] = Field(
        default=[], max_length=50, description="Mailbox providers whose seeds are left out"
    )
    without_seeds: list[int] = Field(default=[], max_length=500, description="Seeds that are left out")
    keep_custom: bool = True
    wait_minutes: int = Field(60, ge=1, le=2880)
    alert: ScheduleAlert | None = None


class NewSchedule(ScheduleSettings):
    """A schedule of placement runs."""

    name: OutletName = Field(examples=["weekly-newsletter"])
    enabled: bool = True


class ScheduleChange(Model):
    """New settings of a schedule. Fields that are left out stay unchanged; `rhythm` and `alert` may be null."""

    outlet: OutletName | None = None
    rhythm: Rhythm | None = None
    after_records: bool | None = None
    after_template: bool | None = None
    tray: str | None = Field(None, max_length=40)
    template: str | None = Field(None, max_length=200)
    seeds: list[int] | None = Field(None, max_length=500)
    lists: list[ListName] | None = Field(None, max_length=20)
    without_providers: list[Annotated[str, StringConstraints(min_length=1, max_length=255)]] | None = Field(
        None, max_length=50
    )
    without_seeds: list[int] | None = Field(None, max_length=500)
    keep_custom: bool | None = None
    wait_minutes: int | None = Field(None, ge=1, le=2880)
    alert: ScheduleAlert | None = None
    enabled: bool | None = Field(None, description="false pauses it")


class ScheduleCopy(Model):
    """The name of a copy; everything else is taken over, and the copy is paused."""

    name: OutletName = Field(examples=["weekly-newsletter-2"])


class Schedule(ScheduleSettings):
    """A schedule."""

    name: str
    enabled: bool
    when: str = Field(description="Its rhythm in words", examples=["Mondays at 09:00 (UTC)"])
    next_at: UtcTime | None
    ran_at: UtcTime | None = Field(description="When it last started a run, or tried to")
    last_run: int | None
    problem: str = Field(description="Why it could not start the last run, and what to do")
    address: str = Field(
        description="Mail a message to this address, from anywhere, and it is copied from then on; empty with `tray`"
    )
    has_message: bool = Field(description="Whether a message was handed in")
    created_by: str
    created_at: UtcTime


class NewShare(Model):
    """A link to one run that needs no account."""

    days: int = Field(14, ge=1, le=365, description="How long it is valid")
    note: str = Field("", max_length=200, description="Whom it is for")


class Share(Model):
    """A link to a run. Its address is shown once, when it is made."""

    id: int
    note: str
    created_by: str
    created_at: UtcTime
    expires_at: UtcTime
    opened: int = Field(description="How often")
    opened_at: UtcTime | None


class MadeShare(Share):
    """A new link with its address."""

    url: str


class SharedCopy(Model):
    """A copy as a shared link shows it: without the address of the seed."""

    number: int = Field(description="Of the provider's copies, from 1")
    provider: str
    outcome: CopyOutcome
    folder: str
    reply: str
    seconds: float | None
    verified: list[CopyResult]
    changed: list[str] = Field(description="Fields that changed on the way; `body`")


class SharedRun(Model):
    """A run as a shared link shows it."""

    tenant: str
    title: str
    state: RunState
    subject: str
    header_from: str
    mark: float | None
    started_at: UtcTime | None
    ended_at: UtcTime | None
    expires_at: UtcTime
    providers: list[ProviderPlacement]
    copies: list[SharedCopy]
