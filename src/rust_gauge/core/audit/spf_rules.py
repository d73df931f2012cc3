"""What can be wrong with a domain's SPF record (RFC 7208), and the record that would be right."""

import re
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from rust_gauge.core.audit.examination import CheckState, Examination, why_unmeasured
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest, Stream
from rust_gauge.core.audit.spf_corrections import offer_spf
from rust_gauge.core.dns import DnsAnswer, DnsProgram, TxtRecord, ask
from rust_gauge.core.spf import (
    LOOKUP_LIMIT,
    VOID_LIMIT,
    Authorised,
    Directive,
    LookupTree,
    Modifier,
    Qualifier,
    SpfOutcome,
    SpfRecord,
    SpfResult,
    authorised,
    check_host,
    is_spf1,
    is_wide,
    network_kind,
    parse_spf,
    repaired,
    repeated,
    walk_lookups,
)
from rust_gauge.core.spf.authorised import WIDE4, WIDE6

# Addresses all over the Internet that no record is likely to list, one in each quarter at least.
_STRANGERS4 = ("25.61.7.9", "57.88.3.2", "100.30.60.90", "139.7.200.13", "171.9.4.33", "203.99.1.7", "219.33.44.55")
_STRANGERS6 = ("2a0f:ffc1:5e1f::9", "2409:7fd3:ab::71")
_CLOSE = 8  # look-ups from which one more relay is likely to be one too many
_UDP_PLAIN, _UDP_EDNS = 512, 1232  # octets of an answer that pass without EDNS, and with it on every path
_PARKED = "v=spf1 -all"
_TERM = re.compile(r"[+\-~?]?(?:include:|redirect=|exists:|ip4:|ip6:|a[:/ ]|mx[:/ ]|ptr|all\b)", re.IGNORECASE)
_DOCUMENTED = ("example", "test", "invalid", "localhost")  # names of RFC 2606, where documentation addresses belong


def examine_spf(request: AuditRequest) -> DnsProgram[Examination]:
    """Ask for the SPF record of the domain, follow it, and look at the names that its streams use."""
    domain = request.domain
    out = Examination()
    answer = yield from ask(domain, "TXT")
    if answer.failed:
        out.unanswered("spf", answer)
        out.point("spf", "SPF", CheckState.UNMEASURED, why_unmeasured(answer))
        return out
    # In one order always: servers turn records round from answer to answer, and findings must not change with that.
    published = sorted((txt for txt in answer.texts if is_spf1(txt.text)), key=lambda txt: txt.text)
    texts = [txt.text for txt in published]
    out.show("spf", answer, texts)
    old = yield from ask(domain, "SPF")
    if old.records:
        out.findings.append(_type_99(domain, old, bool(texts)))
    records = [parse_spf(text) for text in texts]
    whole = Place(domain, "TXT")
    if not records:
        near = [txt.text for txt in answer.texts if re.match(r"\W*v?\W*=?\W*spf", txt.text[:20], re.IGNORECASE)]
        out.records.clear()
        out.show("spf", answer, near)
        out.findings.append(_missing(whole, near, request.sends, listing(_own_ips(request))))
        out.point("spf", "SPF", CheckState.FAULT, "No SPF record is published")
        return out
    out.findings += yield from _examine_records(domain, answer, published, out)
    if len(records) == 1 and request.sends is False and not (yield from _closed(domain, out)):
        out.findings.append(_open_though_parked(domain))
    if request.sends is False:  # there is one record that is right for it
        out.findings = [replace(f, record=_PARKED) if f.record is not None else f for f in out.findings]
    out.point("spf", "SPF", CheckState.GOOD, _summary(out.spf_tree, out.authorised, len(records)))
    return out


def _own_ips(request: AuditRequest) -> list[str]:
    """Return the addresses that send with the domain itself as their envelope domain, as far as they are known."""
    used = [ip for stream in request.streams if stream.envelope in ("", request.domain) for ip in stream.ips]
    return [*used, *(request.ips if not request.streams else ())]


def _examine_records(
    domain: str,
    answer: DnsAnswer,
    published: Sequence[TxtRecord],
    out: Examination | None = None,
    *,
    trying: bool = False,
) -> DnsProgram[list[Finding]]:
    """Examine the SPF records of a name: each by itself, and the only one as receivers evaluate it."""
    records = [parse_spf(txt.text) for txt in published]
    findings = [_several(Place(domain, "TXT"), records)] if len(records) > 1 else []
    for index, record in enumerate(records):
        findings += _split(domain, index, published[index])
        findings += _syntax(domain, index, record)
        findings += _policy(domain, index, record)
        findings += _networks(domain, index, record)
    findings += _size(domain, answer, records)
    tree: LookupTree | None = None
    if len(records) == 1:
        tree = yield from walk_lookups(domain, records[0])
        if out is not None:
            out.spf_tree, out.authorised = tree, authorised(tree)
        findings += _lookups(domain, tree, records[0])
        findings += yield from _evaluated(domain, records[0], findings)
    if findings and not trying:
        texts = [text_as_strings(txt) for txt in published]
        findings = yield from offer_spf(domain, answer, texts, findings, tree, _tried)
    return findings


def _tried(domain: str, answer: DnsAnswer) -> DnsProgram[tuple[list[Finding], LookupTree | None]]:
    """Return what the same examination finds for a record that is not published yet, and its look-ups."""
    out = Examination()
    findings = yield from _examine_records(domain, answer, answer.texts, out, trying=True)
    return findings, out.spf_tree


def text_as_strings(txt: TxtRecord) -> str:
    """Return the text of a record, with a blank where two strings run together in the middle of terms (§3.3)."""
    parts = [part.decode("utf-8", "replace") for part in txt.strings]
    text = parts[0] if parts else ""
    for part in parts[1:]:
        joined = text and part and not text.endswith(" ") and _TERM.match(part + " ")
        text += f" {part}" if joined else part
    return text


def _evaluated(domain: str, record: SpfRecord, found: Sequence[Finding]) -> DnsProgram[list[Finding]]:
    """Report what evaluation gives for servers that nobody has listed, where no other finding says so already.

    The record as a whole decides: with its includes and redirects, for IPv4 and IPv6 senders (RFC 7208 §4).
    """
    outcomes: dict[str, SpfOutcome] = {}
    for ip in (*_STRANGERS4, *_STRANGERS6):
        outcomes[ip] = yield from check_host(ip, domain, f"postmaster@{domain}", domain)
        if outcomes[ip].result is SpfResult.TEMPERROR:
            return []  # no answer is no result
    rules = {finding.rule for finding in found}
    place = Place(domain, "TXT")
    broken = next(((ip, each) for ip, each in outcomes.items() if each.result is SpfResult.PERMERROR), None)
    if broken and not any(finding.level is Level.FAULT for finding in found):
        ip, outcome = broken
        return [
            Finding(
                rule="spf-evaluation-error", level=Level.FAULT, place=place,
                title=f"Checks of {domain} end in an error for senders that are not listed, such as {ip}",
                topic=outcome.term,
                evidence=(f"{ip}: permerror, {outcome.reason}", record.text),
                reason="Evaluation ends in permerror instead of a pass or a fail, as if there was no valid record.",
                remedy="Correct or remove the term that is named in the evidence.",
                reference="RFC 7208 §2.6.7",
            )
        ]  # fmt: skip
    results = {outcomes[ip].result for ip in _STRANGERS4}
    term = outcomes[_STRANGERS4[0]].term
    where = (f"the term that matches: {term}", record.text) if term else (record.text,)
    if results == {SpfResult.PASS} and "spf-everyone" not in rules:
        return [
            Finding(
                rule="spf-everyone", level=Level.FAULT, place=place,
                title=f"The SPF record of {domain} authorises addresses all over the Internet",
                topic=term,
                evidence=(f"{len(_STRANGERS4)} unrelated addresses pass, such as {_STRANGERS4[0]}", *where),
                reason="Anybody who sends as this domain passes SPF; receivers treat such a record as worse than none.",
                remedy="Find the included record or the networks that allow everybody, and remove them.",
                reference="RFC 7208 §11.1",
            )
        ]  # fmt: skip
    if results <= {SpfResult.NEUTRAL, SpfResult.NONE} and not rules & {"spf-neutral", "spf-no-all", "spf-syntax"}:
        return [
            Finding(
                rule="spf-neutral", level=Level.RISK, place=place,
                title=f"The SPF record of {domain} ends in neutral for servers that are not listed",
                evidence=where,
                reason="It says nothing about servers that are not listed, so it protects nobody.",
                remedy="End the record that decides with ~all, and with -all once every relay is listed.",
                reference="RFC 7208 §8.2",
            )
        ]  # fmt: skip
    return []


def examine_spf_names(request: AuditRequest) -> DnsProgram[Examination]:
    """SPF where it counts for the streams: on the envelope domain and on the HELO name (§2.3, §2.4)."""
    out = Examination()
    users: dict[str, list[Stream]] = {}
    envelopes = {stream.envelope for stream in request.streams}
    for stream in request.streams:
        for name in (stream.envelope, stream.helo):
            if name and name != request.domain:
                users.setdefault(name, []).append(stream)
    for name, streams in users.items():
        streams = list(dict.fromkeys(streams))
        scope = f"stream:{streams[0].name}" if len(streams) == 1 else "all"
        answer = yield from ask(name, "TXT")
        if answer.failed:
            out.unanswered("spf", answer)
            continue
        published = sorted((txt for txt in answer.texts if is_spf1(txt.text)), key=lambda txt: txt.text)
        if published:
            found = yield from _examine_records(name, answer, published)
            out.findings += [replace(finding, scope=scope) for finding in found]
        else:
            out.findings.append(_missing_for(name, streams, scope, envelope=name in envelopes))
    return out


def _missing_for(name: str, streams: Sequence[Stream], scope: str, *, envelope: bool) -> Finding:
    """Report a name of streams that has no record: one finding, with all streams that it concerns."""
    names = ", ".join(dict.fromkeys(stream.name for stream in streams))
    several = "s" if "," in names else ""
    return Finding(
        rule="spf-envelope-missing" if envelope else "spf-helo-missing",
        level=Level.FAULT if envelope else Level.RISK,
        title=f"No SPF record on {name}, the {'envelope domain' if envelope else 'HELO name'} of the "
        f"stream{several} {names}",
        place=Place(name, "TXT"),
        evidence=tuple(dict.fromkeys(f"{stream.name}: {_sent_by(stream)}" for stream in streams)),
        reason="SPF is checked for the envelope domain, not for From; without a record it cannot pass."
        if envelope
        else "Mail with an empty sender is checked by the HELO name; without a record it is not authenticated.",
        remedy=f"Publish a record at {name} that lists its sending IPs.",
        record=listing([ip for stream in streams for ip in stream.ips]),
        reference="RFC 7208 §2.4" if envelope else "RFC 7208 §2.3",
        scope=scope,
    )


def _sent_by(stream: Stream) -> str:
    return f"sent from {', '.join(stream.ips[:5])}" if stream.ips else "sending IPs not known"


def listing(ips: Sequence[str], ending: str = "~all") -> str | None:
    """Return a record that lists these addresses; None without any, and for texts that are no addresses."""
    words = [f"ip{6 if ':' in ip else 4}:{ip}" for ip in dict.fromkeys(ips)]
    record = " ".join(["v=spf1", *words, ending])
    return record if words and not parse_spf(record).problems else None


def _summary(tree: LookupTree | None, networks: Authorised | None, count: int) -> str:
    if tree is None or networks is None:
        return f"{count} records"
    six = ", and IPv6" if networks.ipv6_addresses else ""
    return f"{tree.cost} of {LOOKUP_LIMIT} lookups; {networks.ipv4_addresses:,} IPv4 addresses authorised{six}"


def _closed(domain: str, out: Examination) -> DnsProgram[bool]:
    """Return whether the record as a whole lets nobody send: `-all`, by itself or where a redirect leads (§6.1)."""
    if out.authorised is None or out.authorised.networks or out.authorised.open_ended:
        return False
    for ip in (_STRANGERS4[0], _STRANGERS6[0]):
        outcome = yield from check_host(ip, domain, f"postmaster@{domain}", domain)
        if outcome.result not in (SpfResult.FAIL, SpfResult.TEMPERROR):
            return False
    return True


def _open_though_parked(domain: str) -> Finding:
    return Finding(
        rule="spf-parked-open",
        level=Level.RISK,
        title=f"{domain} never sends, but its SPF record authorises senders",
        place=Place(domain, "TXT"),
        reason="An unprotected name that never sends is easy to forge.",
        remedy="Publish a record that authorises nobody.",
        record=_PARKED,
        reference="RFC 7208 §10.1.2",
        scope="none",
    )


def _type_99(domain: str, answer: DnsAnswer, beside: bool) -> Finding:
    texts = tuple(TxtRecord(getattr(rdata, "strings", ())).text for rdata in answer.records)
    return Finding(
        rule="spf-type-99",
        level=Level.NOTE if beside else Level.RISK,
        title=f"{domain} publishes SPF in the record type SPF (99)" + ("" if beside else ", and not as TXT"),
        place=Place(domain, "SPF"),
        evidence=texts,
        reason="That type is obsolete and never queried; it is one more record to maintain."
        if beside
        else "That type is never queried, so receivers see no SPF record.",
        remedy="Remove the record of type SPF." if beside else "Publish it as a TXT record instead.",
        record=None if beside or not texts else texts[0],
        reference="RFC 7208 §3.1",
        scope="none" if beside else "all",
    )


def _missing(place: Place, near: list[str], sends: bool | None, known: str | None) -> Finding:
    meant = next((text for text in map(repaired, near) if text is not None), None)
    return Finding(
        rule="spf-missing",
        level=Level.FAULT if sends is not False else Level.RISK,
        title=f"No SPF record on {place.name}",
        place=place,
        evidence=tuple(near),
        reason="Receivers cannot tell which servers may send for this domain. "
        + (
            "A record looks like SPF, but does not start with exactly v=spf1 and a space."
            if near
            else "Its mail is not authenticated by SPF, and anybody can use the name."
        ),
        remedy="Publish one TXT record that starts with v=spf1 and lists every relay; "
        "v=spf1 -all if this name never sends.",
        record=_PARKED if sends is False else meant or known,
        reference="RFC 7208 §4.5",
    )


def _several(place: Place, records: list[SpfRecord]) -> Finding:
    return Finding(
        rule="spf-several-records",
        level=Level.FAULT,
        title=f"{len(records)} SPF records on {place.name}",
        place=place,
        evidence=tuple(record.text for record in records),
        reason="With more than one SPF record every check ends in permerror: none of them is used, and mail "
        "from every relay fails SPF.",
        remedy="Publish one merged record and remove the others.",
        reference="RFC 7208 §4.5",
    )


def _split(domain: str, index: int, txt: TxtRecord) -> list[Finding]:
    """Strings are joined without a blank (§3.3): two terms on either side of a seam run together."""
    findings: list[Finding] = []
    parts = [part.decode("utf-8", "replace") for part in txt.strings]
    at = 0
    for left, right in pairwise(parts):
        at += len(left)
        if left and right and not left.endswith(" ") and _TERM.match(right + " "):
            findings.append(
                Finding(
                    rule="spf-strings-run-together",
                    level=Level.FAULT,
                    title=f"The SPF record of {domain} is split without a space, so two terms run together",
                    place=Place(domain, "TXT", index, at + 1, 1),
                    topic=str(index) if index else "",
                    evidence=tuple(f'"{part}"' for part in parts),
                    reason=f"Strings of a record are joined without a space: {left[-20:]}{right[:20]} is what "
                    "receivers see.",
                    remedy="End each string except the last with a space, or publish the record as one string.",
                    reference="RFC 7208 §3.3",
                )
            )
            break
    return findings


def _size(domain: str, answer: DnsAnswer, records: list[SpfRecord]) -> list[Finding]:
    """Return whether the whole TXT answer fits where it has to (§3.4)."""
    header = 12 + len(domain) + 2 + 4
    octets = header + sum(12 + sum(1 + len(part) for part in txt.strings) for txt in answer.texts)
    if octets <= _UDP_PLAIN:
        return []
    large = octets > _UDP_EDNS
    longest = max(len(record.text) for record in records)
    return [
        Finding(
            rule="spf-answer-large",
            level=Level.RISK if large else Level.NOTE,
            title=f"The TXT answer of {domain} has about {octets:,} octets",
            place=Place(domain, "TXT"),
            evidence=(f"{len(answer.texts)} TXT records, the SPF record has {longest} characters",),
            reason="It does not fit into one UDP response; receivers that cannot retry over TCP get no record."
            if large
            else f"It fits only with EDNS; without EDNS the limit is {_UDP_PLAIN} bytes.",
            remedy="Remove TXT records that are no longer needed, and shorten the SPF record.",
            reference="RFC 7208 §3.4",
        )
    ]


def _networks(domain: str, index: int, record: SpfRecord) -> list[Finding]:
    """Report what the record itself lets send that it should not; one finding for each kind of mistake."""
    wide: list[Directive] = []
    everybody: list[Directive] = []
    strange: list[tuple[Directive, str]] = []
    documented = domain.rpartition(".")[2] in _DOCUMENTED
    for term in record.directives:
        if term.mechanism == "all":
            break
        if term.qualifier is not Qualifier.PASS:
            continue
        network = term.network
        if network is None:
            if term.mechanism in ("a", "mx") and 0 in (term.prefix4, term.prefix6):
                everybody.append(term)
            elif term.mechanism in ("a", "mx") and (term.prefix4 < WIDE4 or term.prefix6 < WIDE6):
                wide.append(term)
            continue
        if network.prefixlen == 0:
            everybody.append(term)
        elif is_wide(network):
            wide.append(term)
        kind = network_kind(network)
        if kind in ("private", "reserved") or (kind == "documentation" and not documented):
            strange.append((term, kind))
    findings = _wide(domain, index, everybody, everybody=True) + _wide(domain, index, wide, everybody=False)
    if strange:
        term, kind = strange[0]
        findings.append(
            Finding(
                rule="spf-not-public",
                level=Level.RISK,
                title=f"The SPF record of {domain} lists {term.network}, which is {kind} address space",
                place=Place(domain, "TXT", index, term.column, len(term.text)),
                topic=str(index) if index else "",
                evidence=tuple(f"{directive.text}: {what}" for directive, what in strange[:20]),
                reason="No mail arrives from such an address, so the term has no effect; the intended address "
                "is missing.",
                remedy="Use the public IP of these servers, or remove the term.",
                reference="RFC 6890 §2",
            )
        )
    findings += _repeated(domain, index, record)
    return findings


def _wide(domain: str, index: int, terms: list[Directive], *, everybody: bool) -> list[Finding]:
    if not terms:
        return []
    return [
        Finding(
            rule="spf-everyone" if everybody else "spf-wide-network",
            level=Level.FAULT if everybody else Level.RISK,
            title=f"The SPF record of {domain} authorises the whole Internet"
            if everybody
            else f"The SPF record of {domain} authorises too many addresses",
            place=Place(domain, "TXT", index, terms[0].column, len(terms[0].text)),
            topic=terms[0].text if everybody else str(index) if index else "",
            evidence=tuple(term.text for term in terms[:20]),
            reason="Anybody who sends as this domain passes SPF; receivers treat such a record as worse than none."
            if everybody
            else "Every customer of that network passes SPF as this domain; some receivers distrust records this wide.",
            remedy="List only the networks that your own relays send from.",
            reference="RFC 7208 §11.1",
        )
    ]


def _repeated(domain: str, index: int, record: SpfRecord) -> list[Finding]:
    idle = repeated(record.directives)
    end = next((n for n, term in enumerate(record.directives) if term.mechanism == "all"), len(record.directives))
    twice = [record.directives[n] for n in sorted(idle) if n < end]
    if not twice:
        return []
    costs = sum(term.mechanism not in ("ip4", "ip6") for term in twice)
    return [
        Finding(
            rule="spf-duplicates",
            level=Level.RISK if costs else Level.NOTE,
            title=f"The SPF record of {domain} repeats itself",
            place=Place(domain, "TXT", index, twice[0].column, len(twice[0].text)),
            topic=str(index) if index else "",
            evidence=tuple(term.text for term in twice[:20]),
            reason=f"Each repetition wastes a DNS lookup: {costs} here."
            if costs
            else "It makes the record longer without effect.",
            remedy="Remove the repetition.",
            reference="RFC 7208 §4.6.4" if costs else "RFC 7208 §3.4",
            scope="none",
        )
    ]


def _syntax(domain: str, index: int, record: SpfRecord) -> list[Finding]:
    if not record.problems:
        return []
    first = record.problems[0]
    return [
        Finding(
            rule="spf-syntax",
            level=Level.FAULT,
            title=f"The SPF record of {domain} has a syntax error: {first.what}",
            place=Place(domain, "TXT", index, first.column, first.length),
            topic=str(index) if index else "",
            evidence=tuple(f"column {problem.column}: {problem.what}" for problem in record.problems),
            reason="One invalid term makes the whole record a permerror: mail from every relay fails SPF.",
            remedy=f"Correct the record at column {first.column}"
            + (f" and at {len(record.problems) - 1} more" if len(record.problems) > 1 else "")
            + ".",
            reference="RFC 7208 §4.6",
        )
    ]


def _policy(domain: str, index: int, record: SpfRecord) -> list[Finding]:
    """Report what the record permits, apart from its look-ups."""
    findings = []
    topic = str(index) if index else ""
    last = record.all
    if last is not None and last.qualifier is Qualifier.PASS:
        findings.append(
            Finding(
                rule="spf-everyone",
                level=Level.FAULT,
                title=f"The SPF record of {domain} authorises the whole Internet",
                place=Place(domain, "TXT", index, last.column, len(last.text)),
                topic=topic,
                evidence=(last.text,),
                reason="Anybody who sends as this domain passes SPF; receivers treat such a record as worse than none.",
                remedy="Replace it with ~all, and with -all once every relay is listed.",
                reference="RFC 7208 §5.1",
            )
        )
    elif last is not None and last.qualifier is Qualifier.NEUTRAL:
        findings.append(
            Finding(
                rule="spf-neutral",
                level=Level.RISK,
                title=f"The SPF record of {domain} ends in ?all",
                place=Place(domain, "TXT", index, last.column, len(last.text)),
                topic=topic,
                evidence=(last.text,),
                reason="It says nothing about servers that are not listed, so it protects nobody.",
                remedy="End it with ~all, and with -all once every relay is listed.",
                reference="RFC 7208 §8.2",
            )
        )
    elif last is None and record.redirect is None:
        findings.append(
            Finding(
                rule="spf-no-all",
                level=Level.RISK,
                title=f"The SPF record of {domain} has no all at its end",
                place=Place(domain, "TXT", index),
                topic=topic,
                evidence=(record.text,),
                reason="Servers that are not listed get neutral instead of a failure, so it protects nobody.",
                remedy="Put ~all at the end, and -all once every relay is listed.",
                reference="RFC 7208 §4.7",
            )
        )
    if last is not None:
        dead = [term for term in record.terms if term.column > last.column and term.text.partition("=")[0] != "exp"]
        if dead:
            findings.append(
                Finding(
                    rule="spf-after-all",
                    level=Level.RISK,
                    title=f"Terms after all are ignored on {domain}",
                    place=Place(domain, "TXT", index, dead[0].column, _span(dead[0].column, dead[-1])),
                    topic=topic,
                    evidence=tuple(term.text for term in dead),
                    reason="Evaluation ends at all, so these terms authorise nobody.",
                    remedy=f"Move {last.text} to the end, or remove the terms after it.",
                    reference="RFC 7208 §5.1",
                )
            )
    meant = [
        term
        for term in record.terms
        if isinstance(term, Modifier)
        and term.name in ("include", "a", "mx", "ip4", "ip6", "ipv4", "exists", "ptr", "all")
    ]
    if meant and not record.problems:
        findings.append(
            Finding(
                rule="spf-ignored-term",
                level=Level.FAULT,
                title=f"{meant[0].text} in the SPF record of {domain} is ignored",
                place=Place(domain, "TXT", index, meant[0].column, len(meant[0].text)),
                topic=topic,
                evidence=tuple(term.text for term in meant),
                reason="With = it is an unknown modifier, which receivers ignore: the intended senders fail.",
                remedy=f"Write {meant[0].name}: with a colon.",
                reference="RFC 7208 §6",
            )
        )
    redirect = record.redirect
    if redirect is not None and last is not None and redirect.column < last.column:
        findings.append(
            Finding(
                rule="spf-redirect-ignored",
                level=Level.RISK,
                title=f"redirect= in the SPF record of {domain} is never followed",
                place=Place(domain, "TXT", index, redirect.column, len(redirect.text)),
                topic=topic,
                evidence=(redirect.text, last.text),
                reason="With all in the record it has no effect: all decides first.",
                remedy=f"Remove {last.text} if the other record should decide; otherwise remove the redirect.",
                reference="RFC 7208 §6.1",
            )
        )
    pointers = [term for term in record.directives if term.mechanism == "ptr"]
    if pointers:
        findings.append(
            Finding(
                rule="spf-ptr",
                level=Level.RISK,
                title=f"The SPF record of {domain} uses ptr",
                place=Place(domain, "TXT", index, pointers[0].column, len(pointers[0].text)),
                topic=topic,
                evidence=tuple(term.text for term in pointers),
                reason="ptr is slow and unreliable, and some receivers ignore it or reject the record.",
                remedy="List the sending addresses with ip4: and ip6: instead.",
                reference="RFC 7208 §5.5",
            )
        )
    return findings


def _span(start: int, last_term: object) -> int:
    column, text = getattr(last_term, "column", start), getattr(last_term, "text", "")
    return int(column) + len(text) - start


def _lookups(domain: str, tree: LookupTree, record: SpfRecord) -> list[Finding]:
    findings = []
    place = Place(domain, "TXT")
    costs = tuple(f"{node.term}: {node.cost}" for node in tree.nodes)
    if tree.cost > LOOKUP_LIMIT:
        more = "at least " if tree.truncated else ""
        findings.append(
            Finding(
                rule="spf-too-many-lookups",
                level=Level.FAULT,
                title=f"SPF on {domain} needs {more}{tree.cost} DNS lookups; the limit is {LOOKUP_LIMIT}",
                place=place,
                evidence=costs,
                reason="A check that exceeds ten lookups ends in permerror, whichever relay sent the mail.",
                remedy="Remove relays that no longer send, move a relay to a subdomain, or list its addresses.",
                reference="RFC 7208 §4.6.4",
            )
        )
    elif tree.cost >= _CLOSE:
        findings.append(
            Finding(
                rule="spf-lookups-close",
                level=Level.RISK,
                title=f"SPF on {domain} needs {tree.cost} of {LOOKUP_LIMIT} DNS lookups",
                place=place,
                evidence=costs,
                reason="If a relay adds an include to its record, yours exceeds the limit.",
                remedy="Remove relays that no longer send, or move one to a subdomain.",
                reference="RFC 7208 §4.6.4",
            )
        )
    family, voids = max(((version, tree.void_for(version)) for version in (4, 6)), key=lambda pair: len(pair[1]))
    if len(voids) > VOID_LIMIT:
        only = f" for IPv{family} senders" if len(voids) > len(tree.voids) else ""
        findings.append(
            Finding(
                rule="spf-void-lookups",
                level=Level.FAULT,
                title=f"{len(voids)} names in the SPF record of {domain} are void lookups{only}",
                place=_term_place(domain, record, tree, voids[0]),
                evidence=tuple(f"{node.term}: {node.name}" for node in voids),
                reason=f"After {VOID_LIMIT} void lookups a check may end in permerror.",
                remedy="Remove the terms whose names have no records"
                + (
                    f", and list the addresses of those without an {'A' if family == 4 else 'AAAA'} record."
                    if only
                    else "."
                ),
                reference="RFC 7208 §4.6.4",
            )
        )
    elif tree.voids:
        findings.append(
            Finding(
                rule="spf-dead-name",
                level=Level.RISK,
                title=f"{tree.voids[0].name}, in the SPF record of {domain}, is a void lookup",
                place=_term_place(domain, record, tree, tree.voids[0]),
                evidence=tuple(f"{node.term}: {node.name}" for node in tree.voids),
                reason=f"It authorises nobody, costs a lookup, and is one of {VOID_LIMIT} allowed void lookups; "
                "whoever registers an abandoned name can send as you.",
                remedy="Remove the term, or restore the records of the name.",
                reference="RFC 7208 §4.6.4",
            )
        )
    words = {
        "dead": "has no SPF record",
        "loop": "includes itself",
        "several": "has several SPF records",
        "syntax": "has an SPF record with a syntax error",
        "many_mx": "has too many MX records",
    }
    broken = [node for node in tree.flat() if node.problem in words]
    for name in dict.fromkeys(node.name for node in broken):
        node = next(node for node in broken if node.name == name)
        findings.append(
            Finding(
                rule="spf-include-loop" if node.problem == "loop" else "spf-include-broken",
                level=Level.FAULT,
                title=f"{name}, which the SPF record of {domain} references, {words[node.problem]}",
                place=_term_place(domain, record, tree, node),
                topic=name,
                evidence=(node.term, *((node.detail,) if node.detail else ())),
                reason="A check that reaches it ends in permerror, whichever relay sent the mail.",
                remedy="Remove it if that relay no longer sends; otherwise ask its operator for the correct name.",
                reference="RFC 7208 §5.2" if node.problem != "many_mx" else "RFC 7208 §4.6.4",
            )
        )
    silent = [node for node in tree.flat() if node.problem == "failed"]
    for name in dict.fromkeys(node.name for node in silent):
        node = next(node for node in silent if node.name == name)
        findings.append(
            Finding(
                rule="spf-include-silent",
                level=Level.RISK,
                title=f"No usable answer for {name}, which the SPF record of {domain} references",
                place=_term_place(domain, record, tree, node),
                topic=name,
                evidence=(node.term, node.detail),
                reason="A check that reaches it ends in temperror: the mail is deferred, or not authenticated.",
                remedy="Tell the operator of that name; re-check before you change anything.",
                reference="RFC 7208 §2.6.6",
            )
        )
    return findings


def _term_place(domain: str, record: SpfRecord, tree: LookupTree, wanted: object) -> Place:
    """Where in the record itself the term stands that leads to a node of its tree."""
    for node in tree.nodes:
        if any(inner is wanted for inner in node.flat()):
            return Place(domain, "TXT", 0, node.column, len(node.term))
    return Place(domain, "TXT")
