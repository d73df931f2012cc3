"""Audits: what a domain publishes, and what is wrong with it."""

from typing import Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime

Level = Literal["fault", "risk", "note"]


class FindingPlace(Model):
    """Where: the record's owner name and type, and in its text the column (from 1; 0: all of it) and length."""

    name: str
    rdtype: str
    record: int = 0
    column: int = 0
    length: int = 0


class Finding(Model):
    """One thing found, with the evidence and the remedy."""

    id: str = Field(examples=["spf-several-records:copperline.example"])
    rule: str = Field(examples=["spf-several-records"])
    level: Level
    title: str
    place: FindingPlace
    evidence: list[str]
    reason: str
    remedy: str
    record: str | None = Field(None, description="The exact value to publish, where one can be given")
    reference: str = Field(examples=["RFC 7208 §4.5"])


class PublishedRecord(Model):
    """What DNS gave at one name; `values` is empty where nothing is published (see `status`)."""

    purpose: Literal["spf", "dkim", "dmarc", "mx"]
    name: str
    rdtype: str
    status: str
    values: list[str]
    ttl: int | None = Field(None, description="Seconds")


class Question(Model):
    """One DNS question that the audit asked, and how it ended."""

    question: str
    status: str


class AuditSummary(Model):
    """An audit without its details."""

    id: int
    domain: str
    finished_at: UtcTime
    faults: int
    risks: int
    notes: int
    spf_lookups: int | None = Field(None, description="DNS look-ups that the SPF record costs, of 10 (RFC 7208 §4.6.4)")


class Audit(AuditSummary):
    """One examination of a domain, whole."""

    records: list[PublishedRecord]
    findings: list[Finding]
    questions: list[Question]
