"""Reports for clients: a period beside the one before, the look of a tenant's reports, and links that share one."""

from datetime import date
from typing import Annotated

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Day, Model, UtcTime
from rust_gauge.contract.flow import Rate

LOGO_MOST = 512 * 1024
"""Octets of a logo as it is uploaded."""


class ReportFigure(Model):
    """A figure of the period beside that of the period before. `rate` is absent where there was nothing to count."""

    name: str = Field(description="delivered, bounces, delays or complaints")
    label: str
    count: int
    before: int
    rate: Rate | None = Field(None, description="Share of the messages that it was counted of")
    rate_before: Rate | None = None
    better: bool | None = Field(None, description="Than before; absent where the intervals of both overlap")


class ReportMailDay(Model):
    """Messages of one day, UTC."""

    day: date
    delivered: int
    bounced: int = Field(description="Permanent and transient bounces")


class ReportDomain(Model):
    """A domain's reading before the first day and on the last. `trend`: readings by day of both periods."""

    name: str
    start: float | None
    end: float | None
    change: int | None = Field(description="Of the rounded values")
    condition: str
    factor: str = Field(description="What takes most off the reading, and where; empty if nothing does")
    trend: list[float | None]


class ReportProvider(Model):
    """Mail at one mailbox provider. A rate is absent where there was no mail, complaints where none are reported."""

    provider: str
    label: str
    delivered: int
    before: int
    bounces: Rate | None
    delays: Rate | None
    complaints: Rate | None
    reports_complaints: bool


class ReportReceived(Model):
    """What receivers reported of a domain (RFC 7489 §7.2): messages by who sent them."""

    domain: str
    ours: int
    aligned: int = Field(description="Of ours")
    ours_before: int
    aligned_before: int
    unknown: int
    forwarded: int
    not_ours: int
    refused: int = Field(description="Of those that are not ours")


class ReportWork(Model):
    """An incident that was resolved, or what to do next."""

    title: str
    text: str
    level: str
    since: UtcTime
    resolved_at: UtcTime | None = None
    remedy: str = ""
    record: str = Field("", description="Record to publish")


class Report(Model):
    """A report on a period, as data, as text and as a page: figures, readings, what was resolved, what comes next."""

    title: str
    text: str
    html: str = Field(description="Complete HTML document with its charts and logo; loads nothing else, runs no script")
    tenant: str
    first: date
    last: date
    days: int
    figures: list[ReportFigure]
    by_day: list[ReportMailDay] = Field(description="Days of both periods, the older one first")
    domains: list[ReportDomain]
    domains_left_out: int = Field(0, description="Domains with higher readings that the report does not show")
    providers: list[ReportProvider]
    received: list[ReportReceived]
    resolved: list[ReportWork]
    next: list[ReportWork] = Field(description="The most urgent open items")
    open: int = Field(description="Open items on the last day")


class ReportLogo(Model):
    """A logo as it is stored: a PNG without metadata."""

    width: int
    height: int
    octets: int
    address: str = Field(description="Data URL that holds the picture (RFC 2397)")


class ReportStyle(Model):
    """The look of a tenant's reports."""

    sender: Annotated[str, StringConstraints(strip_whitespace=True, max_length=80)] = Field(
        "", description="Whose report it is, shown at the top; empty: the tenant's name alone"
    )
    colour: Annotated[str, StringConstraints(pattern=r"^#[0-9A-Fa-f]{6}$")] = Field(
        "#2F7F76", description="Of headings and lines; readable on white (contrast of 4.5 to 1 or more)"
    )
    closing: Annotated[str, StringConstraints(strip_whitespace=True, max_length=500)] = Field(
        "", description="Text at the end, for example whom to ask"
    )


class ReportStyleShown(ReportStyle):
    """The look with its logo, if there is one."""

    logo: ReportLogo | None = None


class NewReportShare(Model):
    """What to share, for how long, and a note for yourself."""

    days: int = Field(7, ge=1, le=90)
    last: Day | None = Field(None, description="Last day, UTC; default: today")
    valid_days: int = Field(30, ge=1, le=365, description="Days until the link expires")
    note: Annotated[str, StringConstraints(max_length=200)] = ""


class ReportShare(Model):
    """A link that opens one report without an account. The report stays as it was when the link was made."""

    id: int
    title: str
    note: str
    created_by: str
    created_at: UtcTime
    expires_at: UtcTime
    opened: int = Field(description="How often")
    opened_at: UtcTime | None


class MadeReportShare(ReportShare):
    """A new link with its address, which is shown only now."""

    url: str
