"""Sending domains."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.audits import AuditSummary
from rust_gauge.contract.common import Model, UtcTime

Selector = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9_]([A-Za-z0-9_.-]{0,62}[A-Za-z0-9_])?$")]


class StreamPath(Model):
    """How one kind of mail of a domain is sent. Unknown values stay empty."""

    name: str = Field(min_length=1, max_length=60, examples=["newsletter"])
    header_from: str = Field("", max_length=1000, description="From domain; empty: the domain itself")
    envelope: str = Field("", max_length=1000, description="Domain of MAIL FROM", examples=["bounce.glasswort.example"])
    dkim_domain: str = Field("", max_length=1000, description="d= of the signatures")
    selector: str = Field("", max_length=63, pattern=r"^[A-Za-z0-9_.-]*$")
    relay: str = Field("", max_length=60, description="Relay")
    relays: list[Annotated[str, StringConstraints(min_length=1, max_length=60)]] = Field(
        default=[], max_length=50, description="Further relays"
    )
    helo: str = Field("", max_length=1000)
    ips: list[Annotated[str, StringConstraints(max_length=45)]] = Field(default=[], max_length=50)


class NewDomain(Model):
    """A domain to add. DNS cannot list selectors, so name those that sign its mail."""

    name: str = Field(min_length=1, max_length=1000, examples=["news.glasswort.example"])
    selectors: list[Selector] = Field(default=[], max_length=50, examples=[["d1", "d2"]])


class DomainChange(Model):
    """New settings of a domain. Fields that are left out stay unchanged."""

    selectors: list[Selector] | None = Field(None, max_length=50)
    streams: list[StreamPath] | None = Field(None, max_length=50)
    sends: bool | None = Field(None, description="False for a domain that never sends")
    audit_every_hours: int | None = Field(None, ge=0, le=24 * 30, description="0: manual only")


class Domain(Model):
    """A sending domain. A domain that appears only in events is `seen` until somebody adds it."""

    name: str
    tenant: str
    origin: Literal["added", "seen"]
    selectors: list[str]
    added_at: UtcTime
    streams: list[StreamPath] = []
    sends: bool = True
    audit_every_hours: int = 24
    verified: bool = Field(False, description="Verified itself, or by a parent domain")
    unicode_name: str = Field("", description="The name in U-labels if it is internationalised, for display only")
    last_audit: AuditSummary | None = None
