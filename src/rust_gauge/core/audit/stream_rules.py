"""How each stream fares with DMARC: what aligns, by both ways of finding the organisation, and what would happen."""

import ipaddress
from collections import Counter

from rust_gauge.core.audit.examination import CheckState, Examination, StreamOutcome
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest, Stream
from rust_gauge.core.dkim import looks_like_key, parse_dkim_key
from rust_gauge.core.dmarc import Identifier, evaluate
from rust_gauge.core.dns import DnsProgram, ask, gather
from rust_gauge.core.spf import SpfResult, check_host, correct, is_spf1, parse_spf, walk_lookups

_MAX_IPS = 8  # addresses of one stream that are tried
_MAX_NETWORKS = 4  # networks of a relay of which one address is tried


def examine_streams(request: AuditRequest) -> DnsProgram[Examination]:
    """Evaluate every stream that is described."""
    out = Examination()
    counts = Counter(stream.name for stream in request.streams)
    called = [s.name if counts[s.name] == 1 or not s.relay else f"{s.name} over {s.relay}" for s in request.streams]
    parts: list[Examination] = yield from gather(
        [_examine_stream(stream, name) for stream, name in zip(request.streams, called, strict=True)]
    )
    for part in parts:
        out.findings += part.findings
        out.streams += part.streams
    if not out.streams and request.sends is False:
        out.point("alignment", "Alignment", CheckState.ABSENT, "Not needed: this domain never sends")
    elif not out.streams:
        what = "No streams described yet: add the envelope domain and d= of each stream"
        out.point("alignment", "Alignment", CheckState.UNMEASURED, what)
    else:
        counting = [[a.identifier for a in stream.by_list.aligned if a.counts] for stream in out.streams]
        good = sum(any(not _is_assumed(identifier) for identifier in those) for those in counting)
        unknown = [those[0].detail for those in counting if those and all(map(_is_assumed, those))]
        said = f"{good} of {len(out.streams)} {'stream aligns' if len(out.streams) == 1 else 'streams align'}"
        if unknown:
            said += f"; {len(unknown)} could not be judged: {unknown[0]}"
        out.point("alignment", "Alignment", CheckState.UNMEASURED if unknown else CheckState.GOOD, said)
    return out


def _examine_stream(stream: Stream, called: str) -> DnsProgram[Examination]:
    out = Examination()
    spf = yield from _spf(stream)
    identifiers = []
    if stream.envelope or stream.helo:
        passed, why = yield from _passes(stream, spf)
        identifiers.append(Identifier("spf", stream.envelope or stream.helo, passed, why))
    if stream.dkim_domain:
        passed, why = yield from _key(stream)
        identifiers.append(Identifier("dkim", stream.dkim_domain, passed, why))
    by_list = yield from evaluate(stream.header_from, identifiers)
    by_walk = yield from evaluate(stream.header_from, identifiers, way="tree-walk")
    out.streams.append(
        StreamOutcome(
            stream.name,
            stream.relay,
            stream.header_from,
            stream.envelope,
            stream.dkim_domain,
            stream.selector,
            by_list,
            by_walk,
            spf,
        )
    )
    scope = f"stream:{stream.name}"
    place = Place(stream.header_from, "TXT")
    # No record, or a broken one, is a finding of its own, and no answer is no result.
    silent = (SpfResult.NONE, SpfResult.PERMERROR, SpfResult.TEMPERROR)
    failing = [(ip, result, reason) for ip, result, reason in spf if result not in (SpfResult.PASS, *silent)]
    if failing:
        out.findings.append(
            Finding(
                rule="stream-spf",
                level=Level.FAULT,
                title=f"SPF does not pass for the stream {called} from {failing[0][0]}",
                place=Place(stream.envelope or stream.helo, "TXT"),
                topic=called,
                evidence=tuple(f"{ip}: {result}, {reason}" for ip, result, reason in failing),
                reason="Mail from this IP is not authorised by the envelope domain.",
                remedy=f"Add {'the IP' if len(failing) == 1 else 'the IPs'} to the SPF record of "
                f"{stream.envelope or stream.helo}.",
                record=(yield from _with_ips(stream, [ip for ip, _, _ in failing])),
                reference="RFC 7208 §2.6",
                scope=scope,
            )
        )
    if by_list.result == "fail" or (
        by_list.result == "none" and identifiers and not any(a.relaxed for a in by_list.aligned)
    ):
        policy = by_list.policy.policy
        happens = {"reject": "refused", "quarantine": "sent to spam"}.get(
            by_list.disposition, "delivered unauthenticated"
        )
        out.findings.append(
            Finding(
                rule="stream-not-aligned",
                level=Level.FAULT if policy in ("quarantine", "reject") else Level.RISK,
                title=f"The stream {called} does not align with {stream.header_from}: its mail would be {happens}",
                place=place,
                topic=called,
                evidence=tuple(_line(a.identifier, a.relaxed) for a in by_list.aligned)
                or ("nothing is authenticated",),
                reason=by_list.reason[:1].upper() + by_list.reason[1:] + ".",
                remedy=f"Have the relay sign with d={by_list.organisation}, or use an envelope domain below it.",
                reference="RFC 7489 §3.1",
                scope=scope,
            )
        )
    elif by_list.result == "pass" and by_walk.result == "fail":
        out.findings.append(
            Finding(
                rule="stream-ways-differ",
                level=Level.RISK,
                title=f"The stream {called} aligns by the public suffix list and not by the tree walk",
                place=place,
                topic=called,
                evidence=(by_list.reason, by_walk.reason),
                reason="Receivers that follow DMARCbis treat its mail as forged.",
                remedy=f"Sign with d={stream.header_from}.",
                reference="DMARCbis §4.10",
                scope=scope,
            )
        )
    elif by_list.result == "pass" and len([a for a in by_list.aligned if a.counts]) == 1 and len(by_list.aligned) == 2:
        one = next(a.identifier.kind for a in by_list.aligned if a.counts)
        if one == "spf":
            out.findings.append(
                Finding(
                    rule="stream-only-spf",
                    level=Level.RISK,
                    title=f"The stream {called} aligns by SPF only",
                    place=place,
                    topic=called,
                    evidence=tuple(_line(a.identifier, a.counts) for a in by_list.aligned),
                    reason="SPF does not survive forwarding: forwarded mail of this stream fails DMARC.",
                    remedy=f"Sign with d={by_list.organisation} as well.",
                    reference="RFC 7489 §10.5",
                    scope=scope,
                )
            )
    return out


def _passes(stream: Stream, spf: tuple[tuple[str, str, str], ...]) -> DnsProgram[tuple[bool, str]]:
    """Return whether SPF passes, and why not or what is not known.

    Without any address to try, a record at the envelope domain may list the relay: that is not known, and said.
    """
    bad = next((reason for _, result, reason in spf if result not in (SpfResult.PASS, SpfResult.TEMPERROR)), "")
    if spf:
        return not bad and any(result == SpfResult.PASS for _, result, _ in spf), bad
    domain = stream.envelope or stream.helo
    answer = yield from ask(domain, "TXT")
    if not answer.failed and not any(is_spf1(txt.text) for txt in answer.texts):
        return False, f"{domain} has no SPF record"
    return True, "no sending IPs known, so SPF was not evaluated"


def _with_ips(stream: Stream, ips: list[str]) -> DnsProgram[str | None]:
    """Return the published SPF record with these addresses in front, if they pass by it and nothing else is wrong."""
    domain = stream.envelope or stream.helo
    answer = yield from ask(domain, "TXT")
    texts = [txt.text for txt in answer.texts if is_spf1(txt.text)]
    corrected = correct(texts) if texts else None
    if corrected is None or corrected.left_out:
        return None
    words = [f"ip{4 if '.' in ip else 6}:{ip}" for ip in ips]
    record = " ".join(["v=spf1", *words, *corrected.text.split()[1:]])
    for ip in ips:
        outcome = yield from check_host(ip, domain, f"postmaster@{domain}", stream.helo, record=record)
        if outcome.result is not SpfResult.PASS:
            return None
    return record


def _is_assumed(identifier: Identifier) -> bool:
    """Return whether an identifier is taken to pass without having been evaluated: what is not known is no fault."""
    return identifier.passed and bool(identifier.detail)


def _line(identifier: Identifier, aligned: bool) -> str:
    passes = identifier.detail if _is_assumed(identifier) else "passes" if identifier.passed else "does not pass"
    return f"{identifier.kind.upper()} {identifier.domain}: {passes}, {'aligns' if aligned else 'does not align'}"


def _spf(stream: Stream) -> DnsProgram[tuple[tuple[str, str, str], ...]]:
    """(address, result, reason) for the addresses that the stream is sent from."""
    domain = stream.envelope or stream.helo
    if not domain:
        return ()
    good = [ip for ip in stream.ips[:_MAX_IPS] if _is_address(ip)]
    if not good:
        good = yield from _from_networks(stream)
    outcomes = yield from gather([check_host(ip, domain, f"postmaster@{domain}", stream.helo_of(ip)) for ip in good])
    return tuple(
        (ip, str(spf_outcome.result), spf_outcome.reason) for ip, spf_outcome in zip(good, outcomes, strict=True)
    )


def _is_address(ip: str) -> bool:
    try:
        ipaddress.ip_address(ip)
    except ValueError:
        return False
    return True


def _from_networks(stream: Stream) -> DnsProgram[list[str]]:
    """Return an address of each network that the relay sends from, as far as its include or its networks say."""
    networks = [ipaddress.ip_network(text, strict=False) for text in stream.networks]
    if stream.include and not networks:
        tree = yield from walk_lookups("", parse_spf(f"v=spf1 include:{stream.include} -all"))
        networks = [network for node in tree.flat() for network in node.networks]
    return [str(network.network_address) for network in networks[:_MAX_NETWORKS]]


def _key(stream: Stream) -> DnsProgram[tuple[bool, str]]:
    """Return whether signatures of the stream can hold, and why not or what is not known."""
    if not stream.selector:
        return True, "no selector known, so no key was checked"
    whys = []
    for selector in (stream.selector, *stream.more_selectors):
        name = f"{selector}._domainkey.{stream.dkim_domain}"
        answer = yield from ask(name, "TXT")
        keys = [parse_dkim_key(txt.text) for txt in answer.texts if looks_like_key(txt.text)]
        if any(key.usable for key in keys):
            return True, ""
        if answer.failed:
            return True, f"no usable answer for {name}"
        if not keys:
            whys.append(f"no key at {name}")
        else:
            whys.append(f"the key at {name} is revoked" if keys[0].revoked else f"the key at {name} has a syntax error")
    return False, whys[0]
