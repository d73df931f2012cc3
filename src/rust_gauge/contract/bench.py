"""The bench: trays, the messages that they catch, and what tests want to know of a message."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.assays import AssayComparison, Level, MessageField, MessageLink, MessagePart
from rust_gauge.contract.common import Model, UtcTime
from rust_gauge.contract.flow import Rate

TrayName = Annotated[str, StringConstraints(pattern=r"^[a-z0-9][a-z0-9-]{0,39}$")]
Via = Literal["smtp", "address", "upload", "feed"]
ReceiverAction = Literal["refuse", "full", "greylist", "delay", "slow"]
CaughtState = Literal["waiting", "claimed", "examined", "failed"]


class ReceiverRule(Model):
    """How a tray answers for some recipients. The first rule that matches a recipient counts.

    refuse: answer with `reply`, after RCPT TO or after the message. full: the same with a reply for a full mailbox.
    greylist: ask to repeat until `seconds` after the first attempt. delay: the answer to the message takes `seconds`.
    slow: every answer from RCPT TO on takes `seconds`.
    """

    recipients: str = Field("*", min_length=1, max_length=254, description="Pattern with * and ?", examples=["full@*"])
    action: ReceiverAction
    reply: str = Field(
        "", max_length=500, description="SMTP reply, such as 550 5.1.1 No such mailbox; 4xx or 5xx",
        examples=["550 5.1.1 No such mailbox"],
    )  # fmt: skip
    stage: Literal["rcpt", "data"] = "rcpt"
    seconds: float = Field(0, ge=0, le=3600, description="delay and slow: at most 120")


class NewTray(Model):
    """A tray to add."""

    name: TrayName = Field(examples=["booking-staging"])
    title: str = Field("", max_length=120)
    keep_days: int = Field(14, ge=1, le=365, description="Messages are deleted after this many days")
    keep_messages: int = Field(2000, ge=1, le=50_000, description="The oldest beyond this number are deleted")
    max_bytes: int = Field(10 * 2**20, ge=1024, le=40 * 2**20, description="Largest message that is caught, in octets")
    sending_ip: str = Field(
        "", max_length=45,
        description="IP that real mail will be sent from: SPF and blocklists are checked for it. Mail to the "
        "tray's own address has a sending IP of its own",
    )  # fmt: skip
    series_header: str = Field(
        "", max_length=80, description="Header field that names the template; without it the subject does",
        examples=["X-Template"],
    )  # fmt: skip
    receiver: list[ReceiverRule] = Field(default=[], max_length=50)


class TrayChange(Model):
    """New settings of a tray. Fields that are left out stay unchanged."""

    title: str | None = Field(None, max_length=120)
    keep_days: int | None = Field(None, ge=1, le=365)
    keep_messages: int | None = Field(None, ge=1, le=50_000)
    max_bytes: int | None = Field(None, ge=1024, le=40 * 2**20)
    sending_ip: str | None = Field(None, max_length=45)
    series_header: str | None = Field(None, max_length=80)
    receiver: list[ReceiverRule] | None = Field(None, max_length=50)


class Tray(Model):
    """A tray: what is sent to it is caught and goes nowhere else."""

    name: str
    title: str
    address: str = Field(description="Address for mail from outside; empty where the installation has no bench domain")
    smtp_user: str
    rotated_at: UtcTime = Field(description="When the password was made")
    keep_days: int
    keep_messages: int
    max_bytes: int
    sending_ip: str
    series_header: str
    receiver: list[ReceiverRule]
    created_at: UtcTime
    messages: int = Field(description="Messages in it")
    octets: int = Field(description="Their size")


class MadeTray(Tray):
    """A tray with its SMTP password, shown only once."""

    password: str


class ConnectionSnippet(Model):
    """Settings for one library or format, ready to copy."""

    key: str = Field(examples=["smtplib"])
    title: str = Field(examples=["Python smtplib"])
    text: str


class TrayConnection(Model):
    """How to send to a tray. The password is not here: snippets read it from BENCH_PASSWORD."""

    host: str = Field(description="Empty if this installation has no SMTP listener for the bench")
    starttls_port: int
    tls_port: int = Field(description="Port with TLS from the start; 0: none")
    smtp_user: str
    certificate: str = Field("", description="Certificate to trust (PEM), where it is not signed by an authority")
    snippets: list[ConnectionSnippet]


class CaughtMessage(Model):
    """A caught message as lists show it."""

    id: int
    arrived_at: UtcTime
    via: Via = Field(description="smtp: with the tray's password; address: from outside; upload; feed: Maildir or IMAP")
    mail_from: str
    recipients: list[str]
    subject: str
    header_from: str
    message_id: str
    series: str = Field(description="What the message is one of: the template, or the subject with numbers taken out")
    size: int
    client_ip: str
    helo: str
    tls: str = Field(description="TLS version; empty without TLS")
    state: CaughtState
    mark: float | None = Field(description="Null until it was examined")
    worst: Level | None


class Attachment(Model):
    """An attachment."""

    number: str = Field(examples=["2"])
    file_name: str
    type: str
    size: int = Field(description="Octets, decoded")
    sha256: str = Field(description="Of the decoded octets")


class FoundCode(Model):
    """What looks like a one-time code, such as for signing in."""

    code: str = Field(examples=["482913"])
    context: str = Field(description="The text around it")


class ParsedMessage(CaughtMessage):
    """A caught message, read: what tests assert on."""

    fields: list[MessageField]
    parts: list[MessagePart]
    text: str | None
    html: str | None
    visible_text: str | None = Field(description="What people can read of the HTML")
    links: list[MessageLink]
    attachments: list[Attachment]
    codes: list[FoundCode] = Field(description="The most likely first")


class ConversationStep(Model):
    """One line of the SMTP conversation. `at` is in seconds since the client connected."""

    at: float
    side: Literal["client", "server"]
    text: str


class Conversation(Model):
    """How a message came by SMTP. Without SMTP, there are no steps."""

    client_ip: str = ""
    helo: str = ""
    tls: str = ""
    cipher: str = ""
    authenticated: bool = False
    mail_from: str = ""
    recipients: list[str] = []
    steps: list[ConversationStep] = []


class BenchComparison(Model):
    """Messages compared with the first, and what was different in how they travelled."""

    messages: list[CaughtMessage]
    comparisons: list[AssayComparison]


class RepeatPath(Model):
    """Messages of one series that came by one path: the address and HELO name that they were sent from."""

    client_ip: str
    helo: str
    count: int
    marks: list[float]
    least: float
    most: float
    mean: float


class SeriesRule(Model):
    """A rule whose points were not the same for all messages of a series."""

    rule: str
    title: str
    seen: int = Field(description="Messages to which it applied")
    points: list[float] = Field(description="For each message, oldest first")


class SeriesPoint(Model):
    """A message of a series, on the time axis."""

    id: int
    arrived_at: UtcTime
    mark: float | None
    worst: Level | None
    client_ip: str
    reading: float | None = Field(None, description="Reading of the From domain on that day, overall")


class SeriesPlacement(Model):
    """A placement run of a message of a series: the share of its copies in the inbox."""

    run: int
    at: UtcTime
    outlet: str
    inbox: Rate | None


class Series(Model):
    """Messages of one template: their marks over time, the spread, and how much of it goes with the path."""

    series: str
    domain: str = Field(description="From domain of the newest message")
    placement: list[SeriesPlacement] = Field(description="Placement runs of messages of this template, oldest first")
    points: list[SeriesPoint]
    examined: int
    least: float | None
    most: float | None
    mean: float | None
    paths: list[RepeatPath]
    share_of_path: float | None = Field(
        description="Share of the variance of marks that goes with the path, 0 to 1; null with fewer than two paths, "
        "fewer than two messages on some path, or no variance"
    )
    rules: list[SeriesRule]


class SeriesSummary(Model):
    """A template and the newest of its messages."""

    series: str
    count: int
    newest_at: UtcTime
    newest_id: int
    mark: float | None
