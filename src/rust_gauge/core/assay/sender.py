"""Checks of who sends: the names of the sending address, and blocklists for it and for every domain in the message.

They are those of the audit (`core.audit`), asked about this message; lists are those of the tenant (RFC 5782).
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date

from rust_gauge.core.assay.findings import Place, Sighting, Where
from rust_gauge.core.assay.headers import registered
from rust_gauge.core.assay.links import Link
from rust_gauge.core.audit import AuditRequest, Stream
from rust_gauge.core.audit.host_rules import examine_hosts
from rust_gauge.core.dns import DnsProgram, gather
from rust_gauge.core.message import Authentication
from rust_gauge.core.transport import DnsList, ListAnswer, ListState, ask_list

MOST_DOMAINS = 20  # that lists are asked about: their operators block who asks too much
_NEW_FOR = 21  # days
_LOW = 60.0  # a reading below this is corroded or worse
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


@dataclass(frozen=True, slots=True)
class SenderHistory:
    """What our own data says of a sender. `since` is the first day with mail that we know of, None for none at all.

    `readings` has the newest reading of the From domain (0 to 100) by mailbox provider.
    """

    domain: str
    domain_since: date | None
    ip: str = ""
    ip_since: date | None = None
    readings: Mapping[str, float] = field(default_factory=dict)


def _age(days: int) -> str:
    return f"{days} day" if days == 1 else f"{days} days"


def check_history(history: SenderHistory, today: date) -> Iterator[Sighting]:
    """Yield what speaks against a sender in our own data: it is new, or stands badly at a provider."""
    for what, since in ((history.domain, history.domain_since), (history.ip, history.ip_since)):
        if not what:
            continue
        place = Place(Where.SENDING, text=what)
        if since is None:
            yield Sighting("sender-unknown", place, {"sender": what})
        elif (today - since).days < _NEW_FOR:
            yield Sighting("sender-new", place, {"sender": what, "age": _age((today - since).days)})
    for provider, reading in sorted(history.readings.items(), key=lambda item: item[1]):
        if reading < _LOW:
            place = Place(Where.SENDING, text=f"{provider}: {reading:.1f}")
            yield Sighting("reading-low", place, {"domain": history.domain, "provider": provider,
                                                  "reading": f"{reading:.0f}"})  # fmt: skip


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
