"""The names of sending addresses: PTR that leads back to the address (RFC 1912 §2.1), and a HELO name that is real
(RFC 5321 §4.1.4)."""

import ipaddress
from dataclasses import replace

from dns.rdtypes.ANY.PTR import PTR
from dns.rdtypes.IN.A import A
from dns.rdtypes.IN.AAAA import AAAA

from rust_gauge.core.audit.examination import CheckState, Examination, HostSeen
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest, Stream
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, ask, gather

_MAX_IPS = 64  # each costs a PTR look-up and one for every name behind it
_MAX_NAMES = 10  # RFC 7208 §4.6.4 stops at ten PTR names as well


def examine_hosts(request: AuditRequest) -> DnsProgram[Examination]:
    """Look at each sending address that is known."""
    out = Examination()
    ips = [ip for ip in request.all_ips() if _valid(ip)][:_MAX_IPS]
    helos = {ip: replace(s, helo=s.helo_of(ip)) for s in request.streams for ip in s.ips if s.helo_of(ip)}
    parts: list[Examination] = yield from gather([_examine_ip(ip, helos.get(ip)) for ip in ips])
    for part in parts:
        out.findings += part.findings
        out.hosts += part.hosts
    if not ips:
        what = "No sending IPs known" if not request.all_ips() else "No sending IP could be determined"
        out.point("hosts", "PTR and HELO", CheckState.UNMEASURED, what)
    elif not out.hosts:
        out.point("hosts", "PTR and HELO", CheckState.UNMEASURED, "No answer for any sending IP")
    else:
        good = sum(1 for host in out.hosts if host.confirmed)
        what = f"{good} of {len(out.hosts)} IPs have forward-confirmed reverse DNS"
        out.point("hosts", "PTR and HELO", CheckState.GOOD, what)
    return out


def _valid(ip: str) -> bool:
    try:
        ipaddress.ip_address(ip)
    except ValueError:
        return False
    return True


def _examine_ip(ip: str, stream: Stream | None) -> DnsProgram[Examination]:
    out = Examination()
    helo = stream.helo if stream else ""
    address = ipaddress.ip_address(ip)
    answer = yield from ask(address.reverse_pointer, "PTR")
    if answer.failed:
        if answer.status is not AnswerStatus.NOT_HELD:
            out.findings.append(_unanswered(ip, answer))
        return out
    names = [r.target.to_text(omit_final_dot=True).lower() for r in answer.records if isinstance(r, PTR)][:_MAX_NAMES]
    rdtype = "A" if address.version == 4 else "AAAA"
    forward = (yield tuple(DnsQuestion(name, rdtype) for name in names)) if names else ()
    confirmed = [name for name, answer in zip(names, forward, strict=True) if _holds(answer, address)]
    out.hosts.append(HostSeen(ip, tuple(names), tuple(confirmed), helo))
    place = Place(answer.question.name, "PTR")
    unknown = any(answer.failed for answer in forward)
    if not names:
        out.findings.append(_missing(ip, place))
    elif not confirmed and not unknown:
        out.findings.append(_mismatch(ip, names, rdtype, place))
    if confirmed and _generic(confirmed[0], ip):
        out.findings.append(_looks_generic(ip, confirmed[0], place))
    if stream is not None:
        out.findings += yield from _examine_helo(ip, stream, rdtype, names)
    return out


def _holds(answer: DnsAnswer, address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> bool:
    return any(isinstance(r, (A, AAAA)) and ipaddress.ip_address(r.address) == address for r in answer.records)


def _generic(name: str, ip: str) -> bool:
    """Return whether a name is made from the address, as access networks give to their customers."""
    parts = ip.split(".") if "." in ip else []
    return len(parts) == 4 and all(part in name.replace("-", ".").replace("_", ".").split(".") for part in set(parts))


def _examine_helo(ip: str, stream: Stream, rdtype: str, names: list[str]) -> DnsProgram[list[Finding]]:
    """Check that HELO is one of the stream's hosts; with several of them it is not known which greets how."""
    helo = stream.helo
    answer = yield from ask(helo, rdtype)
    if answer.failed or any(_holds(answer, ipaddress.ip_address(text)) for text in stream.ips if _valid(text)):
        return []
    dead = answer.void
    return [
        Finding(
            rule="helo-dead" if dead else "helo-elsewhere",
            level=Level.FAULT if dead else Level.RISK,
            title=f"{ip} uses the HELO name {helo}, which {'has no address' if dead else 'is another address'}",
            place=Place(helo, rdtype),
            topic=ip,
            evidence=tuple(rdata.to_text() for rdata in answer.records[:5]) or (f"{helo} {rdtype}: nothing",),
            reason="Many receivers reject a HELO name that does not exist."
            if dead
            else "The HELO name does not belong to the host; some receivers count that against the sender.",
            remedy=f"Set the HELO name of the server to {names[0]}, or give {helo} the address {ip}."
            if names
            else f"Give {helo} the address {ip}.",
            reference="RFC 5321 §4.1.4",
        )
    ]


def _unanswered(ip: str, answer: DnsAnswer) -> Finding:
    return Finding(
        rule="ptr-no-answer",
        level=Level.RISK,
        title=f"No usable answer for the reverse DNS of {ip}",
        place=Place(answer.question.name, "PTR"),
        evidence=(answer.detail or str(answer.status),),
        reason="Receivers without an answer defer the mail.",
        remedy="Tell the operator of the reverse zone of this IP.",
        reference="RFC 1912 §2.1",
    )


def _missing(ip: str, place: Place) -> Finding:
    return Finding(
        rule="ptr-missing",
        level=Level.FAULT,
        title=f"{ip} has no reverse DNS (PTR)",
        place=place,
        evidence=(f"{place.name} PTR: nothing",),
        reason="Large mailbox providers reject or delay mail from an IP without reverse DNS.",
        remedy="Ask the provider of the IP to set its PTR to the full name of the host.",
        reference="RFC 1912 §2.1",
    )


def _mismatch(ip: str, names: list[str], rdtype: str, place: Place) -> Finding:
    return Finding(
        rule="ptr-not-confirmed",
        level=Level.FAULT,
        title=f"The reverse DNS of {ip}, {names[0]}, does not resolve to it",
        place=place,
        evidence=tuple(names),
        reason="Reverse DNS counts only if the name resolves to the same IP.",
        remedy=f"Publish {names[0]} {rdtype} {ip}, or change the PTR to a name with this address.",
        record=ip,
        reference="RFC 1912 §2.1",
    )


def _looks_generic(ip: str, name: str, place: Place) -> Finding:
    return Finding(
        rule="ptr-generic",
        level=Level.RISK,
        title=f"The reverse DNS of {ip}, {name}, looks generic",
        place=place,
        evidence=(name,),
        reason="Receivers treat a name made from the IP as a consumer connection and distrust it.",
        remedy="Set a name of its own for the host, such as mx1 in your domain, in both directions.",
        reference="RFC 1912 §2.1",
    )
