"""Sending domains."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.audits import AuditSummary
from rust_gauge.contract.common import Model, UtcTime

Selector = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9_]([A-Za-z0-9_.-]{0,62}[A-Za-z0-9_])?$")]


class NewDomain(Model):
    """A domain to watch. Selectors cannot be listed from DNS, so name those that sign its mail."""

    name: str = Field(min_length=1, max_length=1000, examples=["news.glasswort.example"])
    selectors: list[Selector] = Field(default=[], max_length=50, examples=[["d1", "d2"]])


class DomainChange(Model):
    """New settings of a domain."""

    selectors: list[Selector] = Field(max_length=50)


class Domain(Model):
    """A sending domain. One that was only seen in events is `seen` until somebody adds it."""

    name: str
    tenant: str
    origin: Literal["added", "seen"]
    selectors: list[str]
    added_at: UtcTime
    last_audit: AuditSummary | None = None
