"""Audits: what a domain publishes, and which faults it has."""

from typing import Annotated, Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime

Level = Literal["fault", "risk", "note"]


class FindingPlace(Model):
    """The place of a finding: owner name and type of the record, and in its text the column (from 1; 0: the whole
    text) and length.
    """

    name: str
    rdtype: str
    record: int = 0
    column: int = 0
    length: int = 0


class Finding(Model):
    """A finding of the audit, with its evidence and remedy."""

    id: str = Field(examples=["spf-several-records:copperline.example"])
    rule: str = Field(examples=["spf-several-records"])
    level: Level
    title: str
    place: FindingPlace
    evidence: list[str]
    reason: str
    remedy: str
    record: str | None = Field(None, description="Record value to publish, if there is one")
    reference: str = Field(examples=["RFC 7208 §4.5"])
    check: str = Field("dns", description="Checklist requirement it belongs to")
    topic: str = Field("", description="Distinguishes findings of one rule at one name: an address, a tag, a record")
    scope: str = Field("all", description="Affected mail: all, subdomains, stream:<name>, selector:<s>, none")
    mail: int | None = Field(None, description="Affected messages of the last seven days, if known")


class PublishedRecord(Model):
    """The answer of DNS for one name. `values` is empty where nothing is published (see `status`)."""

    purpose: Literal["spf", "dkim", "dmarc", "mx", "mta-sts", "tls-rpt", "bimi", "tlsa", "dnssec"]
    name: str
    rdtype: str
    status: str
    values: list[str]
    ttl: int | None = Field(None, description="Seconds")
    aliases: list[str] = Field([], description="CNAMEs that were followed")
    source: str = Field("", description="For a key: source of its selector")
    strings: list[int] = Field([], description="Bytes of each string, if the first value has several")


class Question(Model):
    """One DNS query of the audit and its outcome."""

    question: str
    status: str


class CheckPoint(Model):
    """One requirement of the checklist. `absent`: not published and not required. `unmeasured`: not known."""

    key: str
    title: str
    state: Literal["good", "fault", "risk", "note", "absent", "unmeasured"]
    summary: str


class LookupNode(Model):
    """A term of an SPF record that costs DNS look-ups, and how many."""

    term: str
    name: str = Field(description="Target name; empty if it depends on the connection")
    problem: str = Field(description="Empty, dead, void, loop, several, many_mx, syntax, failed or not_held")
    detail: str
    cost: int = Field(description="Lookups of this term and everything below it")
    networks: list[str] = Field(description="Networks that this term itself authorises")
    children: list["LookupNode"]


class AuthorisedNetwork(Model):
    """A network that may send, and the terms that lead to it."""

    network: str
    via: list[str]
    kind: Literal["public", "private", "documentation", "reserved"]
    wide: bool


class NetworkOverlap(Model):
    """A network that already has permission."""

    inner: str
    outer: str
    inner_via: list[str]
    outer_via: list[str]


class SpfPicture(Model):
    """The look-ups of an SPF record and the networks that it permits."""

    lookups: int
    limit: int
    voids: int
    truncated: bool
    own_networks: list[str]
    nodes: list[LookupNode]
    networks: list[AuthorisedNetwork]
    overlaps: list[NetworkOverlap]
    ipv4_addresses: int
    ipv6_addresses: int
    open_ended: bool = Field(description="Terms that depend on the connection may authorise further senders")


class PolicyFound(Model):
    """The DMARC record that applies, by one discovery method."""

    way: Literal["suffix-list", "tree-walk"]
    organisation: str
    owner: str = Field(description="Domain of the record; empty if there is none")
    policy: Literal["none", "quarantine", "reject"] | None
    tag: str = Field(description="Tag that applies: p, sp or np")
    percent: int
    testing: bool
    for_subdomains: Literal["none", "quarantine", "reject"] | None = Field(
        None, description="Policy for a subdomain without its own record"
    )
    for_absent: Literal["none", "quarantine", "reject"] | None = Field(
        None, description="Policy for a non-existent subdomain"
    )
    looked_at: list[str]


class DmarcPicture(Model):
    """The DMARC policy by the public suffix list (RFC 7489) and by the tree walk (DMARCbis)."""

    by_list: PolicyFound
    by_walk: PolicyFound
    differences: list[str]
    exists: bool | None


class KeySeen(Model):
    """A DKIM key. The fingerprint is the same for the same key wherever it is published."""

    selector: str
    source: str
    key_type: str
    bits: int | None
    fingerprint: str
    revoked: bool
    usable: bool
    testing: bool
    first_seen: UtcTime | None = None


class HostSeen(Model):
    """A sending address, its host names, and those of them that resolve back to it."""

    ip: str
    names: list[str]
    confirmed: list[str]
    helo: str


class AlignedIdentifier(Model):
    """An authenticated domain and its alignment with the From domain."""

    kind: Literal["spf", "dkim"]
    domain: str
    passed: bool
    detail: str
    organisation: str
    relaxed: bool
    strict: bool
    mode: Literal["relaxed", "strict"]
    counts: bool


class DmarcResult(Model):
    """DMARC for a stream or a message, and the resulting disposition."""

    way: Literal["suffix-list", "tree-walk"]
    header_from: str
    organisation: str
    result: Literal["pass", "fail", "none", "temperror"]
    disposition: Literal["deliver", "quarantine", "reject"]
    share: int
    policy: Literal["none", "quarantine", "reject"] | None
    owner: str
    aligned: list[AlignedIdentifier]
    reason: str


class SpfOfAddress(Model):
    """SPF for one address of a stream."""

    ip: str
    result: str
    reason: str


class StreamResult(Model):
    """Authentication of one stream."""

    name: str
    relay: str
    header_from: str
    envelope: str
    dkim_domain: str
    selector: str
    verified: bool | None = Field(None, description="Whether its From domain is verified; absent without a service")
    spf: list[SpfOfAddress]
    by_list: DmarcResult
    by_walk: DmarcResult


class ListResult(Model):
    """The answer of one DNS list for an address or a domain."""

    zone: str
    label: str
    subject: str
    state: Literal["listed", "not_listed", "refused", "answers_all", "empty", "failed"]
    codes: list[str]
    text: str
    detail: str


class BulkPoint(Model):
    """One requirement for bulk mail."""

    key: str
    text: str
    state: Literal["met", "not_met", "unmeasured", "not_applicable"]
    detail: str
    since: str


class AuditSummary(Model):
    """An audit without its details."""

    id: int
    domain: str
    finished_at: UtcTime
    faults: int
    risks: int
    notes: int
    spf_lookups: int | None = Field(None, description="DNS lookups of the SPF record, limit 10 (RFC 7208 §4.6.4)")
    cause: Literal["asked", "schedule", "batch", "offline"] = "asked"
    checked_at: UtcTime | None = Field(None, description="Time of the last check without changes")


class Audit(AuditSummary):
    """One audit of a domain with all details."""

    unicode_name: str = Field("", description="The name in U-labels if it is internationalised, for display only")
    records: list[PublishedRecord]
    findings: list[Finding]
    questions: list[Question]
    checks: list[CheckPoint] = []
    spf: SpfPicture | None = None
    dmarc: DmarcPicture | None = None
    keys: list[KeySeen] = []
    hosts: list[HostSeen] = []
    streams: list[StreamResult] = []
    lists: list[ListResult] = []
    bulk: list[BulkPoint] = []


class RecordChange(Model):
    """One name whose published values changed."""

    purpose: str
    name: str
    rdtype: str
    before: list[str]
    after: list[str]


class AuditComparison(Model):
    """Two audits of a domain compared."""

    before: AuditSummary
    after: AuditSummary
    records: list[RecordChange]
    appeared: list[Finding]
    gone: list[Finding]
    checks: list[list[CheckPoint]] = Field(description="Requirements that changed: [before, after]")


class HistoryEntry(Model):
    """A change at a domain: a record changed, or a finding appeared or disappeared."""

    id: int
    at: UtcTime
    kind: Literal["record", "appeared", "gone", "watch", "proof", "published"]
    title: str
    audit: int
    change: RecordChange | None = None
    finding: Finding | None = None


class BatchRequest(Model):
    """Domains to audit. They do not have to be domains of the tenant."""

    names: list[Annotated[str, Field(max_length=1000)]] = Field(min_length=1, max_length=20_000)
    selectors: list[Annotated[str, Field(max_length=64)]] = Field(default=[], max_length=20)


class BatchResult(Model):
    """One domain of a batch: its audit, or in `problem` why it could not be audited."""

    number: int
    name: str
    problem: str = ""
    faults: int
    risks: int
    notes: int
    findings: list[Finding]
    not_checked: list[str] = Field(default=[], description="Requirements that this audit could not judge, with why")


class SpfCheckRequest(Model):
    """A connection to check with SPF. `record` replaces what the envelope domain publishes."""

    ip: str = Field(max_length=45, examples=["192.0.2.43"])
    mail_from: str = Field(
        "", max_length=400, description="Empty for notices", examples=["bounce@news.glasswort.example"]
    )
    helo: str = Field("", max_length=1000, examples=["mx1.skerry.example"])
    record: str | None = Field(None, max_length=65_000)


class SpfStep(Model):
    """One evaluated term."""

    depth: int
    domain: str
    term: str
    column: int
    outcome: str
    asked: list[str]
    answer: list[str]
    note: str


class SpfResult(Model):
    """SPF for one identity, with the trace."""

    identity: Literal["helo", "mail_from"]
    domain: str
    result: Literal["none", "neutral", "pass", "fail", "softfail", "temperror", "permerror"]
    reason: str
    term: str
    decided_by: str
    explanation: str
    lookups: int
    voids: int
    steps: list[SpfStep]


class SpfCheck(Model):
    """SPF for both identities of a connection."""

    helo: SpfResult | None
    mail_from: SpfResult
    postmaster: bool = Field(description="MAIL FROM was empty: postmaster@ the HELO name was checked")


class SignatureResult(Model):
    """One DKIM signature of a message, and why it passes or fails."""

    result: Literal["pass", "fail", "neutral", "temperror", "permerror"]
    reason: str
    detail: str
    domain: str
    selector: str
    algorithm: str
    canonicalisation: str
    identity: str
    key_name: str
    key_bits: int | None
    body_octets: int
    body_hashed: int
    body_hash_given: str
    body_hash_computed: str
    body_matches: bool | None
    header_matches: bool | None
    signed_fields: list[str]
    missing: list[str]
    unsigned: list[str]
    clues: list[str]
    notes: list[str]


class MessageCheck(Model):
    """A verified message: its signatures, SPF if the connection is known, and DMARC by both discovery methods."""

    header_from: str
    signatures: list[SignatureResult]
    spf: SpfCheck | None
    dmarc: list[DmarcResult]
    problems: list[str]
    one_click: bool | None = Field(
        False,
        description="Whether it offers to unsubscribe with one click, in signed fields (RFC 8058); null if a key could "
        "not be fetched",
    )


class ReportedSource(Model):
    """One address that sent mail as the domain, as the receiver reported it."""

    source_ip: str
    messages: int
    aligned: int = Field(description="Of these, messages with SPF or DKIM pass and aligned")
    header_from: list[str]
    signatures: list[str] = Field(description="d= and selector with their result, such as `d.example s1 pass`")
    spf: list[str] = Field(description="Envelope domain with its result")
    dispositions: list[str]
    reasons: list[str] = Field(
        default=[],
        description="Why the policy was not applied, such as `mailing_list` or `local_policy: ...`",
    )


class ReportedPolicy(Model):
    """The DMARC record as the receiver found it. Tags that the report leaves out are empty."""

    p: str
    sp: str
    np: str
    adkim: str
    aspf: str
    pct: str
    fo: str
    testing: str = Field(description="The t tag: y or n")
    discovery: str = Field(description="How the record was found: psl or treewalk")


class ReportedSelector(Model):
    """A selector that signs for a domain of the tenant, found in a report."""

    domain: str
    selector: str


class FeedbackReport(Model):
    """Summary of an aggregate report (RFC 7489 §7.2). Audits check `new_selectors` from now on."""

    kind: Literal["aggregate"] = "aggregate"
    reporter: str
    report_id: str
    domain: str
    begin: UtcTime
    end: UtcTime
    messages: int
    aligned: int
    sources: list[ReportedSource] = Field(description="Largest first, at most 500")
    left_out: int = Field(description="Invalid rows of the report")
    new_selectors: list[ReportedSelector]
    policy: ReportedPolicy


class ReportedTlsFailure(Model):
    """Sessions that failed alike (RFC 8460 §4.3)."""

    result: str = Field(description="Result type, such as certificate-expired or starttls-not-supported")
    sessions: int
    sending_ip: str
    receiving_mx: str
    receiving_ip: str
    reason: str


class ReportedTlsPolicy(Model):
    """One policy that a receiver applied to mail for a domain."""

    policy: str = Field(description="sts, tlsa or no-policy-found")
    domain: str
    text: list[str] = Field(description="The policy as it was found")
    mx: list[str]
    successful: int = Field(description="Sessions that were encrypted as the policy asks")
    failed: int
    failures: list[ReportedTlsFailure] = Field(description="Most sessions first, at most 500")


class TlsReport(Model):
    """A report on TLS (RFC 8460): sessions to the mail servers of a domain."""

    kind: Literal["tls"] = "tls"
    reporter: str
    report_id: str
    contact: str
    begin: UtcTime
    end: UtcTime
    successful: int
    failed: int
    policies: list[ReportedTlsPolicy]
    left_out: int = Field(description="Policies and failures of the report that could not be read")


ReceiverReport = Annotated[FeedbackReport | TlsReport, Field(discriminator="kind")]


class DnsListSetting(Model):
    """A DNS list that audits query (RFC 5782), and the meaning of its answers."""

    zone: str = Field(min_length=3, max_length=253, examples=["bl.harbourmaster.example"])
    kind: Literal["ip", "domain"] = "ip"
    label: str = Field("", max_length=80)
    codes: dict[str, str] = Field({}, max_length=100)


class BulkRule(Model):
    """One requirement of large mailbox providers for bulk mail."""

    key: str = Field(min_length=1, max_length=40, pattern="^[a-z0-9-]+$")
    text: str = Field(min_length=1, max_length=400)
    measure: Literal["spf", "dkim", "spf_and_dkim", "alignment", "dmarc", "ptr", "tls", "one_click", "complaints"]
    since: str = Field(max_length=10, examples=["2026-02-01"], pattern=r"^\d{4}-\d{2}-\d{2}$")
    limit: float = Field(0.0, ge=0, le=1)
    above: float = Field(0.0, ge=0)


class AuditSettings(Model):
    """A tenant's audit settings."""

    lists: list[DnsListSetting] = Field(default=[], max_length=40)
    usual_selectors: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9_.-]{1,63}$")]] = Field(default=[], max_length=60)
    bulk_rules: list[BulkRule] = Field(default=[], max_length=40)
