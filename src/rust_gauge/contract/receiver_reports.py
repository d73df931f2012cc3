"""Reports of receivers (RFC 7489, 6591, 8460), who sends as a domain by what they tell, and policies tried on them."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Day, Model, UtcTime
from rust_gauge.contract.relays import RelayName

ReportKind = Literal["aggregate", "failure", "tls"]
ReportState = Literal["stored", "duplicate", "not_ours", "rejected"]
Authentic = Literal["signed", "other", "unsigned", "failed", "no_answer", "not_mail"]
SourceVerdict = Literal["ours", "forwarded", "unknown", "not_ours"]


class StoredReport(Model):
    """What became of a report that was handed in. `not_ours`: about a domain that the tenant has not added; it is filed
    when the domain is added. `rejected`: set aside with the reason.
    """

    state: ReportState
    id: int | None = None
    kind: ReportKind | None = None
    domain: str = ""
    receiver: str = ""
    records: int = 0
    left_out: int = Field(0, description="Records that could not be read")
    oddities: list[str] = Field(default=[], description="Mistakes of the sender that were understood")
    problem: str = ""
    why: str = ""
    remedy: str = ""


class ReportSummary(Model):
    """A stored report. For TLS reports, `messages` and `passed` count sessions."""

    id: int
    kind: ReportKind
    receiver: str = Field(description="Registered domain of its contact address, or its own name")
    label: str = Field(description="What the receiver calls itself")
    report_id: str
    domain: str
    ours: bool = Field(description="About a domain of the tenant")
    begins_at: UtcTime
    ends_at: UtcTime
    arrived_at: UtcTime
    arrived_by: Literal["mail", "post", "upload", "api"]
    authentic: Authentic = Field(
        description="Of the mail that carried it: `signed` by its From domain, by `other`, `unsigned`, signatures "
        "`failed`, or their keys had `no_answer`; `not_mail` if it came otherwise"
    )
    authentic_domain: str
    records: int
    left_out: int
    messages: int
    passed: int = Field(description="Messages that passed DMARC")
    oddities: list[str]


class ReportSignature(Model):
    """A DKIM signature as the receiver judged it."""

    domain: str
    selector: str
    result: str


class ReportReason(Model):
    """Why a receiver did not apply the policy, with its own words."""

    kind: str
    comment: str


class ReportRecord(Model):
    """Messages of one source that fared alike."""

    source_ip: str
    count: int
    header_from: str
    envelope_from: str
    spf_domain: str
    spf_result: str
    signatures: list[ReportSignature]
    spf_aligned: bool
    dkim_aligned: bool
    disposition: Literal["none", "quarantine", "reject"]
    reasons: list[ReportReason]


class ReportedRecord(Model):
    """The DMARC record as the receiver found it; empty where the report does not say."""

    p: str = ""
    sp: str = ""
    np: str = ""
    adkim: str = ""
    aspf: str = ""
    pct: str = ""
    fo: str = ""
    testing: str = ""
    discovery: str = ""


class FailureDetails(Model):
    """One message that failed, as a failure report tells it. What the receiver redacted is empty."""

    failure: str
    aligned: str
    delivery: str
    source_ip: str
    mail_from: str
    header_from: str
    dkim_domain: str
    selector: str
    dkim_identity: str
    spf_record: str
    results: str
    message_id: str
    subject: str
    redacted: bool


class TlsPolicySeen(Model):
    """A policy as the receiver applied it, and how sessions went."""

    kind: str
    domain: str
    text: list[str]
    mx: list[str]
    successful: int
    failed: int


class ReportDetails(ReportSummary):
    """A report with its rows, those with most messages first."""

    policy: ReportedRecord | None = None
    rows: list[ReportRecord] = []
    more_rows: int = Field(0, description="Rows that are not listed here")
    failure: FailureDetails | None = None
    tls: list[TlsPolicySeen] = []
    overlaps: list[int] = Field(default=[], description="Other reports of this receiver over the same time, by id")
    has_original: bool = False


class RejectedReport(Model):
    """A report that was set aside."""

    id: int
    arrived_at: UtcTime
    arrived_by: Literal["mail", "post", "upload", "api"]
    problem: str
    why: str
    remedy: str
    size: int = Field(description="Octets")


class ReportReplay(Model):
    """What became of reports that were read again."""

    tried: int
    stored: int
    duplicates: int
    rejected: int


class Receiver(Model):
    """A receiver that reports. `silent_since` is set where it stopped: nothing for three times its usual pause."""

    receiver: str
    label: str
    kinds: list[ReportKind]
    reports: int = Field(description="In the period")
    messages: int
    newest_end: UtcTime = Field(description="End of its newest period")
    usual_days: float | None = Field(None, description="Median days from one report to the next")
    silent_since: UtcTime | None = None


class ReportRetention(Model):
    """How long reports are kept."""

    row_days: int = Field(400, ge=7, le=3650, description="Reports with their rows, from the end of their period")
    original_days: int = Field(90, ge=0, le=3650, description="Originals, from their arrival; 0: not kept")


class SourceEvidence(Model):
    """A hint for one verdict. `weight` is the chance that it alone is right."""

    kind: str
    verdict: SourceVerdict
    weight: float
    text: str


class SourceMail(Model):
    """Messages of a source by how they fared at DMARC."""

    messages: int = 0
    both: int = Field(0, description="Aligned by SPF and by DKIM")
    spf_only: int = 0
    dkim_only: int = 0
    neither: int = 0
    quarantined: int = 0
    rejected: int = 0
    overridden: int = Field(0, description="Receivers gave a reason not to apply the policy")


class SourceAddress(Model):
    """An address of a source."""

    ip: str
    host: str = Field(description="By reverse DNS, where the name leads back to the address")
    mail: SourceMail
    first_day: date
    last_day: date


class Source(Model):
    """Those who send as a domain and belong together: addresses of a relay, of a host's domain, or of a network."""

    domain: str
    name: str
    verdict: SourceVerdict
    certainty: float = Field(description="0 to 1")
    decided_by: str = Field("", description="Who decided; empty where the service judged")
    relay: str = Field("", description="Relay that it was claimed as")
    evidence: list[SourceEvidence]
    mail: SourceMail
    addresses: int
    first_day: date
    last_day: date


class SourceDay(Model):
    """A source's mail on a day."""

    day: date
    mail: SourceMail


class SourceIdentity(Model):
    """What a source's mail showed: identifiers and results, with the messages of each."""

    header_from: str
    envelope_from: str
    spf_domain: str
    spf_result: str
    signatures: list[ReportSignature]
    reasons: list[ReportReason]
    messages: int
    receivers: list[str]
    last_day: date


class DomainChangeThen(Model):
    """A record of a domain that changed, or a finding that appeared, when mail stopped aligning."""

    at: UtcTime
    kind: Literal["record", "finding"]
    title: str


class FailureSeen(Model):
    """A failure report about one message of a source; what the receiver redacted is empty."""

    id: int
    receiver: str
    at: UtcTime
    failure: str = Field(description="What failed, such as dmarc or dkim (RFC 6591 §3.2.2)")
    header_from: str
    subject: str


class SourceDetails(Source):
    """A source with its addresses, days and identities."""

    failing_since: date | None = Field(
        None, description="First of the newest days on each of which more than a fifth of its mail did not align"
    )
    changes: list[DomainChangeThen] = Field(default=[], description="From three days before that to the day after")

    by_address: list[SourceAddress]
    by_day: list[SourceDay]
    identities: list[SourceIdentity]
    failures: int = Field(0, description="Failure reports about its mail in the period")
    newest_failures: list[FailureSeen] = []


class VerdictMail(Model):
    """Mail by whose it is."""

    verdict: SourceVerdict
    mail: SourceMail
    sources: int


class ReportDay(Model):
    """A day of a domain's mail by whose it is."""

    day: date
    ours: SourceMail
    forwarded: SourceMail
    unknown: SourceMail
    not_ours: SourceMail


class ReportedDomain(Model):
    """A domain that receivers report about, in short."""

    domain: str
    newest_day: date
    ours: SourceMail
    forwarded: SourceMail
    unknown: SourceMail
    not_ours: SourceMail
    unknown_sources: int
    path_stage: str = Field("", description="Stage of its path to `p=reject`; empty: not watched")


class UnknownName(Model):
    """A From domain below the domain that nobody added."""

    name: str
    first_day: date
    last_day: date
    messages: int
    passed: int


class ReceiverCount(Model):
    """What a receiver reported as ours beside what our events say it took.

    They differ by mail that was forwarded to it, by reports that are missing, and by mail that no feed knows.
    """

    receiver: str
    label: str
    reported: int = Field(description="Messages of ours in its reports")
    not_aligned: int
    sent: int | None = Field(description="Messages that our events say it took; null: no events of this provider")
    unexplained: bool = Field(description="It reports clearly more mail of ours than our events know")


class SourceOverview(Model):
    """Who sends as a domain, by what receivers reported."""

    domain: str
    first: date
    last: date
    reports: int
    receivers: int
    by_verdict: list[VerdictMail]
    sources: list[Source]
    days: list[ReportDay]
    unknown_names: list[UnknownName]
    by_receiver: list[ReceiverCount]
    not_judged: int = Field(description="Addresses that wait to be judged; they count as unknown")


class StreamKey(Model):
    """A key that mail of a stream was signed with, as receivers judged it."""

    domain: str
    selector: str
    planned: bool = Field(description="A key of the stream in the record plan")
    messages: int = 0
    passed: int = 0
    first_day: date
    last_day: date


class StreamReceiver(Model):
    """A receiver at which mail of a stream was not aligned. `failing_since`: as of a source, at this receiver."""

    receiver: str
    label: str
    messages: int
    not_aligned: int
    failing_since: date | None = None


class StreamMail(Model):
    """Mail of ours that belongs to one stream, or to one of several that reports do not tell apart; to none where no
    stream of the plan goes that way.
    """

    streams: list[str]
    sources: list[str]
    mail: SourceMail
    failing_since: date | None = Field(
        None, description="First of the newest days on each of which more than a fifth of the mail did not align"
    )
    not_aligned_at: list[StreamReceiver] = Field(description="Most messages first")
    changes: list[DomainChangeThen] = Field(default=[], description="From three days before that to the day after")
    keys: list[StreamKey]


class StreamAlignment(Model):
    """Which streams of a domain are aligned, by what receivers reported of our own mail."""

    domain: str
    first: date
    last: date
    streams: list[StreamMail]
    not_reported: list[str] = Field(description="Streams of the plan that no reported mail can belong to")


class SourceClaim(Model):
    """Says that a source is ours. With `relay` its addresses are added to that relay, which is created if it is new;
    with `stream` the relay carries that stream of the domain, which is created if it is new.
    """

    relay: RelayName | Literal[""] = ""
    stream: Annotated[str, StringConstraints(max_length=60)] = ""
    note: str = Field("", max_length=500)


class SourceDecision(Model):
    """Says whose a source is; null takes a decision back, and the service judges again."""

    verdict: Literal["forwarded", "not_ours"] | None
    note: str = Field("", max_length=500)


PathStageName = Literal["watch", "trial", "quarantine", "reject"]


RecordState = Literal["published", "none", "several", "no_answer"]


class PathSettings(Model):
    """What has to hold before a domain goes on to a stricter policy."""

    aligned_share: float = Field(0.98, ge=0.5, le=1, description="Share of our mail that passes DMARC")
    quiet_days: int = Field(14, ge=3, le=90, description="Days over which it is measured")
    unknown_a_day: int = Field(
        10, ge=0, le=100_000, description="Messages a day of one unknown source that are let pass"
    )
    stage_days: int = Field(14, ge=1, le=365, description="Shortest time at a stage")


class PathCondition(Model):
    """One condition of the next stage."""

    kind: Literal["reports", "aligned", "unknown", "days"]
    met: bool
    measured: str
    wanted: str


class PathStage(Model):
    """A stage, with the record that it needs."""

    stage: PathStageName
    state: Literal["done", "current", "next", "later"]
    record: str


class PolicyPath(Model):
    """A domain on its way to `p=reject`. `broken` says what fails at the present stage; `return_record` is the record
    to go back to then.
    """

    domain: str
    running: bool
    settings: PathSettings
    record_state: RecordState = Field(
        description="What DNS says of the domain's own record now; without an answer, stage and record are those last "
        "known of a path that runs. Of several records receivers use none (RFC 7489 §6.6.3)"
    )
    stage: PathStageName | None = Field(description="Of the published record; null: none is published, or known")
    stage_since: date | None
    published: str
    checked_at: UtcTime | None = Field(description="When DNS last answered for the record of a path that runs")
    stages: list[PathStage]
    conditions: list[PathCondition]
    next_stage: PathStageName | None = Field(description="Null at the end")
    ready: bool = Field(description="All conditions of the next stage are met")
    broken: str = ""
    return_record: str = ""
    governed_by: str = Field(
        "", description="Domain above whose record holds, as there is none of its own; its path counts, then"
    )
    governing_policy: str = Field("", description="What that record asks for here")
    summary: str


class PathAdvance(Model):
    """Chooses a stage for the record plan: the next one, or one to go back to."""

    stage: PathStageName


class RehearsalPolicy(Model):
    """A DMARC policy to try. What is left out stays as published."""

    p: Literal["none", "quarantine", "reject"] = "reject"
    sp: Literal["", "none", "quarantine", "reject"] = Field("", description="Subdomains; empty: as `p`")
    np: Literal["", "none", "quarantine", "reject"] = Field(
        "", description="Subdomains that do not exist (RFC 9091), as DNS says today; empty: as other subdomains"
    )
    pct: int = Field(100, ge=0, le=100, description="Percentage of failing mail that it applies to (RFC 7489)")
    testing: bool = Field(False, description="`t=y` of the successor of RFC 7489: one step milder")
    aspf: Literal["r", "s"] = "r"
    adkim: Literal["r", "s"] = "r"
    days: int = Field(30, ge=1, le=400)
    last: Day | None = None


class RehearsedMail(Model):
    """What a policy would have done to mail. `expected` are messages, fractions where it applies to a percentage."""

    messages: int
    aligned: int
    quarantined: float
    rejected: float


class RehearsedGroup(RehearsedMail):
    """Mail of one verdict."""

    verdict: SourceVerdict


class RehearsedReceiver(RehearsedMail):
    """Mail at one receiver; `ours` is the part of ours that would be quarantined or rejected."""

    receiver: str
    label: str
    ours_hit: float


class RehearsedSource(RehearsedMail):
    """A source whose mail would be hit, with what to do first."""

    source: str
    verdict: SourceVerdict
    certainty: float
    last_hit: date
    remedy: str


class Rehearsal(Model):
    """A stricter policy tried on past reports."""

    domain: str
    first: date
    last: date
    policy: RehearsalPolicy
    record: str = Field(
        description="The record to publish: that of today with this policy; empty where DNS gave no answer for it"
    )
    record_state: RecordState
    groups: list[RehearsedGroup]
    receivers: list[RehearsedReceiver]
    to_fix: list[RehearsedSource] = Field(description="In the order in which to fix them: most of our mail first")
    quiet_days: int = Field(description="Days since the newest mail of ours or unknown that would be hit")
    days_with_reports: int
    missing_names: list[str] = Field(default=[], description="From domains below it that do not exist; asked for `np`")
    names_not_measured: int = Field(0, description="From domains for which DNS gave no answer")
    summary: str


class TlsDay(Model):
    """Sessions of a day."""

    day: date
    successful: int
    failed: int


class TlsFailureSeen(Model):
    """Sessions that failed alike. `blocks`: a policy in mode enforce keeps such mail back."""

    result: str = Field(description="Result type of RFC 8460 §4.3; `not-told` where the report gives no details")
    meaning: str
    remedy: str
    blocks: bool
    sessions: int
    mx: list[str]
    receivers: list[str]
    reasons: list[str] = Field(description="In the senders' own words")
    first_day: date
    last_day: date


class TlsReceiver(Model):
    """Sessions of one sender of reports."""

    receiver: str
    label: str
    successful: int
    failed: int


class TlsPolicyReported(Model):
    """A policy as senders saw it, with whether it is the one that is published now."""

    kind: str
    text: list[str]
    receivers: list[str]
    last_day: date
    is_current: bool | None = Field(description="Null where no policy of the record plan is there to compare with")


class StsRehearsal(Model):
    """What MTA-STS in mode enforce would have done to past sessions."""

    sessions: int
    kept_back: int = Field(description="Sessions whose mail would have waited or been lost")
    days: int = Field(description="Days with reports")
    quiet_days: int = Field(description="Days since the newest of these")
    summary: str


class TlsOverview(Model):
    """How mail to a domain was encrypted, by TLS reports."""

    domain: str
    first: date
    last: date
    successful: int
    failed: int
    days: list[TlsDay]
    failures: list[TlsFailureSeen] = Field(description="Most sessions first")
    receivers: list[TlsReceiver]
    policies: list[TlsPolicyReported]
    rehearsal: StsRehearsal
