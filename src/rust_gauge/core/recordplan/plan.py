"""All records that a sending domain ought to publish, computed from its relays, its streams and its settings.

`make_plan` asks DNS only for what the relays' includes cost; everything else is arithmetic. What has to be published by
somebody else (reverse DNS, names in a relay's own zone) is in the plan too, marked as such.
"""

import ipaddress
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from rust_gauge.core.dmarc import discover_by_walk
from rust_gauge.core.dmarc.changed import changed_policy
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.core.names import registered_domain
from rust_gauge.core.recordplan.conflicts import one_each
from rust_gauge.core.recordplan.record import PlannedRecord, Purpose
from rust_gauge.core.recordplan.spf import IncludeCost, SpfPlan, cost_of, include_costs, merge_spf
from rust_gauge.core.sending import HostNeed, PlannedStream, Relay, SendingPath, expand_streams
from rust_gauge.core.sending.paths import label_of
from rust_gauge.core.spf import Qualifier, SpfRecord, is_spf1, parse_spf

STAGES = ("watch", "quarantine", "reject")
_POLICIES = {"watch": "none", "quarantine": "quarantine", "reject": "reject"}


@dataclass(frozen=True, slots=True)
class PlanSettings:
    """What people choose. `spf_ways` is (relay, `list`, `move` or `drop`).

    `stage` is how strict DMARC is; empty keeps the policy that holds, and begins with `watch` where none does. An empty
    `spf_ending` keeps the published one, and is `~all` where there is none.

    `reports_to` and `tls_reports_to` are addresses; `mta_sts` is empty, `testing` or `enforce`, with the `id` that its
    record carries and the host that serves the policy. `keep_terms` are SPF terms of senders that are not relays here.
    """

    stage: str = ""
    reports_to: str = ""
    spf_ending: str = ""
    spf_ways: tuple[tuple[str, str], ...] = ()
    keep_terms: tuple[str, ...] = ()
    ttl: int = 3600
    mta_sts: str = ""
    mta_sts_id: str = ""
    mta_sts_host: str = ""
    tls_reports_to: str = ""
    proof: str = ""  # the token that proves the domain
    keys: tuple[tuple[str, str], ...] = ()  # (selector, record) of keys that were made here
    percent: int = 100  # at stage quarantine: of the mail that fails


@dataclass(frozen=True, slots=True)
class PlanRequest:
    """One plan. `zone` is the zone that the domain lies in; `relays` all that the streams may name."""

    domain: str
    zone: str
    relays: tuple[Relay, ...] = ()
    streams: tuple[PlannedStream, ...] = ()
    sends: bool = True
    settings: PlanSettings = field(default_factory=PlanSettings)


@dataclass(frozen=True, slots=True)
class Published:
    """What is published already and is better kept.

    `dmarc`: the domain's own DMARC record where it is in order; `covered_by`: whose policy applies without one;
    `spf_ending` and `spf_terms`: the end of its SPF record, and the senders that its SPF records authorise.
    """

    dmarc: str = ""
    covered_by: str = ""
    covering_policy: str = ""
    spf_ending: str = ""
    spf_terms: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Advice:
    """Something to consider: what, why, and the name that it is about."""

    title: str
    why: str
    name: str = ""


@dataclass(frozen=True, slots=True)
class RecordPlan:
    """The records in the order in which to publish them, the SPF arithmetic, and advice."""

    domain: str
    zone: str
    records: tuple[PlannedRecord, ...]
    spf: tuple[SpfPlan, ...] = ()
    advice: tuple[Advice, ...] = ()
    sts_policy: str = ""


def find_zone(domain: str) -> DnsProgram[str]:
    """Find the zone of a name: the closest one above with a SOA, or its registered domain when nobody answers."""
    name = domain
    while "." in name:
        answer = yield from ask(name, "SOA")
        if answer.records and not answer.aliases:
            return name
        if answer.failed:
            break
        name = name.partition(".")[2]
    return registered_domain(domain) or domain


def make_plan(request: PlanRequest) -> DnsProgram[RecordPlan]:
    """Make the plan. Asks what the includes of its relays cost, and which policy and SPF record are published."""
    by_name = {relay.name: relay for relay in request.relays}
    used = dict.fromkeys(name for stream in request.streams for name in stream.relays)
    costs = yield from include_costs(by_name[n].include for n in used if n in by_name and by_name[n].include)
    return plan_records(request, costs, (yield from _published(request.domain)))


def _published(domain: str) -> DnsProgram[Published]:
    found = yield from discover_by_walk(domain)
    answer = yield from ask(domain, "TXT")
    texts = [txt.text for txt in answer.texts if is_spf1(txt.text)]
    records = [parse_spf(text) for text in texts]
    record = records[0] if len(records) == 1 else None
    terms = yield from _senders(records)
    ending = f"{record.all.qualifier}all" if record and record.all else ""
    at = found.at
    rule = at.record if at else None
    ending = ending if ending in ("~all", "-all") else ""
    if at is None or rule is None:
        return Published(spf_ending=ending, spf_terms=terms)
    if at.domain == domain:
        return Published("" if rule.problems else rule.text, spf_ending=ending, spf_terms=terms)
    covering = rule.subdomain_policy or rule.policy or "none"
    return Published("", f"_dmarc.{at.domain}", covering, ending, terms)


def _senders(records: Iterable[SpfRecord]) -> DnsProgram[tuple[str, ...]]:
    """Return the terms of published records that authorise senders; includes that do not work are left out."""
    terms = [
        term
        for record in records
        for term in record.directives
        if term.qualifier is Qualifier.PASS and term.mechanism in ("ip4", "ip6", "a", "mx", "include", "exists")
    ]
    costs = yield from include_costs(term.text.partition(":")[2] for term in terms if term.mechanism == "include")
    broken = {name for name, cost in costs.items() if cost.problem}
    kept = (term.text for term in terms if not (term.mechanism == "include" and term.text.partition(":")[2] in broken))
    return tuple(dict.fromkeys(kept))


def plan_records(
    request: PlanRequest, costs: Mapping[str, IncludeCost], published: Published | None = None
) -> RecordPlan:
    """Make the plan from the costs of includes and what is published."""
    if not request.sends:
        return _parked(request)
    planner = _Planner(request, costs, published or Published())
    planner.proof()
    planner.senders()
    planner.keys()
    planner.policy()
    planner.inbound()
    planner.tracking()
    planner.transport()
    planner.hosts()
    records, conflicts = one_each(planner.records)
    known = {merged.name: merged for merged in planner.spf}
    for record in records:  # return paths and HELO names are evaluated too, and merged records cost what both cost
        is_record = record.rdtype == "TXT" and is_spf1(record.value) and not record.elsewhere
        if is_record and (record.name not in known or known[record.name].value != record.value):
            known[record.name] = cost_of(record.name, record.value, record.relay, costs)
    return RecordPlan(
        request.domain,
        request.zone,
        records,
        tuple(known.values()),
        (
            *planner.advice,
            *(Advice(title, why, name) for title, why, name in conflicts),
            *_advice(request),
            *planner.incomplete(),
        ),
        planner.sts_policy,
    )


def _parked(request: PlanRequest) -> RecordPlan:
    """Plan a name that never sends: it permits no sender and accepts no mail."""
    s = request.settings
    reports = f"; rua=mailto:{s.reports_to}" if s.reports_to else ""
    domain, zone = request.domain, request.zone
    records = [
        PlannedRecord(Purpose.SPF, zone, domain, "TXT", "v=spf1 -all", ttl=s.ttl, why="No host may send as this name"),
        PlannedRecord(Purpose.DMARC, zone, f"_dmarc.{domain}", "TXT", f"v=DMARC1; p=reject{reports}", ttl=s.ttl,
                      why="Mail that uses it in From is rejected"),
        PlannedRecord(Purpose.MX, zone, domain, "MX", "", priority=0, ttl=s.ttl,
                      why="Accepts no mail (null MX, RFC 7505)"),
    ]  # fmt: skip
    if s.proof:
        records.insert(0, _proof(request))
    return RecordPlan(request.domain, request.zone, tuple(records))


def _proof(request: PlanRequest) -> PlannedRecord:
    return PlannedRecord(
        Purpose.PROOF, request.zone, f"_rustgauge.{request.domain}", "TXT", request.settings.proof,
        ttl=request.settings.ttl, why="Proves that the domain is yours",
    )  # fmt: skip


def _within(term: str, network: ipaddress.IPv4Network | ipaddress.IPv6Network) -> bool:
    """Return whether a term such as ip4:192.0.2.1 lies within a network."""
    name, _, value = term.partition(":")
    if name != f"ip{network.version}":
        return False
    there = ipaddress.ip_network(value, strict=False)
    return there.version == network.version and there.subnet_of(network)  # type: ignore[arg-type]


class _Planner:
    def __init__(self, request: PlanRequest, costs: Mapping[str, IncludeCost], published: Published) -> None:
        self.request = request
        self.published = published
        self.advice: list[Advice] = []
        self.costs = costs
        self.settings = request.settings
        self.by_name = {relay.name: relay for relay in request.relays}
        self.ways = dict(request.settings.spf_ways)
        self.records: list[PlannedRecord] = []
        self.spf: list[SpfPlan] = []
        self.sts_policy = ""
        self.paths: tuple[SendingPath, ...] = expand_streams(request.streams, request.relays, self.ways)
        self.used = [
            self.by_name[name] for name in dict.fromkeys(path.relay_name for path in self.paths) if name in self.by_name
        ]

    def add(self, purpose: Purpose, name: str, rdtype: str, value: str, why: str, **more: object) -> None:
        outside = not (name == self.request.zone or name.endswith(f".{self.request.zone}"))
        record = PlannedRecord(
            purpose, self.request.zone, name, rdtype, value, ttl=self.settings.ttl, why=why,
            **{"elsewhere": outside, **more},  # type: ignore[arg-type]
        )  # fmt: skip
        self.records.append(record)

    def proof(self) -> None:
        if self.settings.proof:
            self.records.append(_proof(self.request))

    # Who may send: SPF at every envelope domain, or what a relay wants at its return path

    def senders(self) -> None:
        users: dict[str, list[Relay]] = {self.request.domain: []}
        for path in self.paths:
            if path.relay is not None and path.envelope and not path.at_return_path:
                users.setdefault(path.envelope, []).append(path.relay)
        for relay in self.used:
            if relay.return_path is not None and any(p.at_return_path and p.relay is relay for p in self.paths):
                self._return_path_records(relay, relay.return_path)
        ending = self.settings.spf_ending or self.published.spf_ending or "~all"
        unknown_relays = [path.relay_name for path in self.paths if path.relay_name and not path.envelope]
        for name in dict.fromkeys(unknown_relays):
            title = f"The relay {name} is not described"
            self.advice.append(Advice(title, "The plan does not have its records. Describe what it needs", name))
        listed = frozenset(name for name, choice in self.ways.items() if choice == "list")
        for name, relays in users.items():
            if name != self.request.domain and not self._inside(name):
                continue  # somebody else's envelope domain
            own = name == self.request.domain
            unknown = self._unknown_senders() if own else ()
            merged = merge_spf(
                name, relays, self.costs, ending="~all" if own and unknown_relays else ending, listed=listed,
                extra=(*self.settings.keep_terms, *unknown) if own else (),
            )  # fmt: skip
            if own and unknown_relays and merged.value == "v=spf1 -all":
                merged = replace(merged, value="v=spf1 ~all")  # somebody sends, and nobody has said from where
            if unknown:
                title = f"The published SPF record authorises senders that the plan does not know: {', '.join(unknown)}"
                why = (
                    "They stay in the planned record. Describe the relay that they belong to, or remove them from DNS."
                )
                self.advice.append(Advice(title, why, name))
            self.spf.append(merged)
            who = ", ".join(dict.fromkeys(relay.name for relay in relays))
            why = (
                f"Authorises {who} to send with this envelope domain"
                if who
                else "Authorises the senders that are published now"
                if unknown
                else "No host sends with this envelope domain"
            )
            self.add(Purpose.SPF, name, "TXT", merged.value, why)

    def incomplete(self) -> Iterable[Advice]:
        """Yield advice about relays whose mail carries no signature, and return paths without SPF."""
        for relay in self.used:
            paths = [path for path in self.paths if path.relay is relay]
            if relay.described and not any(path.keys for path in paths):
                title = f"No DKIM key is known for {relay.name}"
                why = "Its mail aligns by SPF at best, which forwarding breaks. Add the selectors that it signs with"
                yield Advice(title, why, relay.name)
            need = relay.return_path
            if need is not None and need.rdtype == "MX" and not need.spf and not relay.include:
                title = f"No SPF record is known for the return path of {relay.name}"
                why = (
                    "SPF is checked at the return path. Add the include of the relay, or the record that it wants there"
                )
                yield Advice(title, why, relay.name)

    def _unknown_senders(self) -> tuple[str, ...]:
        """Return the published terms that belong to no relay of the streams, and that nobody chose to keep or drop."""
        known = {term.lower() for term in self.settings.keep_terms}
        covered: list[ipaddress.IPv4Network | ipaddress.IPv6Network] = []
        for relay in self.by_name.values():
            if relay in self.used or self.ways.get(relay.name) == "drop":
                known.add(f"include:{relay.include}".lower())
                texts = (*relay.networks, *(host.ip for host in relay.hosts))
                covered += [ipaddress.ip_network(text, strict=False) for text in texts]
        out = []
        for term in self.published.spf_terms:
            plain = term.lower().lstrip("+")
            if plain in known or any(_within(plain, network) for network in covered):
                continue
            out.append(term)
        return tuple(out)

    def _return_path_records(self, relay: Relay, need: HostNeed) -> None:
        for domain in self._from_domains(relay):
            name = f"{need.label}.{domain}"
            self._host(Purpose.RETURN_PATH, name, relay, need, domain, f"Bounces return to {relay.name}")
            if need.rdtype == "MX":
                value = relay.filled(need.spf, domain) or (
                    f"v=spf1 include:{relay.include} -all" if relay.include else ""
                )
                if value:
                    self.add(Purpose.SPF, name, "TXT", value, f"Authorises {relay.name} to send with its return path",
                             relay=relay.name)  # fmt: skip

    def _host(self, purpose: Purpose, name: str, relay: Relay, need: HostNeed, domain: str, why: str) -> None:
        priority = need.priority if need.rdtype == "MX" else None
        self.add(purpose, name, need.rdtype, relay.filled(need.value, domain), why, priority=priority, relay=relay.name)

    # Keys

    def keys(self) -> None:
        done: dict[tuple[str, str], str] = {}
        made = dict(self.settings.keys)
        for path in self.paths:
            for domain, selector in path.keys:
                if not selector or not self._inside(domain):
                    continue
                need = next((n for n in path.relay.dkim if n.selector == selector), None) if path.relay else None
                rdtype = need.rdtype if need else "TXT"
                given = path.relay.filled(need.value, domain) if need and path.relay else ""
                value = given or (made.get(selector, "") if rdtype == "TXT" else "")
                if (selector, domain) in done:
                    if value and done[selector, domain] not in ("", value):
                        title = f"Selector {selector} of {domain} cannot hold the key of {path.relay_name} as well"
                        why = "Two relays sign with it, with different keys. Give one of them another selector"
                        self.advice.append(Advice(title, why, path.relay_name))
                    continue
                done[selector, domain] = value
                what = "points to the key that" if rdtype == "CNAME" else "is the key that"
                signer = path.relay_name or f"the stream {path.stream}"
                self.add(Purpose.DKIM, f"{selector}._domainkey.{domain}", rdtype, value,
                         f"Selector {selector} {what} {signer} signs with", relay=path.relay_name,
                         waits_for="" if value else "the public key: generate one here, or paste it")  # fmt: skip

        for selector, value in made.items():
            if (selector, self.request.domain) not in done:
                self.add(Purpose.DKIM, f"{selector}._domainkey.{self.request.domain}", "TXT", value,
                         f"Selector {selector}: the key generated here")  # fmt: skip

    # Policy

    def policy(self) -> None:
        s, published = self.settings, self.published
        if not s.stage and (published.covered_by or published.dmarc):
            if published.dmarc:
                self.add(Purpose.DMARC, f"_dmarc.{self.request.domain}", "TXT", published.dmarc,
                         "The published policy; choose another to change it")  # fmt: skip
            else:
                title = f"{published.covered_by} covers it with p={published.covering_policy}"
                why = "Its own policy is needed only if it differs from the organisation's"
                self.advice.append(Advice(title, why, self.request.domain))
            return
        stage = s.stage or "watch"
        why = {
            "watch": "First stage: requests reports, changes nothing",
            "quarantine": "Second stage: mail that does not align goes to spam",
            "reject": "Last stage: mail that does not align is rejected",
        }[stage]
        domain = self.request.domain
        partial = stage == "quarantine" and s.percent < 100
        tags = {"p": _POLICIES[stage], "pct": str(s.percent) if partial else "", "t": "y" if partial else ""}
        if s.reports_to:
            tags["rua"] = f"mailto:{s.reports_to}"
        if partial:
            why = f"Trial: {s.percent} % of the mail that does not align goes to spam, or none where `t` is known"
        self.add(Purpose.DMARC, f"_dmarc.{domain}", "TXT", changed_policy(published.dmarc, tags), why)
        host = s.reports_to.rpartition("@")[2].lower()
        if host and registered_domain(host) != registered_domain(domain):
            self.add(Purpose.DMARC, f"{domain}._report._dmarc.{host}", "TXT", "v=DMARC1",
                     f"{host} agrees to receive reports about {domain} (RFC 7489 §7.1)")  # fmt: skip

    # Mail in, links, transport

    def inbound(self) -> None:
        takes_in = next((relay for relay in self.used if relay.inbound), None)  # hosts of two would share it at random
        for relay in [takes_in] if takes_in else []:
            for priority, host in relay.inbound:
                self.add(Purpose.MX, self.request.domain, "MX", relay.filled(host, self.request.domain),
                         f"{relay.name} receives replies and bounces", priority=priority, relay=relay.name)  # fmt: skip

    def tracking(self) -> None:
        for relay in self.used:
            if relay.tracking is not None:
                for domain in self._from_domains(relay):
                    self._host(Purpose.TRACKING, f"{relay.tracking.label}.{domain}", relay, relay.tracking, domain,
                               "Tracking links use your own domain")  # fmt: skip

    def transport(self) -> None:
        s, domain = self.settings, self.request.domain
        if s.mta_sts:
            self.add(Purpose.MTA_STS, f"_mta-sts.{domain}", "TXT", f"v=STSv1; id={s.mta_sts_id or '1'};",
                     "Senders fetch the policy again when the id changes (RFC 8461 §3.1)")  # fmt: skip
            self.add(Purpose.MTA_STS, f"mta-sts.{domain}", "CNAME", s.mta_sts_host,
                     "Serves the policy over HTTPS at /.well-known/mta-sts.txt",
                     waits_for="" if s.mta_sts_host else "the host that serves the policy")  # fmt: skip
            hosts = [record.value for record in self.records if record.purpose is Purpose.MX and record.name == domain]
            lines = ["version: STSv1", f"mode: {s.mta_sts}", *(f"mx: {host}" for host in hosts), "max_age: 604800"]
            self.sts_policy = "\n".join(lines) + "\n"
        if s.tls_reports_to:
            self.add(Purpose.TLS_RPT, f"_smtp._tls.{domain}", "TXT", f"v=TLSRPTv1; rua=mailto:{s.tls_reports_to}",
                     "Senders report when TLS to your servers fails (RFC 8460)")  # fmt: skip

    # Own hosts: names in both directions

    def hosts(self) -> None:
        for relay in self.used:
            for host in relay.hosts if relay.own else ():
                if not host.helo:
                    continue
                address = ipaddress.ip_address(host.ip)
                self.add(Purpose.PTR, address.reverse_pointer, "PTR", host.helo,
                         f"{host.ip} has its HELO name as reverse DNS; set by the provider of the IP",
                         relay=relay.name, elsewhere=True)  # fmt: skip
                self.add(Purpose.HELO, host.helo, "A" if address.version == 4 else "AAAA", str(address),
                         "The name resolves to the address", relay=relay.name)  # fmt: skip
                self.add(Purpose.HELO, host.helo, "TXT", "v=spf1 a -all",
                         "SPF for the HELO name and for notices with an empty sender (RFC 7208 §2.3)",
                         relay=relay.name)  # fmt: skip

    def _from_domains(self, relay: Relay) -> list[str]:
        return [name for name in dict.fromkeys(s.header_from for s in self.request.streams if relay.name in s.relays)
                if self._inside(name)]  # fmt: skip

    def _inside(self, name: str) -> bool:
        return name == self.request.domain or name.endswith(f".{self.request.domain}")


def _advice(request: PlanRequest) -> Iterable[Advice]:
    own = [stream for stream in request.streams if stream.header_from == request.domain]
    if len(own) > 1:
        names = " and ".join(f"{label_of(stream.name)}.{request.domain}" for stream in own[1:3])
        yield Advice(
            f"{len(own)} streams share {request.domain}",
            "Mailbox providers rate the domain as a whole: complaints about one stream delay the others. With "
            f"a subdomain each, such as {names}, every stream has its own reading, keys and SPF record; the "
            "organisation's DMARC policy still covers it",
            request.domain,
        )
    if own and registered_domain(request.domain) == request.domain and len(own) == 1:
        yield Advice(
            f"{own[0].name} is sent from the organisation's own domain",
            "Personal mail uses it too and suffers from the reputation of bulk mail; "
            f"{label_of(own[0].name)}.{request.domain} would separate the two",
            request.domain,
        )
    if not request.streams:
        yield Advice(
            f"No streams described for {request.domain}",
            "The plan needs streams to know which relays send. Add a stream and its relays",
            request.domain,
        )
