"""The audit of one sending domain: asks for its records, says what it found and what to do about it."""

from rust_gauge.core.audit.audit import AuditRequest, DomainAudit, PublishedRecord, audit_domain
from rust_gauge.core.audit.bulk_rules import BulkRule
from rust_gauge.core.audit.examination import BulkPoint, Check, CheckState, HostSeen, KeySeen, StreamOutcome
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import USUAL_SELECTORS, Measured, Selector, Stream, streams_of

__all__ = [
    "USUAL_SELECTORS",
    "AuditRequest",
    "BulkPoint",
    "BulkRule",
    "Check",
    "CheckState",
    "DomainAudit",
    "Finding",
    "HostSeen",
    "KeySeen",
    "Level",
    "Measured",
    "Place",
    "PublishedRecord",
    "Selector",
    "Stream",
    "StreamOutcome",
    "audit_domain",
    "streams_of",
]
