"""What the examination of one standard hands over, and how published records are kept for showing."""

from dataclasses import dataclass, field

from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dns import DnsAnswer


@dataclass(frozen=True, slots=True)
class PublishedRecord:
    """What DNS gave at one name and type for one purpose. `values` is empty when there is nothing, or no answer."""

    purpose: str  # spf, dkim, dmarc, mx
    name: str
    rdtype: str
    status: str
    values: tuple[str, ...]
    ttl: int | None  # seconds


@dataclass
class Examination:
    """Records seen and findings made."""

    records: list[PublishedRecord] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    spf_lookups: int | None = None

    def show(self, purpose: str, answer: DnsAnswer, values: list[str]) -> None:
        """Keep what was published at this answer's name."""
        question = answer.question
        record = PublishedRecord(purpose, question.name, question.rdtype, str(answer.status), tuple(values), answer.ttl)
        self.records.append(record)

    def unanswered(self, purpose: str, answer: DnsAnswer) -> None:
        """No answer is not "no record": say so instead of guessing."""
        self.show(purpose, answer, [])
        question = answer.question
        self.findings.append(
            Finding(
                rule="dns-no-answer",
                level=Level.RISK,
                title=f"No usable answer for {question}",
                place=Place(question.name, question.rdtype),
                topic=question.rdtype,
                evidence=(answer.detail or str(answer.status),),
                reason="Receivers that get no answer either put the mail off or treat it as not authenticated.",
                remedy="Look at the name servers of this zone, then measure again.",
                reference="RFC 7208 §4.4" if purpose == "spf" else "RFC 1035 §4.1.1",
            )
        )
