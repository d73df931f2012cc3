"""The BIMI record's form, and whether the DMARC policy is strict enough for anybody to show the logo."""

from rust_gauge.core.audit.examination import CheckState, Examination, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.dmarc import discover_by_list, effective_policy
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.transport import read_bimi


def examine_bimi(request: AuditRequest) -> DnsProgram[Examination]:
    """Look at `default._bimi.`"""
    out = Examination()
    name = f"default._bimi.{request.domain}"
    answer = yield from ask(name, "TXT")
    texts = [txt.text for txt in answer.texts if txt.text.lower().lstrip().startswith("v=bimi")]
    if answer.failed or not texts:
        state = CheckState.UNMEASURED if answer.failed else CheckState.ABSENT
        out.point("bimi", "BIMI", state, why_unmeasured(answer) if answer.failed else "No BIMI logo")
        return out
    out.show("bimi", answer, texts)
    record = read_bimi(texts[0])
    if record.problems:
        first = record.problems[0]
        out.findings.append(
            Finding(
                rule="bimi-record",
                level=Level.RISK,
                title=f"The BIMI record at {name} has an error: {first.what}",
                place=Place(name, "TXT", 0, first.column, first.length),
                evidence=tuple(f"column {problem.column}: {problem.what}" for problem in record.problems),
                reason="Receivers do not show the logo.",
                remedy=f"Correct the record at column {first.column}.",
                reference="BIMI draft §4.3",
                scope="none",
            )
        )
    policy = effective_policy((yield from discover_by_list(request.domain)))
    if not record.declines and (policy.policy not in ("quarantine", "reject") or policy.percent < 100):
        out.findings.append(
            Finding(
                rule="bimi-needs-policy",
                level=Level.NOTE,
                title=f"{request.domain} publishes a logo, but its DMARC policy is too weak for it",
                place=Place(name, "TXT"),
                evidence=(f"DMARC: {policy.policy or 'no policy'}",),
                reason="Receivers show the logo only if all failing mail is quarantined or rejected.",
                remedy="Move to p=quarantine or p=reject first.",
                reference="BIMI draft §7.1",
                scope="none",
            )
        )
    out.point("bimi", "BIMI", CheckState.GOOD, "It opts out" if record.declines else record.logo[:80])
    return out
