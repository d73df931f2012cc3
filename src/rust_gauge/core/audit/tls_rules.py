"""Return whether mail to the domain is carried safely: MTA-STS (RFC 8461), TLS reports (RFC 8460), and DANE (RFC 7672).

None of them is a duty; what is there has to be right, because senders that follow it stop delivering when it is not.
"""

from dns.rdtypes.ANY.TLSA import TLSA

from rust_gauge.core.audit.examination import CheckState, Examination, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.mx_rules import mx_hosts
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion, ask, ask_page
from rust_gauge.core.taglist import Problem
from rust_gauge.core.transport import StsPolicy, covers, read_sts_policy, read_sts_record, read_tls_rpt

_SHORT = 86_400  # seconds: a policy that is forgotten within a day protects nobody for long


def examine_tls(request: AuditRequest) -> DnsProgram[Examination]:
    """Ask for the three records, and fetch the policy where there is one."""
    out = Examination()
    mx = yield from ask(request.domain, "MX")
    hosts = mx_hosts(mx.records)
    sts = yield from _mta_sts(request, hosts, out)
    yield from _tls_rpt(request.domain, sts, out)
    yield from _dane(request.domain, mx, hosts, out)
    return out


def _mta_sts(request: AuditRequest, hosts: list[str], out: Examination) -> DnsProgram[bool]:
    """Return whether MTA-STS is in use."""
    title = "MTA-STS"
    name = f"_mta-sts.{request.domain}"
    answer = yield from ask(name, "TXT")
    if answer.failed:
        out.point("mta-sts", title, CheckState.UNMEASURED, why_unmeasured(answer))
        return False
    texts = [txt.text for txt in answer.texts if txt.text.lower().lstrip().startswith("v=sts")]
    if not texts:
        out.point("mta-sts", title, CheckState.ABSENT, "Not in use: mail to this name may be sent without TLS")
        return False
    out.show("mta-sts", answer, texts)
    place = Place(name, "TXT")
    if len(texts) > 1:
        out.findings.append(_sts("sts-several-records", f"{len(texts)} MTA-STS records at {name}", place, tuple(texts),
                                 "Leave one record at this name.", "RFC 8461 §3.1"))  # fmt: skip
    record = read_sts_record(texts[0])
    if record.problems:
        first = record.problems[0]
        out.findings.append(_sts("sts-record", f"The MTA-STS record at {name} has an error: {first.what}",
                                 Place(name, "TXT", 0, first.column, first.length), _said(record.problems),
                                 f"Correct the record at column {first.column}.", "RFC 8461 §3.1"))  # fmt: skip
    elif request.sts_policy and record.id != request.sts_id:
        out.findings.append(_behind(request, name, texts[0]))
    if not request.ask_pages:
        out.point("mta-sts", title, CheckState.UNMEASURED, "The policy was not fetched")
        return True
    host = f"mta-sts.{request.domain}"
    url = f"https://{host}/.well-known/mta-sts.txt"
    page = yield from ask_page(url)
    if page.status == "not_held":
        out.point("mta-sts", title, CheckState.UNMEASURED, f"The policy was not fetched: {page.detail}")
        return True
    if page.failed or page.status != "found":
        why = page.detail or f"HTTP status {page.code}"
        out.findings.append(_sts("sts-no-policy", f"The MTA-STS policy of {request.domain} cannot be fetched",
                                 Place(host, "A"), (url, why),
                                 "Serve the policy over HTTPS with a certificate for this name and without "
                                 "redirects, or remove the record.", "RFC 8461 §3.3"))  # fmt: skip
        out.point("mta-sts", title, CheckState.GOOD, "The policy cannot be fetched")
        return True
    policy = read_sts_policy(page.text)
    out.findings += _policy(request.domain, url, policy, hosts, page.content_type)
    if request.sts_policy and not _same(policy, read_sts_policy(request.sts_policy)):
        out.findings.append(_elsewhere(request, url, page.text))
    out.point("mta-sts", title, CheckState.GOOD, f"mode {policy.mode}, for {', '.join(policy.mx[:4]) or 'no host'}")
    return True


def _sts(rule: str, title: str, place: Place, evidence: tuple[str, ...], remedy: str, reference: str) -> Finding:
    return Finding(
        rule=rule,
        level=Level.FAULT,
        title=title,
        place=place,
        evidence=evidence,
        reason="Senders ignore the policy, or keep using the last one they fetched.",
        remedy=remedy,
        reference=reference,
        scope="none",
    )


def _same(one: StsPolicy, other: StsPolicy) -> bool:
    return (one.mode, set(one.mx), one.max_age) == (other.mode, set(other.mx), other.max_age)


def _behind(request: AuditRequest, name: str, text: str) -> Finding:
    record = f"v=STSv1; id={request.sts_id};"
    return Finding(
        rule="sts-id-behind",
        level=Level.RISK,
        title=f"The MTA-STS record of {request.domain} does not have the id of the policy that is served",
        place=Place(name, "TXT"),
        evidence=(text, f"id of the policy: {request.sts_id}"),
        reason="Senders keep the policy that they have until it expires, and do not notice the change.",
        remedy="Publish the record with the new id.",
        record=record,
        reference="RFC 8461 §3.1",
        scope="none",
    )


def _elsewhere(request: AuditRequest, url: str, text: str) -> Finding:
    return Finding(
        rule="sts-other-policy",
        level=Level.RISK,
        title=f"The MTA-STS policy fetched for {request.domain} differs from the one that is served here",
        place=Place(f"mta-sts.{request.domain}", "A"),
        evidence=(url, *text.split("\n")[:10], "served here:", *request.sts_policy.split("\n")[:10]),
        reason="Senders follow what they fetch, so that changes made here have no effect.",
        remedy="Point the host at this service, with its name in Host, or copy the policy to where it is served.",
        reference="RFC 8461 §3.3",
        scope="none",
    )


def _said(problems: tuple[Problem, ...]) -> tuple[str, ...]:
    return tuple(f"column {problem.column}: {problem.what}" for problem in problems)


def _policy(domain: str, url: str, policy: StsPolicy, hosts: list[str], content_type: str) -> list[Finding]:
    findings = []
    place = Place(f"mta-sts.{domain}", "A")
    if policy.problems:
        said = tuple(problem.what for problem in policy.problems)
        findings.append(_sts("sts-policy", f"The MTA-STS policy of {domain} has an error: {said[0]}", place,
                             (url, *said), "Correct the policy file, then change id= in the record.",
                             "RFC 8461 §3.2"))  # fmt: skip
    loose = [host for host in hosts if not any(covers(pattern, host) for pattern in policy.mx)]
    if loose and policy.mode != "none" and not policy.problems:
        findings.append(
            Finding(
                rule="sts-mx-not-covered",
                level=Level.FAULT if policy.mode == "enforce" else Level.RISK,
                title=f"The MTA-STS policy of {domain} does not name its MX {loose[0]}",
                place=place,
                evidence=(url, f"mx: {', '.join(policy.mx)}", f"MX: {', '.join(hosts)}"),
                reason="Senders that follow the policy do not deliver to this host.",
                remedy=f"Add mx: {loose[0]} to the policy, then change id= in the record.",
                record=f"mx: {loose[0]}",
                reference="RFC 8461 §4.1",
                scope="none",
            )
        )
    if policy.mode == "testing":
        findings.append(
            Finding(
                rule="sts-testing",
                level=Level.NOTE,
                title=f"The MTA-STS policy of {domain} is in testing mode",
                place=place,
                evidence=(url, "mode: testing"),
                reason="Failures are reported, but the mail is still delivered without TLS.",
                remedy="Change to mode: enforce when the TLS reports show no failures.",
                reference="RFC 8461 §5",
                scope="none",
            )
        )
    if policy.max_age is not None and policy.max_age < _SHORT and policy.mode == "enforce":
        findings.append(
            Finding(
                rule="sts-short-age",
                level=Level.RISK,
                title=f"The MTA-STS policy of {domain} expires after {policy.max_age} s",
                place=place,
                evidence=(url, f"max_age: {policy.max_age}"),
                reason="An attacker only needs to block the policy for that long.",
                remedy="Set max_age: to several weeks.",
                record="max_age: 2592000",
                reference="RFC 8461 §10.1",
                scope="none",
            )
        )
    if not content_type.lower().startswith("text/plain") and content_type:
        findings.append(
            Finding(
                rule="sts-content-type",
                level=Level.NOTE,
                title=f"The MTA-STS policy of {domain} is served as {content_type[:60]}",
                place=place,
                evidence=(url,),
                reason="It must be text/plain, so that no policy is served by accident.",
                remedy="Serve it as text/plain.",
                reference="RFC 8461 §3.2",
                scope="none",
            )
        )
    return findings


def _tls_rpt(domain: str, sts: bool, out: Examination) -> DnsProgram[None]:
    title = "TLS reports"
    name = f"_smtp._tls.{domain}"
    answer = yield from ask(name, "TXT")
    if answer.failed:
        out.point("tls-rpt", title, CheckState.UNMEASURED, why_unmeasured(answer))
        return
    texts = [txt.text for txt in answer.texts if txt.text.lower().lstrip().startswith("v=tlsrpt")]
    if not texts:
        out.point("tls-rpt", title, CheckState.ABSENT, "Not requested")
        if sts:
            out.findings.append(
                Finding(
                    rule="tlsrpt-missing",
                    level=Level.NOTE,
                    title=f"{domain} has MTA-STS without TLS reports",
                    place=Place(name, "TXT"),
                    reason="You are not told when senders cannot deliver because of the policy.",
                    remedy="Request reports.",
                    record=f"v=TLSRPTv1; rua=mailto:tls-reports@{domain}",
                    reference="RFC 8460 §3",
                    scope="none",
                )
            )
        return
    out.show("tls-rpt", answer, texts)
    record = read_tls_rpt(texts[0])
    problems = record.problems
    if len(texts) > 1:
        problems = (Problem(f"{len(texts)} records; only one is allowed", 0), *problems)
    if problems:
        first = problems[0]
        out.findings.append(
            Finding(
                rule="tlsrpt-record",
                level=Level.RISK,
                title=f"The TLS report record at {name} has an error: {first.what}",
                place=Place(name, "TXT", 0, first.column, first.length if first.column else 0),
                evidence=_said(problems),
                reason="No reports are sent.",
                remedy="Correct the record.",
                reference="RFC 8460 §3",
                scope="none",
            )
        )
    out.point("tls-rpt", title, CheckState.GOOD, f"Reports go to {', '.join(record.rua) or 'nobody'}")


def _dane(domain: str, mx: DnsAnswer, hosts: list[str], out: Examination) -> DnsProgram[None]:
    title = "DANE"
    if mx.failed:
        out.point("dane", title, CheckState.UNMEASURED, why_unmeasured(mx))
        return
    if not hosts:
        out.point("dane", title, CheckState.ABSENT, "No MX host")
        return
    answers = yield tuple(DnsQuestion(f"_25._tcp.{host}", "TLSA") for host in hosts[:10])
    there = [(host, answer) for host, answer in zip(hosts, answers, strict=False) if answer.records]
    if not there:
        failed = next((answer for answer in answers if answer.failed), None)
        state = CheckState.UNMEASURED if failed else CheckState.ABSENT
        out.point("dane", title, state, why_unmeasured(failed) if failed else "No TLSA record for any MX host")
        return
    for host, answer in there:
        out.show("tlsa", answer, [rdata.to_text() for rdata in answer.records])
        place = Place(answer.question.name, "TLSA")
        records = [rdata for rdata in answer.records if isinstance(rdata, TLSA)]
        if not answer.authenticated and not answer.authoritative:
            out.findings.append(
                Finding(
                    rule="dane-not-signed",
                    level=Level.RISK,
                    title=f"The TLSA record of {host} is not signed with DNSSEC",
                    place=place,
                    evidence=tuple(rdata.to_text() for rdata in records[:4]),
                    reason="Without DNSSEC the record must not be used, so it has no effect.",
                    remedy="Sign the zone of the MX host and publish its DS record, or remove the TLSA record.",
                    reference="RFC 7672 §2.2",
                    scope="none",
                )
            )
        if records and all(rdata.usage not in (2, 3) for rdata in records):
            out.findings.append(
                Finding(
                    rule="dane-usage",
                    level=Level.RISK,
                    title=f"The TLSA record of {host} has a usage that is not for mail",
                    place=place,
                    topic="usage",
                    evidence=tuple(rdata.to_text() for rdata in records[:4]),
                    reason="Only the usages 2 and 3 apply between mail servers.",
                    remedy="Publish 3 1 1 with the SHA-256 of the server's public key.",
                    reference="RFC 7672 §3.1.3",
                    scope="none",
                )
            )
    out.point("dane", title, CheckState.GOOD, f"{len(there)} of {len(hosts)} MX hosts have TLSA records")
