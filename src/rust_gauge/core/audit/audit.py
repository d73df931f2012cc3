"""The examination itself, as a program that asks questions: which records there are, and what is wrong with them.

The parts are examined side by side (`gather`), each in its own module; this one only puts them together.
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace

from rust_gauge.core.audit.answer_rules import examine_answers
from rust_gauge.core.audit.bimi_rules import examine_bimi
from rust_gauge.core.audit.bulk_rules import BulkRule, judge_bulk
from rust_gauge.core.audit.dkim_rules import examine_dkim
from rust_gauge.core.audit.dmarc_rules import examine_dmarc
from rust_gauge.core.audit.examination import Check, CheckState, Examination, PublishedRecord
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.host_rules import examine_hosts
from rust_gauge.core.audit.list_rules import examine_lists
from rust_gauge.core.audit.mx_rules import examine_mx
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.audit.spf_rules import examine_spf, examine_spf_names
from rust_gauge.core.audit.stream_rules import examine_streams
from rust_gauge.core.audit.tls_rules import examine_tls
from rust_gauge.core.audit.zone_rules import examine_zone
from rust_gauge.core.dns import Answer, AnswerStatus, DnsProgram, Trace, ask, gather

__all__ = ["AuditRequest", "DomainAudit", "PublishedRecord", "audit_domain"]

CHECK_ORDER = ("spf", "dkim", "dmarc", "alignment", "mx", "mailboxes", "hosts", "mta-sts", "tls-rpt", "dane", "bimi",
               "dnssec", "dns", "lists", "bulk")  # fmt: skip


@dataclass(frozen=True, slots=True)
class DomainAudit:
    """What was published and what was found, the worst first.

    `whole` holds what pages show beside it: look-up tree, networks, streams, keys, hosts, lists. `answers` is all that
    was asked, in order, for a recording.
    """

    domain: str
    records: tuple[PublishedRecord, ...]
    findings: tuple[Finding, ...]
    checks: tuple[Check, ...]
    spf_lookups: int | None
    questions: tuple[tuple[str, str], ...]  # (question, how it ended)
    whole: Examination
    answers: tuple[Answer, ...]

    def count(self, level: Level) -> int:
        """Return how many findings have this level."""
        return sum(finding.level is level for finding in self.findings)


def audit_domain(request: AuditRequest, bulk_rules: Iterable[BulkRule] = ()) -> DnsProgram[DomainAudit]:
    """Audit one domain."""
    trace = Trace()
    # Some servers deny a name that only has names below it, so one of those is asked for as well.
    first = yield from trace.through(gather([ask(request.domain, "TXT"), ask(f"_dmarc.{request.domain}", "TXT")]))
    if all(answer.status is AnswerStatus.NO_NAME for answer in first):
        streams = yield from trace.through(examine_streams(request))
        return _nothing(request.domain, streams, trace)
    parts: list[Examination] = yield from trace.through(
        gather(
            [
                examine_spf(request),
                examine_spf_names(request),
                examine_dkim(request),
                examine_dmarc(request),
                examine_mx(request),
                examine_streams(request),
                examine_hosts(request),
                examine_tls(request),
                examine_bimi(request),
                examine_zone(request),
                examine_lists(request),
            ]
        )
    )
    whole = _together(parts)
    whole.findings = examine_answers(request.domain, trace.answers.values(), whole.findings)
    judge_bulk(whole, request.measured, bulk_rules, sends=request.sends)
    findings = sorted(_one_each(whole), key=lambda finding: finding.level.rank)
    whole.findings = findings
    asked = tuple((str(question), str(answer.status)) for question, answer in trace.answers.items())
    records = tuple({(r.purpose, r.name, r.rdtype): r for r in whole.records}.values())
    return DomainAudit(
        request.domain, records, tuple(findings), _judged(whole), whole.spf_lookups, asked, whole,
        tuple(trace.answers.values()),
    )  # fmt: skip


# Why mail of a stream is not authenticated, by what would align it; what follows from it is not a finding of its own.
_CAUSES = {
    "spf": ("spf-envelope-missing", "spf-helo-missing", "spf-missing", "stream-spf"),
    "dkim": ("dkim-no-key", "dkim-key-misplaced", "dkim-key-unreadable", "dkim-key-revoked", "dkim-several-keys"),
}


def _one_each(whole: Examination) -> list[Finding]:
    """Return each mistake as one finding: a stream that fails because of it is among its evidence."""
    found: dict[str, Finding] = {}
    for finding in whole.findings:
        found.setdefault(finding.id, finding)
    for outcome in whole.streams:
        unaligned = next((f for f in found.values() if (f.rule, f.topic) == ("stream-not-aligned", outcome.name)), None)
        failed = [each.identifier for each in outcome.by_list.aligned if each.aligned and not each.identifier.passed]
        if unaligned is None or not failed:
            continue
        names = {
            f"{outcome.selector}._domainkey.{each.domain}" if each.kind == "dkim" else each.domain for each in failed
        }
        rules = [rule for each in failed for rule in _CAUSES[each.kind]]
        cause = next((f for f in found.values() if f.rule in rules and f.place.name in names), None)
        if cause is not None:
            del found[unaligned.id]
            level = min(cause.level, unaligned.level, key=lambda level: level.rank)
            found[cause.id] = replace(cause, level=level, evidence=(*cause.evidence, unaligned.title))
    return list(found.values())


def _nothing(domain: str, streams: Examination, trace: Trace) -> DomainAudit:
    """Return the audit of a name that does not exist (RFC 8020: nothing is below it either): one finding."""
    whole = Examination()
    whole.streams = streams.streams  # which of them are verified and aligned is asked for all the same
    whole.findings.append(
        Finding(
            rule="dns-name-missing", level=Level.FAULT, place=Place(domain, "TXT"),
            title=f"{domain} does not exist",
            evidence=(f"{domain} TXT: NXDOMAIN", f"_dmarc.{domain} TXT: NXDOMAIN"),
            reason="Neither the name nor anything below it exists, so no mail can be authenticated as this domain, "
            "and nothing can be delivered to it.",
            remedy="Check the spelling; otherwise register the domain, or have it delegated and publish its records.",
            reference="RFC 8020 §2",
        )
    )  # fmt: skip
    for key, title in (("spf", "SPF"), ("dkim", "DKIM"), ("dmarc", "DMARC"), ("mx", "MX")):
        whole.point(key, title, CheckState.UNMEASURED, "The domain does not exist")
    whole.point("dns", "Name servers", CheckState.FAULT, "The domain does not exist")
    asked = tuple((str(question), str(answer.status)) for question, answer in trace.answers.items())
    return DomainAudit(
        domain,
        (),
        tuple(whole.findings),
        _judged(whole),
        whole.spf_lookups,
        asked,
        whole,
        tuple(trace.answers.values()),
    )


def _together(parts: list[Examination]) -> Examination:
    whole = Examination()
    for part in parts:
        for name in ("records", "findings", "checks", "keys", "hosts", "streams", "lists"):
            getattr(whole, name).extend(getattr(part, name))
        whole.spf_tree = whole.spf_tree or part.spf_tree
        whole.authorised = whole.authorised or part.authorised
        whole.discoveries = whole.discoveries or part.discoveries
    return whole


def _judged(whole: Examination) -> tuple[Check, ...]:
    """Return the check-list in its order, each point as bad as the worst finding under it. No answer is no result."""
    out = []
    for check in sorted(whole.checks, key=lambda check: CHECK_ORDER.index(check.key)):
        levels = [f.level for f in whole.findings if f.check == check.key and f.rule != "dns-no-answer"]
        worst = min(levels, key=lambda level: level.rank, default=None)
        state = CheckState(str(worst)) if worst is not None else check.state
        out.append(Check(check.key, check.title, state, check.summary))
    return tuple(out)
