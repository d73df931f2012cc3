"""What can be wrong with a domain's DMARC policy (RFC 7489), its own or the one it inherits."""

from rust_gauge.core.audit.examination import Examination
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.dmarc import DmarcRecord, is_dmarc1, read_policy
from rust_gauge.core.dns import DnsAnswer, DnsProgram, ask
from rust_gauge.core.names import registered_domain


def examine_dmarc(domain: str) -> DnsProgram[Examination]:
    """Ask for the policy of `domain`, then of its organisational domain (§6.6.3)."""
    out = Examination()
    owner = domain
    answer = yield from ask(f"_dmarc.{domain}", "TXT")
    organisation = registered_domain(domain)
    if not answer.failed and not _records(answer) and organisation != domain:
        own, owner = answer, organisation
        answer = yield from ask(f"_dmarc.{organisation}", "TXT")
        if not _records(answer):
            out.show("dmarc", own, [])
    if answer.failed:
        out.unanswered("dmarc", answer)
        return out
    texts = _records(answer)
    out.show("dmarc", answer, texts)
    place = Place(answer.question.name, "TXT")
    if not texts:
        out.findings.append(_missing(domain, Place(f"_dmarc.{domain}", "TXT"), answer))
    elif len(texts) > 1:
        out.findings.append(_several(place, texts))
    for index, text in enumerate(texts):
        out.findings += _examine_record(domain, owner, Place(place.name, "TXT", index), read_policy(text))
    return out


def _records(answer: DnsAnswer) -> list[str]:
    return [txt.text for txt in answer.texts if is_dmarc1(txt.text)]


def _missing(domain: str, place: Place, answer: DnsAnswer) -> Finding:
    near = tuple(txt.text for txt in answer.texts if "dmarc" in txt.text.lower())
    return Finding(
        rule="dmarc-missing",
        level=Level.RISK,
        title=f"No DMARC record for {domain}",
        place=place,
        evidence=near,
        reason="Nobody is told what to do with mail that only claims to come from here, no reports come back, "
        "and large mailbox providers expect a record from those who send in bulk.",
        remedy="Publish a record that only watches, read the reports, then tighten it.",
        record=f"v=DMARC1; p=none; rua=mailto:dmarc-reports@{registered_domain(domain)}",
        reference="RFC 7489 §6.3",
    )


def _several(place: Place, texts: list[str]) -> Finding:
    return Finding(
        rule="dmarc-several-records",
        level=Level.FAULT,
        title=f"{len(texts)} DMARC records at {place.name}",
        place=place,
        evidence=tuple(texts),
        reason="With more than one record receivers act as if there were none.",
        remedy="Leave one record at this name.",
        reference="RFC 7489 §6.6.3",
    )


def _examine_record(domain: str, owner: str, place: Place, record: DmarcRecord) -> list[Finding]:
    findings = []
    topic = str(place.record) if place.record else ""
    if record.problems:
        first = record.problems[0]
        findings.append(
            Finding(
                rule="dmarc-syntax",
                level=Level.FAULT,
                title=f"The DMARC record at {place.name} has a mistake: {first.what}",
                place=Place(place.name, "TXT", place.record, first.column, first.length),
                topic=topic,
                evidence=tuple(f"column {problem.column}: {problem.what}" for problem in record.problems),
                reason="Receivers skip what they cannot read, or all of it: the policy may not be the one meant.",
                remedy=f"Correct the record at column {first.column}.",
                reference="RFC 7489 §6.3",
            )
        )
    inherited = owner != domain
    policy = (record.subdomain_policy or record.policy) if inherited else record.policy
    if policy == "none":
        by = record.tags.get("sp") if inherited and record.subdomain_policy else record.tags.get("p")
        findings.append(
            Finding(
                rule="dmarc-only-watching",
                level=Level.RISK,
                title=f"DMARC for {domain} only watches" + (f", by the record of {owner}" if inherited else ""),
                place=Place(place.name, "TXT", place.record, by.column, len(by.name) + 1 + len(by.value))
                if by
                else place,
                topic=topic,
                evidence=(f"{by.name}={by.value}" if by else record.text,),
                reason="Forged mail in this name is delivered as if nothing were wrong.",
                remedy="When the reports show that all of your mail aligns, go to p=quarantine, then to p=reject.",
                reference="RFC 7489 §6.3",
            )
        )
    if not record.rua:
        findings.append(
            Finding(
                rule="dmarc-no-reports",
                level=Level.NOTE,
                title=f"No reports are asked for at {place.name}",
                place=place,
                topic=topic,
                evidence=(record.text,),
                reason="Without aggregate reports nobody sees who sends in this name, or what a stricter policy "
                "would stop.",
                remedy="Add rua=mailto: with an address that is read by a program.",
                reference="RFC 7489 §7.2",
            )
        )
    if not inherited and record.subdomain_policy == "none" and record.policy in ("quarantine", "reject"):
        sub = record.tags.get("sp")
        findings.append(
            Finding(
                rule="dmarc-subdomains-open",
                level=Level.RISK,
                title=f"The DMARC record of {domain} leaves its subdomains open",
                place=Place(place.name, "TXT", place.record, sub.column, 7) if sub else place,
                topic=topic,
                evidence=("sp=none",),
                reason="A forger only has to put any word in front of the name.",
                remedy="Remove sp=none, or name the same policy there.",
                reference="RFC 7489 §6.3",
            )
        )
    return findings
