"""Checks of who sends: the names of the sending address, and blocklists for it and for every domain in the message.

They are those of the audit (`core.audit`), asked about this message; lists are those of the tenant (RFC 5782).
"""

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.headers import registered
from rust_gauge.core.assay.links import Link
from rust_gauge.core.audit import AuditRequest, Stream
from rust_gauge.core.audit.host_rules import examine_hosts
from rust_gauge.core.dns import DnsProgram, gather
from rust_gauge.core.message import Authentication
from rust_gauge.core.transport import DnsList, ListAnswer, ListState, ask_list

MOST_DOMAINS = 20  # that lists are asked about: their operators block who asks too much
_UNKNOWN = "ptr-no-answer"


def check_sender(
    ip: str, helo: str, found: Authentication, links: tuple[Link, ...], lists: tuple[DnsList, ...]
) -> DnsProgram[tuple[list[Sighting], list[str]]]:
    """Return what is wrong with the sender, and what could not be looked at. `ip` is empty where it is not known."""
    sightings: list[Sighting] = []
    not_checked: list[str] = []
    if ip:
        request = AuditRequest(found.header_from or "invalid", streams=(Stream("", "", helo=helo, ips=(ip,)),))
        hosts = yield from examine_hosts(request)
        for finding in hosts.findings:
            if finding.rule == _UNKNOWN:
                not_checked.append(f"{finding.title}")
                continue
            place = Place(Where.SENDING, text=", ".join(finding.evidence)[:200])
            values = {"title": finding.title, "reason": finding.reason, "remedy": finding.remedy}
            sightings.append(Sighting(finding.rule, place, values))
    asked = [(each, subject) for each in lists for subject in _subjects(each, ip, found, links)]
    answers = yield from gather([ask_list(dns_list, subject) for dns_list, subject in asked])
    sightings += [_listed(answer) for answer in answers if answer.state is ListState.LISTED]
    unheard = {a.list.name: a.detail for a in answers if a.state not in (ListState.LISTED, ListState.NOT_LISTED)}
    not_checked += [f"The blocklist {name} gave no usable answer: {detail}" for name, detail in unheard.items()]
    if not lists:
        not_checked.append("Blocklists: none are configured")
    return sightings, not_checked


def domains_of(found: Authentication, links: tuple[Link, ...]) -> tuple[str, ...]:
    """Return the registered domains that a message names: its sender's, its signers', and those of its links."""
    names = [found.header_from, *(verdict.signature.domain for verdict in found.signatures)]
    if found.spf is not None:
        names.append(found.spf.mail_from_domain)
    names += [link.host for link in links if link.host and not link.host.replace(".", "").isdigit()]
    return tuple(dict.fromkeys(registered(name.lower()) for name in names if "." in name))[:MOST_DOMAINS]


def _subjects(dns_list: DnsList, ip: str, found: Authentication, links: tuple[Link, ...]) -> tuple[str, ...]:
    if dns_list.kind == "domain":
        return domains_of(found, links)
    return (ip,) if ip else ()


def _listed(answer: ListAnswer) -> Sighting:
    said = answer.text or ", ".join(f"{code} {meaning}".strip() for code, meaning in answer.codes)
    place = Place(Where.SENDING, text=f"{answer.subject}: {said}"[:200])
    rule = "domain-listed" if answer.list.kind == "domain" else "address-listed"
    return Sighting(rule, place, {"subject": answer.subject, "list": answer.list.name})
