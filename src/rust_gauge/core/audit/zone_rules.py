"""The zone that the domain is in: DNSSEC (RFC 4033 to 4035), its name servers, and how long its records are kept."""

import dns.dnssec
import dns.exception
import dns.name
from dns.rdtypes.ANY.DNSKEY import DNSKEY
from dns.rdtypes.ANY.DS import DS
from dns.rdtypes.ANY.NS import NS
from dns.rdtypes.ANY.SOA import SOA

from rust_gauge.core.audit.examination import CheckState, Examination, PublishedRecord, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, ask
from rust_gauge.core.names import registered_domain

_LONGEST, _SHORTEST = 86_400, 60  # seconds
_MAX_SERVERS = 16  # the root zone has 13; a longer NS set is a mistake


def examine_zone(request: AuditRequest) -> DnsProgram[Examination]:
    """DNSSEC and the name servers."""
    out = Examination()
    zone, soa = yield from find_zone(request.domain)
    if zone is None or soa is None:
        what = why_unmeasured(soa) if soa is not None else "Zone not found"
        yield from _bogus(request.domain, out)
        out.point("dnssec", "DNSSEC", CheckState.UNMEASURED, what)
        out.point("dns", "Name servers", CheckState.UNMEASURED, what)
        return out
    text = yield from ask(request.domain, "TXT")
    if text.status is AnswerStatus.SERVFAIL:
        yield from _bogus(request.domain, out)
    yield from _dnssec(zone, soa, out)
    yield from _servers(request, zone, out)
    return out


def find_zone(domain: str) -> DnsProgram[tuple[str | None, DnsAnswer | None]]:
    """Return the zone that a domain is in: the closest name above it with a SOA record."""
    top = registered_domain(domain)
    name, answer = domain, None
    while True:
        answer = yield from ask(name, "SOA")
        if any(isinstance(rdata, SOA) for rdata in answer.records) and not answer.aliases:
            return name, answer
        if answer.failed or name == top or "." not in name:
            return None, answer
        name = name.partition(".")[2]


def _bogus(domain: str, out: Examination) -> DnsProgram[None]:
    """Report an answer that only comes when validation is off: its signatures do not hold."""
    checked, unchecked = yield DnsQuestion(domain, "TXT"), DnsQuestion(domain, "TXT", unchecked=True)
    if checked.status is AnswerStatus.SERVFAIL and not unchecked.failed:
        out.findings.append(
            Finding(
                rule="dnssec-bogus",
                level=Level.FAULT,
                title=f"DNSSEC validation of {domain} fails",
                place=Place(domain, "DS"),
                evidence=(f"{checked.question}: {checked.detail or checked.status}", f"{unchecked.question}: answered"),
                reason="Validating receivers get no records: SPF, DKIM and DMARC end in temperror, and mail to "
                "this name is deferred.",
                remedy="Sign the zone again, or remove the DS record from the parent zone until it is fixed.",
                reference="RFC 4035 §5",
            )
        )


def _dnssec(zone: str, soa: DnsAnswer, out: Examination) -> DnsProgram[None]:
    ds, keys = yield DnsQuestion(zone, "DS"), DnsQuestion(zone, "DNSKEY")
    digests = [rdata for rdata in ds.records if isinstance(rdata, DS)]
    signers = [rdata for rdata in keys.records if isinstance(rdata, DNSKEY)]
    place = Place(zone, "DS")
    if ds.failed:  # off line the zone above is not held
        state = "signed" if signers else "not signed"
        out.point("dnssec", "DNSSEC", CheckState.UNMEASURED, f"The zone is {state}; {why_unmeasured(ds).lower()}")
        return
    if digests:
        out.records.append(PublishedRecord("dnssec", zone, "DS", str(ds.status),
                                           tuple(rdata.to_text() for rdata in digests), ds.ttl))  # fmt: skip
    if not digests:
        if signers:
            out.findings.append(
                Finding(
                    rule="dnssec-no-ds",
                    level=Level.NOTE,
                    title=f"{zone} is signed, but the parent zone has no DS record",
                    place=place,
                    evidence=(f"{len(signers)} DNSKEY records, no DS record",),
                    reason="Without the DS record nobody validates, so the signatures have no effect.",
                    remedy="Submit the DS record to the registrar.",
                    record=_ds_text(zone, signers),
                    reference="RFC 4035 §5",
                    scope="none",
                )
            )
        what = "Signed, without a DS record" if signers else "Not signed"
        out.point("dnssec", "DNSSEC", CheckState.ABSENT, what)
        return
    if not keys.failed and not any(_matches(zone, digest, signers) for digest in digests):
        out.findings.append(
            Finding(
                rule="dnssec-broken",
                level=Level.FAULT,
                title=f"No key of {zone} matches its DS record",
                place=place,
                evidence=tuple(rdata.to_text() for rdata in digests),
                reason="Validating receivers get no records: SPF, DKIM and DMARC end in temperror.",
                remedy="Submit the DS record of the current signing key to the registrar, and remove the old one.",
                record=_ds_text(zone, signers),
                reference="RFC 4035 §5",
            )
        )
    elif soa.status is AnswerStatus.SERVFAIL or keys.status is AnswerStatus.SERVFAIL:
        yield from _bogus(zone, out)
    what = "Signed, and the resolver validated it" if soa.authenticated else "Signed; this resolver does not validate"
    out.point("dnssec", "DNSSEC", CheckState.GOOD if soa.authenticated else CheckState.UNMEASURED, what)


def _matches(zone: str, digest: DS, keys: list[DNSKEY]) -> bool:
    for key in keys:
        try:
            made = dns.dnssec.make_ds(dns.name.from_text(zone), key, digest.digest_type)
        except (dns.exception.DNSException, ValueError):
            continue
        if (made.key_tag, made.algorithm, made.digest) == (digest.key_tag, digest.algorithm, digest.digest):
            return True
    return False


def _ds_text(zone: str, keys: list[DNSKEY]) -> str | None:
    secure_entry = [key for key in keys if key.flags & 1]
    try:
        return (
            dns.dnssec.make_ds(dns.name.from_text(zone), secure_entry[0], "SHA256").to_text() if secure_entry else None
        )
    except (dns.exception.DNSException, ValueError):
        return None


def _servers(request: AuditRequest, zone: str, out: Examination) -> DnsProgram[None]:
    title = "Name servers"
    answer = yield from ask(zone, "NS")
    names = sorted(
        rdata.target.to_text(omit_final_dot=True).lower() for rdata in answer.records if isinstance(rdata, NS)
    )
    if answer.failed or not names:
        out.point("dns", title, CheckState.UNMEASURED, why_unmeasured(answer) if answer.failed else "No NS records")
        return
    if len(names) == 1:
        out.findings.append(
            Finding(
                rule="dns-one-server",
                level=Level.NOTE,
                title=f"{zone} has a single name server",
                place=Place(zone, "NS"),
                evidence=tuple(names),
                reason="If it fails, nobody can authenticate this domain's mail.",
                remedy="Add a second name server in another network.",
                reference="RFC 2182 §5",
                scope="none",
            )
        )
    asked, summary = 0, f"{len(names)} name servers"
    if request.ask_servers:
        asked = yield from _ask_each(request.domain, zone, names[:_MAX_SERVERS], out)
        summary += f", {asked} of them queried" if asked else ", none of them could be queried from here"
    out.point("dns", title, CheckState.GOOD if asked else CheckState.UNMEASURED, summary)


def _ask_each(domain: str, zone: str, names: list[str], out: Examination) -> DnsProgram[int]:
    """Ask every server of the zone itself: is it in charge, and do all say the same?"""
    found = yield tuple(DnsQuestion(name, kind) for name in names for kind in ("A", "AAAA"))
    addresses: list[tuple[str, str]] = []
    for index, name in enumerate(names):
        records = [rdata for answer in found[2 * index : 2 * index + 2] for rdata in answer.records]
        addresses += [(name, str(getattr(rdata, "address", ""))) for rdata in records][:2]
        if not records and all(answer.void for answer in found[2 * index : 2 * index + 2]):
            out.findings.append(_lame(zone, name, f"{name} has no address"))
    if not addresses:
        return 0
    kinds = ((zone, "SOA"), (domain, "TXT"), (f"_dmarc.{domain}", "TXT"))
    answers = yield tuple(DnsQuestion(at, kind, server=ip) for _, ip in addresses for at, kind in kinds)
    summary: dict[str, set[tuple[str, ...]]] = {}
    serials: dict[str, int] = {}
    asked = 0
    lame: set[str] = set()
    ttls: dict[tuple[str, str], int] = {}
    for index, (name, ip) in enumerate(addresses):
        soa, *texts = answers[3 * index : 3 * index + 3]
        if soa.status is AnswerStatus.NOT_HELD:  # it may not be asked from here
            continue
        asked += 1
        serial = next((rdata.serial for rdata in soa.records if isinstance(rdata, SOA)), None)
        if soa.failed or serial is None or not soa.authoritative:
            if name not in lame:
                why = soa.detail or ("it is not authoritative for the zone" if not soa.failed else str(soa.status))
                out.findings.append(_lame(zone, name, f"{name} ({ip}): {why}"))
            lame.add(name)
            continue
        serials[f"{name} ({ip})"] = serial
        for text in texts:
            if not text.failed:
                values = tuple(sorted(txt.text for txt in text.texts))
                summary.setdefault(str(text.question.name), set()).add(values)
                if text.ttl is not None and text.records:
                    ttls[text.question.name, text.question.rdtype] = text.ttl
    differing = [name for name, values in summary.items() if len(values) > 1]
    if differing or len(set(serials.values())) > 1:
        out.findings.append(_disagree(zone, serials, differing))
    for (name, kind), ttl in ttls.items():
        if ttl > _LONGEST or ttl < _SHORTEST:
            out.findings.append(_ttl(name, kind, ttl))
    return asked


def _lame(zone: str, server: str, why: str) -> Finding:
    return Finding(
        rule="dns-lame-server",
        level=Level.RISK,
        title=f"{server} is listed as a name server of {zone} but does not answer for it",
        place=Place(zone, "NS"),
        topic=server,
        evidence=(why,),
        reason="Receivers that query it lose time or get no record: mail is deferred, or fails occasionally.",
        remedy="Set the zone up on it, or remove it from the NS records here and at the registrar.",
        reference="RFC 1912 §2.8",
    )


def _disagree(zone: str, serials: dict[str, int], differing: list[str]) -> Finding:
    return Finding(
        rule="dns-servers-differ",
        level=Level.FAULT if differing else Level.NOTE,
        title=f"The name servers of {zone} differ"
        + (f" about {differing[0]}" if differing else ": their serial numbers differ"),
        place=Place(zone, "SOA"),
        evidence=tuple(f"{server}: serial {serial}" for server, serial in serials.items()) + tuple(differing),
        reason="Which record a receiver sees is random: the same mail may pass or fail."
        if differing
        else "A zone transfer is pending, or a server no longer gets the zone.",
        remedy="Wait for the zone transfer; if it does not happen, fix it on the server with the older serial number.",
        reference="RFC 1034 §4.3.5",
    )


def _ttl(name: str, kind: str, ttl: int) -> Finding:
    long = ttl > _LONGEST
    return Finding(
        rule="dns-ttl-long" if long else "dns-ttl-short",
        level=Level.NOTE,
        title=f"{name} {kind} has a TTL of {ttl} s",
        place=Place(name, kind),
        evidence=(f"TTL {ttl}",),
        reason="An error, and its correction, stay in caches for that long."
        if long
        else "Nearly every check has to query again; if the name servers are slow, checks fail.",
        remedy="Use one hour; less only on the day of a change.",
        record=None,
        reference="RFC 1912 §2.2",
        scope="none",
    )
