"""What can be wrong with a domain's DMARC policy (RFC 7489, DMARCbis), its own or the one it inherits."""

import re
from dataclasses import replace

from dns.rdataclass import IN
from dns.rdatatype import TXT
from dns.rdtypes.ANY.TXT import TXT as TxtRdata

from rust_gauge.core.audit.examination import CheckState, Examination, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.dmarc import (
    CorrectedPolicy,
    Destination,
    Discoveries,
    DmarcRecord,
    PolicyAt,
    check_destination,
    correct_policy,
    discover,
    effective_policy,
    read_policy,
)
from rust_gauge.core.dmarc.corrected import begins_wrong
from rust_gauge.core.dmarc.record import OPTIONS_IGNORED, POLICIES, POLICY_NOT_SECOND
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, gather, overlay
from rust_gauge.core.names import is_public_suffix, registered_domain

_MEANT = re.compile(
    r"\W{0,20}v?\W{0,5}=?\W{0,5}dmarc|.{0,2000}\bv\s?=\s?dmarc1|(?:.{0,2000};)?\W{0,20}(?:p|sp|np|rua|ruf|adkim|aspf|pct)\s?=",
    re.IGNORECASE | re.DOTALL,
)
_SMALL_REPORT = 50_000  # octets; compressed reports of busy domains reach that
_MAX_DESTINATIONS = 20  # each costs a look-up; real records have one to three


def examine_dmarc(request: AuditRequest) -> DnsProgram[Examination]:
    """Find the policy both ways, and look at its record and at where its reports go."""
    out = yield from _examined(request)
    out.findings = yield from _offered(request, out)
    return out


def _offered(request: AuditRequest, out: Examination) -> DnsProgram[list[Finding]]:
    """Return the findings with one corrected record for each name, audited before it is offered.

    A finding that the corrected record still has keeps no record: what is left is a choice, not a mistake.
    """
    findings = list(out.findings)
    for name in dict.fromkeys(finding.place.name for finding in findings if finding.rule in _CORRECTED):
        here = [f for f in findings if f.place.name == name and f.rule.startswith("dmarc-")]
        texts = next((r.values for r in out.records if r.purpose == "dmarc" and r.name == name), ())
        proposed = next((CorrectedPolicy(f.record) for f in here if f.record), None) or correct_policy(texts or ("",))
        if proposed is None or [proposed.text] == [*texts]:
            findings = [replace(f, record=None) if f in here else f for f in findings]
            continue
        question = DnsQuestion(name, "TXT")
        octets = proposed.text.encode()
        strings = [octets[at : at + 255] for at in range(0, len(octets), 255)]
        tried = DnsAnswer(question, AnswerStatus.FOUND, (TxtRdata(IN, TXT, strings),), 3600)
        after: Examination = yield from overlay(_examined(request), {question: tried})
        remaining = {f.rule for f in after.findings if f.place.name == name}
        broken = any(f.level is Level.FAULT for f in after.findings if f.place.name == name)
        said = _said_of(proposed, texts)
        findings = [
            f
            if f not in here
            else replace(f, record=None)
            if broken or f.rule in remaining
            else replace(f, record=proposed.text, remedy=f.remedy + said)
            for f in findings
        ]
    return findings


_CORRECTED = ("dmarc-syntax", "dmarc-several-records", "dmarc-not-recognised", "dmarc-unknown-tag", "dmarc-missing",
              "dmarc-misplaced", "dmarc-dangling-alias", "dmarc-psd", "dmarc-only-watching")  # fmt: skip


def _said_of(proposed: CorrectedPolicy, texts: tuple[str, ...]) -> str:
    """Return what the reader has to know about the record that is offered."""
    said = ""
    if proposed.left_out:
        said += f" The record offered here leaves out {', '.join(part[:80] for part in proposed.left_out[:5])}."
    now, then = read_policy(proposed.text).policy, read_policy(texts[0]).policy if len(texts) == 1 else None
    if texts and now != then:
        said += f" It asks for p={now}; receivers apply {f'p={then}' if then else 'no policy'} today."
    return said


def _examined(request: AuditRequest) -> DnsProgram[Examination]:
    domain = request.domain
    out = Examination()
    found = yield from discover(domain)
    out.discoveries = found
    if found.by_list.failed is not None:
        out.unanswered("dmarc", found.by_list.failed)
        out.point("dmarc", "DMARC", CheckState.UNMEASURED, why_unmeasured(found.by_list.failed))
        return out
    own, last = found.by_list.looked[0], found.by_list.looked[-1]
    if last is not own:
        out.show("dmarc", own.answer, _near(own))
        if last.texts:
            out.findings += _not_recognised(own)
    out.show("dmarc", last.answer, list(last.texts) or _near(last))
    place = Place(last.answer.question.name, "TXT")
    walked = found.by_walk.at
    if not last.texts and walked is not None and walked.record is not None:  # only the tree walk finds one
        out.show("dmarc", walked.answer, list(walked.texts))
        out.findings += _examine_record(
            request, walked.domain, Place(walked.answer.question.name, "TXT"), walked.record
        )
    elif not last.texts:
        out.findings += yield from _missing(request, own, last)
    elif len(last.texts) > 1:
        out.findings.append(_several(place, last.texts))
    for index, text in enumerate(last.texts):
        out.findings += _examine_record(request, last.domain, Place(place.name, "TXT", index), read_policy(text))
    out.findings += _differences(found, place)
    record = found.by_list.record or found.by_walk.record
    if record is not None:
        owner = (found.by_list.at or found.by_walk.at or last).domain
        out.findings += yield from _destinations(owner, record)
    out.point("dmarc", "DMARC", CheckState.GOOD, _summary(found))
    return out


def _summary(found: Discoveries) -> str:
    policy = effective_policy(found.by_list, exists=found.exists is not False)
    if policy.policy is None:
        policy = effective_policy(found.by_walk, exists=found.exists is not False)
    if policy.policy is None:
        return "No policy applies to this domain"
    by = "" if policy.owner == found.domain else f", inherited from {policy.owner}"
    share = f" for {policy.percent} %" if policy.percent < 100 else ""
    return f"{policy.tag}={policy.policy}{share}{by}"


def _missing(request: AuditRequest, own: PolicyAt, last: PolicyAt) -> DnsProgram[list[Finding]]:
    """No record: is there one that was meant as one, or one at a wrong name?"""
    domain = request.domain
    place = Place(f"_dmarc.{domain}", "TXT")
    found = _not_recognised(own) or _not_recognised(last)
    if found:
        return found
    if own.answer.aliases and own.answer.void:
        return [_dangling(place, own.answer)]
    wrong = (f"dmarc.{domain}", f"_dmarc.{domain}.{domain}", domain)
    answers = yield tuple(DnsQuestion(name, "TXT") for name in wrong)
    lost = next(((a, t.text) for a in answers for t in a.texts if t.text.startswith("v=DMARC1")), None)
    return [
        Finding(
            rule="dmarc-misplaced" if lost else "dmarc-missing",
            level=Level.FAULT if lost else Level.RISK,
            title=f"No DMARC record for {domain}" + (f"; there is one at {lost[0].question.name}" if lost else ""),
            place=place,
            evidence=(f"{lost[0].question.name}: {lost[1]}",) if lost else (),
            reason="Receivers are not told what to do with forged mail, no reports are sent, and large mailbox "
            "providers require a record from bulk senders.",
            remedy=f"Move the record to _dmarc.{domain}."
            if lost
            else "This domain does not send: publish a record that rejects everything."
            if request.sends is False
            else "Publish a record with p=none, read the reports, then tighten it.",
            record=lost[1]
            if lost
            else "v=DMARC1; p=reject"
            if request.sends is False
            else f"v=DMARC1; p=none; rua=mailto:feedback-reports@{registered_domain(domain)}",
            reference="RFC 7489 §6.3",
        )
    ]


def _dangling(place: Place, answer: DnsAnswer) -> Finding:
    """Report an alias at _dmarc that leads to nothing."""
    target = answer.aliases[-1]
    return Finding(
        rule="dmarc-dangling-alias",
        level=Level.FAULT,
        title=f"{place.name} is an alias of {target}, which has no record",
        place=Place(place.name, "CNAME"),
        evidence=(" -> ".join([place.name, *answer.aliases]), f"{target} TXT: {answer.status.replace('_', ' ')}"),
        reason="Receivers that follow the alias find no policy, and whoever can publish at its target sets yours.",
        remedy=f"Ask the operator of {target} to restore its record, or replace the alias by a TXT record of your own.",
        reference="RFC 7489 §6.6.3",
    )


def _not_recognised(at: PolicyAt) -> list[Finding]:
    """Report a text at _dmarc that was meant as a record and is ignored."""
    text = next(iter(_near(at)), None)
    if text is None or at.texts:
        return []
    return [
        Finding(
            rule="dmarc-not-recognised",
            level=Level.FAULT,
            title=f"The record at _dmarc.{at.domain} is not recognised as DMARC"
            + (": v=DMARC1 is not in front" if begins_wrong(text) else ""),
            place=Place(f"_dmarc.{at.domain}", "TXT", 0, 1, min(len(text), len("v=DMARC1;"))),
            evidence=(text,),
            reason="A DMARC record begins with exactly v=DMARC1 and a semicolon; receivers ignore anything else, so "
            "its policy does not apply.",
            remedy="Publish it again with v=DMARC1; in front.",
            reference="RFC 7489 §6.6.3",
        )
    ]


def _near(at: PolicyAt) -> list[str]:
    """Texts that were meant as DMARC and are none."""
    return [txt.text for txt in at.answer.texts if _MEANT.match(txt.text) and txt.text not in at.texts]


def _differences(found: Discoveries, place: Place) -> list[Finding]:
    """Receivers of the two kinds come to different answers."""
    if found.by_list.record is None and found.by_walk.record is None:
        return []
    words = found.differences
    if not words:
        return []
    return [
        Finding(
            rule="dmarc-ways-differ",
            level=Level.NOTE,
            title=f"Receivers do not agree on the DMARC policy of {found.domain}",
            place=place,
            evidence=words,
            reason="Some use the public suffix list and others walk up the DNS tree; here the results differ.",
            remedy=f"Publish a record at _dmarc.{found.domain} itself, or mark the organisational domain with psd=n.",
            reference="RFC 7489 §3.2, DMARCbis §4.10",
        )
    ]


def _destinations(owner: str, record: DmarcRecord) -> DnsProgram[list[Finding]]:
    """Return whether those who are to get the reports take mail, and have agreed (§7.1)."""
    asked = [("rua", address) for address in record.rua] + [("ruf", address) for address in record.ruf]
    asked = asked[:_MAX_DESTINATIONS]
    done: list[Destination] = yield from gather([check_destination(owner, tag, address) for tag, address in asked])
    findings = []
    for destination in {d.address: d for d in reversed(done)}.values():
        tag = record.tags.get(destination.tag)
        spot = tag.value.find(destination.address) if tag else -1
        column = tag.value_column + spot if tag and spot >= 0 else (tag.column if tag else 0)
        place = Place(f"_dmarc.{owner}", "TXT", 0, column, len(destination.address) if spot >= 0 else 0)
        host = destination.address.rpartition("@")[2]
        if destination.takes_mail is False:
            findings.append(
                Finding(
                    rule="feedback-reports-lost",
                    level=Level.RISK,
                    title=f"{host} accepts no mail, so reports to {destination.address} are lost",
                    place=place,
                    topic=destination.address,
                    evidence=(destination.address,),
                    reason="Without reports you cannot see who sends with this name.",
                    remedy="Use an address that accepts mail and is read by a program.",
                    reference="RFC 7489 §7.2.1",
                    scope="none",
                )
            )
        elif destination.agreed is False:
            findings.append(
                Finding(
                    rule="feedback-reports-not-agreed",
                    level=Level.RISK,
                    title=f"{host} has not agreed to receive reports of {owner}",
                    place=place,
                    topic=destination.address,
                    evidence=(f"{destination.asked} TXT is missing",),
                    reason="Reports are sent to another organisation only if it agrees in DNS.",
                    remedy=f"Ask {host} to publish this record at {destination.asked}.",
                    record="v=DMARC1",
                    reference="RFC 7489 §7.1",
                    scope="none",
                )
            )
    return findings


def _several(place: Place, texts: tuple[str, ...]) -> Finding:
    return Finding(
        rule="dmarc-several-records",
        level=Level.FAULT,
        title=f"{len(texts)} DMARC records at {place.name}",
        place=place,
        evidence=texts,
        reason="With more than one record, receivers act as if there were none.",
        remedy="Publish one record at this name and remove the others.",
        reference="RFC 7489 §6.6.3",
    )


def _examine_record(request: AuditRequest, owner: str, place: Place, record: DmarcRecord) -> list[Finding]:
    domain, parked = request.domain, request.sends is False
    findings = []
    topic = str(place.record) if place.record else ""
    if record.problems:
        first = record.problems[0]
        findings.append(
            Finding(
                rule="dmarc-syntax",
                level=Level.RISK if _harmless(record) else Level.FAULT,
                title=f"The DMARC record at {place.name} has an error: {first.what}",
                place=Place(place.name, "TXT", place.record, first.column, first.length),
                topic=topic,
                evidence=tuple(f"column {problem.column}: {problem.what}" for problem in record.problems),
                reason="Receivers ignore the invalid part, or the whole record: the policy may not be the "
                "intended one.",
                remedy=f"Correct the record at column {first.column}.",
                reference="RFC 7489 §6.3",
            )
        )
    inherited = owner != domain
    policy = (record.subdomain_policy or record.policy) if inherited else record.policy
    if policy == "none" or (parked and policy == "quarantine"):
        by = record.tags.get("sp") if inherited and record.subdomain_policy else record.tags.get("p")
        findings.append(
            Finding(
                rule="dmarc-only-watching",
                level=Level.RISK,
                title=f"DMARC for {domain} is p={policy}" + (f", by the record of {owner}" if inherited else ""),
                place=Place(place.name, "TXT", place.record, by.column, len(by.name) + 1 + len(by.value))
                if by
                else place,
                topic=topic,
                evidence=(f"{by.name}={by.value}" if by else record.text,),
                reason="Forged mail with this name is delivered normally."
                if policy == "none"
                else "Forged mail with this name still reaches the spam folder.",
                remedy="This domain never sends: publish p=reject."
                if parked
                else "When the reports show that all your mail aligns, move to p=quarantine, then to p=reject.",
                record="v=DMARC1; p=reject" if parked else None,
                reference="RFC 7489 §6.3",
            )
        )
    if not record.rua and not parked:
        findings.append(
            Finding(
                rule="dmarc-no-reports",
                level=Level.NOTE,
                title=f"No reports are requested at {place.name}",
                place=place,
                topic=topic,
                evidence=(record.text,),
                reason="Without aggregate reports you cannot see who sends with this name, or what a stricter "
                "policy would block.",
                remedy="Add rua=mailto: with an address that is read by a program.",
                reference="RFC 7489 §7.2",
            )
        )
    weak = record.subdomain_policy
    if not inherited and weak and record.policy and _strength(weak) < _strength(record.policy):
        sub = record.tags.get("sp")
        findings.append(
            Finding(
                rule="dmarc-subdomains-open",
                level=Level.RISK,
                title=f"The DMARC record of {domain} leaves its subdomains unprotected"
                if weak == "none"
                else f"The DMARC record of {domain} asks for less at its subdomains: sp={weak}, but p={record.policy}",
                place=Place(place.name, "TXT", place.record, sub.column, len(weak) + 3) if sub else place,
                topic=topic,
                evidence=(f"sp={weak}", f"p={record.policy}"),
                reason="Anybody can forge mail from a subdomain."
                if weak == "none"
                else "Forged mail from a subdomain is treated more mildly than that from the domain itself.",
                remedy=f"Remove sp={weak}, or set the same policy there.",
                reference="RFC 7489 §6.3",
                scope="subdomains",
            )
        )
    return findings + _weaker(domain, owner, place, record)


def _strength(policy: str) -> int:
    """Return how much a policy asks for, 0 for none."""
    return POLICIES.index(policy)


def _harmless(record: DmarcRecord) -> bool:
    """Return whether the policy is read all the same: by all receivers, or by all but strict readers of RFC 7489."""
    return all(problem.kind in (POLICY_NOT_SECOND, OPTIONS_IGNORED) for problem in record.problems)


def _weaker(domain: str, owner: str, place: Place, record: DmarcRecord) -> list[Finding]:
    """Report what makes the policy milder than it looks, and tags that do nothing."""
    findings = []
    topic = str(place.record) if place.record else ""

    def at(tag: str) -> Place:
        found = record.tags.get(tag)
        return Place(
            place.name,
            "TXT",
            place.record,
            found.column if found else 0,
            len(tag) + 1 + len(found.value) if found else 0,
        )

    if record.percent < 100 and record.policy in ("quarantine", "reject"):
        findings.append(
            Finding(
                rule="dmarc-partial",
                level=Level.RISK if record.percent < 50 else Level.NOTE,
                title=f"The DMARC policy at {place.name} applies to {record.percent} % of failing mail",
                place=at("pct"),
                topic=topic,
                evidence=(f"pct={record.percent}",),
                reason="The rest is delivered normally; receivers that follow DMARCbis ignore pct=.",
                remedy="Remove pct= once the reports show that all your mail aligns.",
                reference="RFC 7489 §6.3",
                scope="none",
            )
        )
    if record.testing and record.policy in ("quarantine", "reject"):
        findings.append(
            Finding(
                rule="dmarc-testing",
                level=Level.NOTE,
                title=f"The DMARC policy at {place.name} is in test mode (t=y)",
                place=at("t"),
                topic=topic,
                evidence=("t=y",),
                reason="Receivers that follow DMARCbis apply the next weaker policy, others the written one.",
                remedy="Remove t=y when the test is over.",
                reference="DMARCbis §4.7",
                scope="none",
            )
        )
    absent, below = record.absent_policy, record.subdomain_policy or record.policy
    if owner == domain and absent and below and _strength(absent) < _strength(below):
        findings.append(
            Finding(
                rule="dmarc-absent-open",
                level=Level.RISK,
                title=f"The DMARC record of {domain} leaves non-existent subdomains unprotected"
                if absent == "none"
                else f"The DMARC record of {domain} asks for less at non-existent subdomains: np={absent}",
                place=at("np"),
                topic=topic,
                evidence=(f"np={absent}", f"subdomains that exist: {below}"),
                reason="Anybody can forge mail from an invented subdomain."
                if absent == "none"
                else "Forged mail from an invented subdomain is treated more mildly than that from a real one.",
                remedy="Add np=reject: no genuine mail comes from a non-existent name.",
                reference="RFC 9091 §2.2",
                scope="subdomains",
            )
        )
    if record.suffix == "y" and not is_public_suffix(owner):
        findings.append(
            Finding(
                rule="dmarc-psd",
                level=Level.RISK,
                title=f"The DMARC record of {owner} says psd=y, but {owner} is not a public suffix",
                place=at("psd"),
                topic=topic,
                evidence=("psd=y",),
                reason="Receivers that walk the tree take each name below as an organisation of its own: mail of "
                "subdomains no longer aligns with this domain.",
                remedy="Remove psd=y. It is for registries, below whose names others register theirs.",
                reference="DMARCbis §4.7, RFC 9091 §4.1",
            )
        )
    small = [(address, limit) for address, limit in record.limits if limit < _SMALL_REPORT]
    if small:
        findings.append(
            Finding(
                rule="feedback-reports-limit",
                level=Level.RISK,
                title=f"{small[0][0]} takes reports up to {small[0][1]:,} bytes only",
                place=at("rua"),
                topic=topic,
                evidence=tuple(f"{address}: at most {limit:,} bytes" for address, limit in small),
                reason="Reports that are larger are not sent at all.",
                remedy="Remove the limit after the exclamation mark, or set one such as !10m.",
                reference="RFC 7489 §6.2",
                scope="none",
            )
        )
    if record.unknown:
        first = record.unknown[0]
        findings.append(
            Finding(
                rule="dmarc-unknown-tag",
                level=Level.NOTE,
                title=f"The DMARC record at {place.name} has a tag without effect: {first.what}",
                place=Place(place.name, "TXT", place.record, first.column, first.length),
                topic=topic,
                evidence=tuple(f"column {problem.column}: {problem.what}" for problem in record.unknown),
                reason="Receivers ignore it, so it has no effect.",
                remedy="Correct its name, or remove it. Put several addresses into one rua=, separated by commas.",
                reference="RFC 7489 §6.3",
                scope="none",
            )
        )
    return findings
