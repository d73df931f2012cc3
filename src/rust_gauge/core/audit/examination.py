"""What the examination of one subject hands over, and how published records are kept for showing."""

from dataclasses import dataclass, field
from enum import StrEnum

from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dmarc import Discoveries, DmarcOutcome
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, PageAnswer
from rust_gauge.core.spf import Authorised, LookupTree
from rust_gauge.core.transport import ListAnswer


class CheckState(StrEnum):
    """How one point of the check-list stands. A fault, risk or note comes from the worst finding under it."""

    GOOD = "good"
    FAULT = "fault"
    RISK = "risk"
    NOTE = "note"
    ABSENT = "absent"  # not published, and nobody has to
    UNMEASURED = "unmeasured"  # not known: no answer, off line, or nothing told about it


@dataclass(frozen=True, slots=True)
class Check:
    """One point of the check-list, and in a sentence how it stands."""

    key: str
    title: str
    state: CheckState
    summary: str


@dataclass(frozen=True, slots=True)
class PublishedRecord:
    """What DNS gave at one name and type for one purpose. `values` is empty when there is nothing, or no answer."""

    purpose: str  # spf, dkim, dmarc, mx, mta-sts, tls-rpt, bimi, tlsa
    name: str
    rdtype: str
    status: str
    values: tuple[str, ...]
    ttl: int | None  # seconds
    aliases: tuple[str, ...] = ()  # the CNAMEs that led there
    source: str = ""  # for a DKIM key: where its selector is known from
    strings: tuple[int, ...] = ()  # octets of each string of the first value, when there are several


@dataclass(frozen=True, slots=True)
class KeySeen:
    """A usable or unusable DKIM key at a selector."""

    selector: str
    source: str
    key_type: str
    bits: int | None
    fingerprint: str
    revoked: bool
    usable: bool
    testing: bool


@dataclass(frozen=True, slots=True)
class HostSeen:
    """A sending address and its names."""

    ip: str
    names: tuple[str, ...]
    confirmed: tuple[str, ...]  # those that lead back to the address
    helo: str


@dataclass(frozen=True, slots=True)
class StreamOutcome:
    """How one stream fares with DMARC, by the suffix list and by the tree walk, and with SPF from each address."""

    name: str
    relay: str
    header_from: str
    envelope: str
    dkim_domain: str
    selector: str
    by_list: DmarcOutcome
    by_walk: DmarcOutcome
    spf: tuple[tuple[str, str, str], ...]  # (address, result, reason)


@dataclass(frozen=True, slots=True)
class BulkPoint:
    """One requirement for bulk mail: `met`, `not_met`, `unmeasured`, or `not_applicable` below its volume."""

    key: str
    text: str
    state: str
    detail: str
    since: str


@dataclass
class Examination:
    """Records seen, findings made, points of the check-list, and what a page shows beside them."""

    records: list[PublishedRecord] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    checks: list[Check] = field(default_factory=list)
    spf_tree: LookupTree | None = None
    authorised: Authorised | None = None
    discoveries: Discoveries | None = None
    keys: list[KeySeen] = field(default_factory=list)
    hosts: list[HostSeen] = field(default_factory=list)
    streams: list[StreamOutcome] = field(default_factory=list)
    lists: list[ListAnswer] = field(default_factory=list)
    bulk: list[BulkPoint] = field(default_factory=list)

    @property
    def spf_lookups(self) -> int | None:
        """DNS look-ups that the SPF record costs (RFC 7208 §4.6.4); None without a record."""
        return self.spf_tree.cost if self.spf_tree is not None else None

    def point(self, key: str, title: str, state: CheckState, summary: str) -> None:
        """Set a point of the check-list; findings under it may worsen it."""
        self.checks.append(Check(key, title, state, summary))

    def show(self, purpose: str, answer: DnsAnswer, values: list[str], *, source: str = "") -> None:
        """Keep what was published at this answer's name."""
        question = answer.question
        texts = answer.texts
        strings = tuple(len(part) for part in texts[0].strings) if texts and len(texts[0].strings) > 1 else ()
        record = PublishedRecord(
            purpose, question.name, question.rdtype, str(answer.status), tuple(values), answer.ttl, answer.aliases,
            source, strings,
        )  # fmt: skip
        self.records.append(record)

    def unanswered(self, purpose: str, answer: DnsAnswer) -> None:
        """No answer is not "no record": say so instead of guessing. Off line nothing was asked, so nothing is wrong."""
        self.show(purpose, answer, [])
        if answer.status is AnswerStatus.NOT_HELD:
            return
        question = answer.question
        self.findings.append(
            Finding(
                rule="dns-no-answer",
                level=Level.RISK,
                title=f"No usable answer for {question}",
                place=Place(question.name, question.rdtype),
                topic=question.rdtype,
                evidence=(answer.detail or str(answer.status),),
                reason="Receivers without an answer defer the mail or treat it as unauthenticated.",
                remedy="Check the name servers of this zone, then re-check.",
                reference="RFC 7208 §4.4" if purpose == "spf" else "RFC 1035 §4.1.1",
            )
        )


def why_unmeasured(answer: DnsAnswer | PageAnswer) -> str:
    """In words, for the check-list."""
    if answer.status == "not_held":
        return f"Not checked: {answer.detail}"
    return f"No usable answer: {answer.detail or answer.status}"
