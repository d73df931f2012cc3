"""The audit of one sending domain: asks for its records, says what it found and what to do about it."""

from rust_gauge.core.audit.audit import AuditRequest, DomainAudit, PublishedRecord, audit_domain
from rust_gauge.core.audit.findings import Finding, Level, Place

__all__ = ["AuditRequest", "DomainAudit", "Finding", "Level", "Place", "PublishedRecord", "audit_domain"]
