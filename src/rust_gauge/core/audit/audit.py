"""The examination itself, as a program that asks DNS questions: which records there are, and what is wrong with them.

The three standards are examined side by side (`gather`), each in its own module; this one only puts them together.
"""

from dataclasses import dataclass

from rust_gauge.core.audit.dkim_rules import examine_dkim
from rust_gauge.core.audit.dmarc_rules import examine_dmarc
from rust_gauge.core.audit.examination import Examination, PublishedRecord
from rust_gauge.core.audit.findings import Finding, Level
from rust_gauge.core.audit.mx_rules import examine_mx
from rust_gauge.core.audit.spf_rules import examine_spf
from rust_gauge.core.dns import DnsProgram, Trace, gather

__all__ = ["AuditRequest", "DomainAudit", "PublishedRecord", "audit_domain"]


@dataclass(frozen=True, slots=True)
class AuditRequest:
    """What to examine. Selectors cannot be listed from DNS, so they are told (RFC 6376 §3.1)."""

    domain: str
    selectors: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class DomainAudit:
    """What was published and what was found, the worst first. `questions` is what was asked of DNS, in order."""

    domain: str
    records: tuple[PublishedRecord, ...]
    findings: tuple[Finding, ...]
    spf_lookups: int | None
    questions: tuple[tuple[str, str], ...]  # (question, how it ended)

    def count(self, level: Level) -> int:
        return sum(finding.level is level for finding in self.findings)


def audit_domain(request: AuditRequest) -> DnsProgram[DomainAudit]:
    """Audit one domain."""
    trace = Trace()
    parts: list[Examination] = yield from trace.through(
        gather(
            [
                examine_spf(request.domain),
                examine_dkim(request.domain, request.selectors),
                examine_dmarc(request.domain),
                examine_mx(request.domain),
            ]
        )
    )
    findings = sorted((f for part in parts for f in part.findings), key=lambda finding: finding.level.rank)
    asked = tuple((str(question), str(answer.status)) for question, answer in trace.answers.items())
    lookups = next((part.spf_lookups for part in parts if part.spf_lookups is not None), None)
    records = tuple(record for part in parts for record in part.records)
    return DomainAudit(request.domain, records, tuple(findings), lookups, asked)
