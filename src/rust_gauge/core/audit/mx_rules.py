"""Whether a domain can receive mail: bounces, replies and complaints need an MX that works (RFC 5321 §5.1, RFC 7505)
and mailboxes at postmaster and abuse (RFC 2142).
"""

import ipaddress

import dns.name
from dns.rdtypes.ANY.CNAME import CNAME
from dns.rdtypes.ANY.MX import MX

from rust_gauge.core.audit.examination import CheckState, Examination, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.dns import DnsProgram, DnsQuestion, MailboxAnswer, MailboxQuestion, ask

_MAX_HOSTS = 20  # each costs an address and a TLSA look-up
_ROLES = ("postmaster", "abuse")


def mx_hosts(records: tuple[object, ...]) -> list[str]:
    """Return the hosts of MX records by preference, in lower case; a null MX gives none."""
    mxs = sorted((r for r in records if isinstance(r, MX)), key=lambda mx: (mx.preference, mx.exchange))
    return [mx.exchange.to_text(omit_final_dot=True).lower() for mx in mxs if mx.exchange != dns.name.root]


def examine_mx(request: AuditRequest) -> DnsProgram[Examination]:
    """Ask for the MX records of the domain and for the addresses of their hosts."""
    domain = request.domain
    out = Examination()
    answer = yield from ask(domain, "MX")
    if answer.failed:
        out.unanswered("mx", answer)
        out.point("mx", "MX", CheckState.UNMEASURED, why_unmeasured(answer))
        out.point("mailboxes", "postmaster and abuse", CheckState.UNMEASURED, "MX unknown")
        return out
    mxs = sorted((r for r in answer.records if isinstance(r, MX)), key=lambda mx: (mx.preference, mx.exchange))
    values = [f"{mx.preference} {mx.exchange.to_text(omit_final_dot=True)}" for mx in mxs]
    out.show("mx", answer, values)
    if not mxs:
        out.findings.append(_missing(domain, parked=request.sends is False))
        out.point("mx", "MX", CheckState.ABSENT, "No MX record")
        out.point("mailboxes", "postmaster and abuse", CheckState.ABSENT, "No host accepts mail for this name")
        return out
    null = [index for index, mx in enumerate(mxs) if mx.exchange == dns.name.root]
    if null and not (len(mxs) == 1 and request.sends is False):  # a parked name is right to have it
        out.findings.append(_null(domain, values, null[0], alone=len(mxs) == 1))
    hosts = mx_hosts(answer.records)[:_MAX_HOSTS]
    questions = tuple(DnsQuestion(host, kind) for host in hosts for kind in ("A", "AAAA", "CNAME"))
    answers = (yield questions) if questions else ()
    for index, host in enumerate(hosts):
        four, six, alias = answers[3 * index : 3 * index + 3]
        at = next(i for i, value in enumerate(values) if value.lower().endswith(" " + host))
        place = Place(domain, "MX", at, values[at].index(" ") + 2, len(host))
        if _is_address(host):
            out.findings.append(_is_ip(domain, host, place))
        elif any(isinstance(rdata, CNAME) for rdata in alias.records):
            out.findings.append(_alias(domain, host, alias.records[0].to_text(), place))
        elif four.void and six.void:
            out.findings.append(_dead(domain, host, place, all_dead=len(hosts) == 1))
    out.point("mx", "MX", CheckState.GOOD, ", ".join(values[:4]))
    if null:
        out.point("mailboxes", "postmaster and abuse", CheckState.ABSENT, "No host accepts mail for this name")
    elif request.ask_mailboxes and hosts:
        yield from _mailboxes(domain, hosts[0], out)
    else:
        what = "Not measured: mail hosts are not queried (setting ask_mailboxes)"
        out.point("mailboxes", "postmaster and abuse", CheckState.UNMEASURED, what)
    return out


def _mailboxes(domain: str, host: str, out: Examination) -> DnsProgram[None]:
    """postmaster is a duty of every domain with mail (RFC 5321 §4.5.1), abuse a good habit (RFC 2142 §2)."""
    title = "postmaster and abuse"
    answers: list[MailboxAnswer] = list((yield tuple(MailboxQuestion(host, f"{who}@{domain}") for who in _ROLES)))
    for role, answer in zip(_ROLES, answers, strict=True):
        if answer.status == "refused":
            out.findings.append(
                Finding(
                    rule=f"mailbox-no-{role}",
                    level=Level.RISK if role == "postmaster" else Level.NOTE,
                    title=f"{host} does not accept mail for {role}@{domain}",
                    place=Place(domain, "MX"),
                    topic=role,
                    evidence=(answer.reply,),
                    reason="Receiving operators cannot report problems with your mail to you; some reject "
                    "domains without it."
                    if role == "postmaster"
                    else "Complaints go to your provider instead of you.",
                    remedy=f"Set up {role}@{domain}, and make sure that somebody reads it.",
                    reference="RFC 5321 §4.5.1" if role == "postmaster" else "RFC 2142 §2",
                    scope="none",
                )
            )
    known = [answer for answer in answers if not answer.failed]
    if not known:
        said = answers[0].detail or answers[0].reply
        out.point("mailboxes", title, CheckState.UNMEASURED, f"No usable answer: {said}")
        return
    taken = [role for role, answer in zip(_ROLES, answers, strict=True) if answer.status == "taken"]
    tls = "TLS offered" if known[0].tls else "no TLS offered"
    out.point("mailboxes", title, CheckState.GOOD, f"{' and '.join(taken) or 'neither'} accepted by {host}; {tls}")


def _is_address(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _missing(domain: str, *, parked: bool) -> Finding:
    if parked:
        return Finding(
            rule="mx-missing",
            level=Level.NOTE,
            title=f"{domain} never sends, but does not say that it accepts no mail",
            place=Place(domain, "MX"),
            reason="Without an MX record senders try the address of the name itself, for days if it does not answer.",
            remedy="Publish a null MX: priority 0 and a dot as the host.",
            record="0 .",
            reference="RFC 7505 §3",
            scope="none",
        )
    return Finding(
        rule="mx-missing",
        level=Level.NOTE,
        title=f"No MX record on {domain}",
        place=Place(domain, "MX"),
        reason="Replies and bounces to this name may be lost, and some receivers reject senders whose domain "
        "accepts no mail.",
        remedy="Publish an MX that accepts at least bounces and mail to postmaster.",
        reference="RFC 5321 §5.1",
    )


def _null(domain: str, values: list[str], index: int, *, alone: bool) -> Finding:
    return Finding(
        rule="mx-null" if alone else "mx-null-beside-others",
        level=Level.RISK if alone else Level.FAULT,
        title=f"{domain} states that it accepts no mail" + ("" if alone else ", and names hosts that do"),
        place=Place(domain, "MX", index),
        evidence=tuple(values),
        reason="With a null MX, bounces and replies cannot be delivered, and receivers may reject the sender."
        if alone
        else "A null MX must be the only MX record; otherwise the behaviour is undefined.",
        remedy="If this name sends, publish an MX that accepts bounces and replies."
        if alone
        else "Remove the null MX, or all the others.",
        reference="RFC 7505 §4.2" if alone else "RFC 7505 §3",
    )


def _is_ip(domain: str, host: str, place: Place) -> Finding:
    return Finding(
        rule="mx-address",
        level=Level.FAULT,
        title=f"The MX of {domain} is an address, {host}, not a name",
        place=place,
        topic=host,
        evidence=(host,),
        reason="An MX must contain a host name; senders look the address up as a name and find nothing.",
        remedy=f"Give {host} a name with an A record, and use that name in the MX.",
        reference="RFC 5321 §5.1",
    )


def _alias(domain: str, host: str, target: str, place: Place) -> Finding:
    return Finding(
        rule="mx-alias",
        level=Level.FAULT,
        title=f"The MX of {domain}, {host}, is an alias",
        place=place,
        topic=host,
        evidence=(f"{host} CNAME {target}",),
        reason="An MX must not point to a CNAME; some senders do not follow it.",
        remedy="Use the target of the alias in the MX.",
        record=target.removesuffix("."),
        reference="RFC 2181 §10.3",
    )


def _dead(domain: str, host: str, place: Place, *, all_dead: bool) -> Finding:
    return Finding(
        rule="mx-dead",
        level=Level.FAULT if all_dead else Level.RISK,
        title=f"The MX of {domain}, {host}, has no address",
        place=place,
        topic=host,
        evidence=(f"{host} has neither A nor AAAA",),
        reason="Mail to this name cannot be delivered to it"
        + ("." if all_dead else "; senders lose time before they try the next."),
        remedy="Restore the address of the host, or remove it from the MX records.",
        reference="RFC 5321 §5.1",
    )
