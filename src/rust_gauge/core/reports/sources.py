"""Who sends as us: what reports tell of one address, judged as ours, forwarded, unknown or not ours.

Each piece of evidence speaks for one verdict with a weight, the chance that it alone is right. Weights of one verdict
add up as independent hints do, 1 - (1 - a)(1 - b); the verdict with most of it wins if that is at least even. Where
nothing speaks, or not enough, the verdict is `unknown`: the service never claims to know a sender that it does not.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from rust_gauge.core.names import registered_domain

Network = IPv4Network | IPv6Network
_EVEN = 0.5
_FORWARDING = frozenset({"forwarded", "trusted_forwarder", "mailing_list"})
_SEVERAL = 3  # receivers that mail of one address reaches when it is passed on to many
_ALIKE = 5  # addresses of one network that behave alike and prove nothing


class Verdict(StrEnum):
    """Whose a source is."""

    OURS = "ours"
    FORWARDED = "forwarded"
    UNKNOWN = "unknown"
    NOT_OURS = "not_ours"


@dataclass(frozen=True, slots=True)
class Evidence:
    """One hint. `kind` is a stable word for programs, `text` says it with its values, `weight` lies within 0 and 1."""

    kind: str
    verdict: Verdict
    weight: float
    text: str


@dataclass(frozen=True, slots=True)
class Judgement:
    """What a source is. `certainty` lies within 0 and 1; `group` names those that belong together."""

    verdict: Verdict
    group: str
    certainty: float
    evidence: tuple[Evidence, ...]


@dataclass(slots=True)
class SourceSeen:
    """What reports say of one address that sent as a domain, messages of each kind counted.

    `host` is its name by reverse DNS where the name leads back to the address, else empty. `spf` counts messages by
    (domain, result), `signatures` by (d=, selector, result), `reasons` by (kind, comment), `helo` by (HELO name, result
    of SPF for it). `helo_hosts` are those HELO names that have the address by DNS. `receivers` are those that reported
    it.
    """

    ip: str
    messages: int = 0
    aligned_spf: int = 0
    aligned_dkim: int = 0
    host: str = ""
    host_known: bool = False  # reverse DNS answered; False where it was not looked up yet, or did not answer
    spf: dict[tuple[str, str], int] = field(default_factory=dict)
    signatures: dict[tuple[str, str, str], int] = field(default_factory=dict)
    reasons: dict[tuple[str, str], int] = field(default_factory=dict)
    helo: dict[tuple[str, str], int] = field(default_factory=dict)
    helo_hosts: set[str] = field(default_factory=set)
    receivers: set[int] = field(default_factory=set)


@dataclass(frozen=True, slots=True)
class KnownRelay:
    """A relay as sources are compared with it. `domains` are registered domains that belong to it: of its include, its
    hosts, its return path."""

    name: str
    networks: tuple[Network, ...] = ()
    domains: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Known:
    """What a tenant knows of a domain's mail. `keys` are (d=, selector); `authorised` are the networks of its SPF
    record with the term that each comes from; `decided` are people's decisions by group."""

    domain: str
    relays: tuple[KnownRelay, ...] = ()
    streams: Mapping[str, tuple[Network, ...]] = field(default_factory=dict)
    keys: frozenset[tuple[str, str]] = frozenset()
    authorised: tuple[tuple[Network, str], ...] = ()
    decided: Mapping[str, Verdict] = field(default_factory=dict)


def judge_sources(sources: Iterable[SourceSeen], known: Known) -> dict[str, Judgement]:
    """Return by address what each source is. Networks that behave alike count together."""
    seen = list(sources)
    alike: dict[str, int] = {}
    for source in seen:
        if proves_nothing(source):
            network = network_of(source.ip)
            alike[network] = alike.get(network, 0) + 1
    return {source.ip: _judge(source, known, alike.get(network_of(source.ip), 0)) for source in seen}


def proves_nothing(source: SourceSeen) -> bool:
    """Return whether no message of a source passed SPF or DKIM for anybody, or carried a signature."""
    return not any(result == "pass" for _, result in (*source.spf, *source.helo)) and not source.signatures


def network_of(ip: str) -> str:
    """Return the network that an address is counted with: /24 of IPv4, /48 of IPv6."""
    return str(ip_network((ip, 24 if ip_address(ip).version == 4 else 48), strict=False))


def _judge(source: SourceSeen, known: Known, alike: int) -> Judgement:
    relay, stream = _relay_at(source, known), _stream_at(source, known)
    evidence = [*_ours(source, known, relay, stream), *_forwarded(source, known, relay, stream)]
    if not evidence:
        evidence = [*_not_ours(source, alike)]
    sums = {
        verdict: together(each.weight for each in evidence if each.verdict == verdict)
        for verdict in (Verdict.OURS, Verdict.FORWARDED, Verdict.NOT_OURS)
    }
    verdict, certainty = max(sums.items(), key=lambda item: item[1])
    if certainty < _EVEN:
        verdict, certainty = Verdict.UNKNOWN, 1 - certainty
        evidence += [_unknown(source)] if not evidence else []
    group = _group(source, known.domain, relay, stream, verdict)
    evidence.sort(key=lambda each: (each.verdict != verdict, -each.weight))
    decided = known.decided.get(group)
    if decided is not None:
        evidence.insert(0, Evidence("decided", decided, 1.0, f"somebody decided that {group} is {_in_words(decided)}"))
        verdict, certainty = decided, 1.0
    return Judgement(verdict, group, round(certainty, 3), tuple(evidence))


def together(weights: Iterable[float]) -> float:
    """Return what independent hints amount to."""
    missing = 1.0
    for weight in weights:
        missing *= 1 - weight
    return 1 - missing


def _relay_at(source: SourceSeen, known: Known) -> KnownRelay | None:
    """Return the relay whose smallest network has the address: relays may share an SPF include, but not a host."""
    address = ip_address(source.ip)
    found = [
        (network.prefixlen, -number)
        for number, relay in enumerate(known.relays)
        for network in relay.networks
        if address in network
    ]
    return known.relays[-max(found)[1]] if found else None


def _stream_at(source: SourceSeen, known: Known) -> str:
    address = ip_address(source.ip)
    return next((name for name, networks in known.streams.items() if any(address in each for each in networks)), "")


def _ours(source: SourceSeen, known: Known, relay: KnownRelay | None, stream: str) -> Iterable[Evidence]:
    ours = Verdict.OURS
    if relay is not None:
        yield Evidence("relay_address", ours, 0.97, f"{source.ip} is an address of the relay {relay.name}")
    if stream:
        yield Evidence("stream_address", ours, 0.97, f"{source.ip} is an address of the stream {stream}")
    address = ip_address(source.ip)
    term = next((term for network, term in known.authorised if address in network), "")
    if term:
        yield Evidence("spf_record", ours, 0.9, f"the SPF record of {known.domain} authorises it by {term}")
    elif source.aligned_spf:
        share = _of(source.aligned_spf, source.messages)
        weight = _weighed(0.85, source.aligned_spf, source)
        yield Evidence("spf_aligned", ours, weight, f"SPF passed and aligned for {share}: the record authorised it")
    if source.aligned_spf and source.aligned_dkim:
        share = _of(min(source.aligned_spf, source.aligned_dkim), source.messages)
        yield Evidence("both_aligned", ours, 0.8, f"SPF and DKIM passed and aligned for {share}")
    if source.host and _below(source.host, registered_domain(known.domain)):
        yield Evidence(
            "own_host", ours, 0.9, f"its host name {source.host} lies below {registered_domain(known.domain)}"
        )
    by_host = relay is None and next(
        (each for each in known.relays if source.host and registered_domain(source.host) in each.domains), None
    )
    if by_host:
        text = f"its host name {source.host} belongs to the relay {by_host.name}"
        yield Evidence("relay_host", ours, 0.75, text)
    yield from _by_helo(source, known, relay)
    passing = {domain for (domain, result) in source.spf if result == "pass"}
    passing |= {domain for (domain, _, result) in source.signatures if result == "pass"}
    other = {registered_domain(domain) for domain in passing if domain} - {registered_domain(known.domain)}
    by_name = relay is None and next((each for each in known.relays if other & each.domains), None)
    if by_name:
        text = f"it authenticates as {', '.join(sorted(other & by_name.domains))}, of the relay {by_name.name}"
        yield Evidence("relay_identity", ours, 0.75, text)


def _by_helo(source: SourceSeen, known: Known, relay: KnownRelay | None) -> Iterable[Evidence]:
    """Yield what the HELO name tells. It may be anything: SPF has to pass for it (RFC 7208 §2.3), or DNS to give it
    this address. A name that reverse DNS gives as well is not counted twice."""
    proofs = dict.fromkeys(source.helo_hosts - {source.host}, "DNS gives that name this address")
    proofs |= {name: "SPF passes for that name" for name, result in source.helo if result == "pass"}
    organisation = registered_domain(known.domain)
    own = sorted(name for name in proofs if _below(name, organisation))
    if own:
        text = f"it says HELO {own[0]}, below {organisation}, and {proofs[own[0]]}"
        yield Evidence("own_helo", Verdict.OURS, 0.85, text)
    theirs = relay is None and next(
        ((name, each) for name in sorted(proofs) for each in known.relays if registered_domain(name) in each.domains),
        None,
    )
    if theirs:
        name, by = theirs
        text = f"it says HELO {name}, which belongs to the relay {by.name}, and {proofs[name]}"
        yield Evidence("relay_helo", Verdict.OURS, 0.75, text)


def _forwarded(source: SourceSeen, known: Known, relay: KnownRelay | None, stream: str) -> Iterable[Evidence]:
    """Mail of ours that somebody passed on: its signature may survive, its envelope and address do not."""
    forwarded = Verdict.FORWARDED
    told = sum(n for (kind, _), n in source.reasons.items() if kind in _FORWARDING)
    if told:
        text = f"receivers took it for forwarded mail or a mailing list: {_of(told, source.messages)}"
        yield Evidence("override", forwarded, _weighed(0.85, told, source), text)
    arc = sum(n for (_, comment), n in source.reasons.items() if "arc=pass" in comment.replace(" ", "").lower())
    if arc:
        text = f"an ARC chain passed (RFC 8617): {_of(arc, source.messages)}"
        yield Evidence("arc", forwarded, _weighed(0.85, arc, source), text)
    if relay is not None or stream or source.aligned_spf:
        return
    survived = source.aligned_dkim
    if survived:
        text = f"our signature passed where SPF did not align: {_of(survived, source.messages)}"
        yield Evidence("signature_survived", forwarded, _weighed(0.9, survived, source), text)
    organisation = registered_domain(known.domain)
    broken = sum(
        n
        for (domain, selector, result), n in source.signatures.items()
        if result != "pass"
        and domain
        and registered_domain(domain) == organisation
        and (domain, selector) in known.keys
    )
    if broken:
        text = f"it carries a signature by a key of ours that no longer holds: {_of(broken, source.messages)}"
        yield Evidence("signature_broken", forwarded, _weighed(0.6, broken, source), text)
    rewritten = {
        domain
        for (domain, result) in source.spf
        if result == "pass" and domain and registered_domain(domain) != organisation
    }
    if rewritten and (survived or broken):
        text = f"its envelope is its own: SPF passed for {', '.join(sorted(rewritten)[:3])}"
        yield Evidence("own_envelope", forwarded, 0.5, text)
    if len(source.receivers) >= _SEVERAL and (survived or broken):
        text = f"{len(source.receivers)} receivers got it from there, as from a mailing list or a forwarding service"
        yield Evidence("several_receivers", forwarded, 0.3, text)


def _not_ours(source: SourceSeen, alike: int) -> Iterable[Evidence]:
    """Nothing ties the source to us. Who authenticates under a name of his own may be a service that somebody uses for
    us; who proves nothing at all, from a host without a name, is most likely a forger."""
    no = Verdict.NOT_OURS
    if not proves_nothing(source):
        return
    failed = sum(n for (_, result), n in source.spf.items() if result in ("fail", "softfail"))
    if failed:
        text = f"the SPF record does not authorise it, and nothing is signed: {_of(failed, source.messages)}"
        yield Evidence("unauthorised", no, 0.4, text)
    if source.host_known and not source.host and not source.helo_hosts:
        yield Evidence("no_host_name", no, 0.4, f"{source.ip} has no host name that leads back to it")
    if alike >= _ALIKE:
        text = f"{alike} addresses of {network_of(source.ip)} send as this domain, and none proves anything"
        yield Evidence("network", no, 0.5, text)


def _unknown(source: SourceSeen) -> Evidence:
    passing = sorted(
        {domain for (domain, result) in source.spf if result == "pass" and domain}
        | {domain for (domain, _, result) in source.signatures if result == "pass" and domain}
    )
    if passing:
        text = f"it authenticates as {', '.join(passing[:3])}, which is not a relay here"
        return Evidence("other_identity", Verdict.UNKNOWN, 0.5, text)
    return Evidence("nothing_known", Verdict.UNKNOWN, 0.5, "nothing ties it to a relay, a stream or a key")


def _group(source: SourceSeen, domain: str, relay: KnownRelay | None, stream: str, verdict: Verdict) -> str:
    """Return the name under which addresses are shown together."""
    if relay is not None:
        return relay.name
    if stream:
        return stream
    host = source.host or min(source.helo_hosts, default="")
    if host:
        own = _below(host, registered_domain(domain))
        return host if own else registered_domain(host)
    if verdict == Verdict.UNKNOWN:
        passing = {domain: n for (domain, result), n in source.spf.items() if result == "pass" and domain}
        for (domain, _, result), n in source.signatures.items():
            if result == "pass" and domain:
                passing[domain] = passing.get(domain, 0) + n
        if passing:
            return registered_domain(max(passing, key=lambda domain: (passing[domain], domain)))
    return network_of(source.ip)


def _weighed(weight: float, messages: int, source: SourceSeen) -> float:
    """Return the weight of what holds for some messages of a source: a third of it for one, all of it for all."""
    share = min(1.0, messages / source.messages) if source.messages else 0.0
    return round(weight * (1 + 2 * share) / 3, 3)


def _below(name: str, domain: str) -> bool:
    return name == domain or name.endswith(f".{domain}")


def _of(part: int, whole: int) -> str:
    return f"{part:,} of {whole:,} messages"


def _in_words(verdict: Verdict) -> str:
    return verdict.replace("_", " ")


def networks_of(texts: Sequence[str]) -> tuple[Network, ...]:
    """Return the networks that texts name; those that name none are left out."""
    out = []
    for text in texts:
        try:
            out.append(ip_network(text.strip(), strict=False))
        except ValueError:
            continue
    return tuple(out)
