"""Judging who sends as a domain: names of addresses and the SPF record are looked up, then each source is judged by
`core.reports.sources` and stored. The worker does it where reports brought something new.
"""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from datetime import datetime, timedelta
from ipaddress import ip_address
from typing import Any

from sqlalchemy import Connection

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.names import registered_domain
from rust_gauge.core.reports.lookups import authorised_networks, confirmed_host, leads_to
from rust_gauge.core.reports.outcomes import Outcome
from rust_gauge.core.reports.sources import (
    Judgement,
    Known,
    KnownRelay,
    SourceSeen,
    Verdict,
    judge_sources,
    networks_of,
)
from rust_gauge.core.sending import Relay
from rust_gauge.service.domains.relays import described_relays, planned_streams, sending_paths
from rust_gauge.service.receiver_reports.storing import JUDGE, file_later
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import audits as store_audits
from rust_gauge.store import domains as store_domains
from rust_gauge.store import jobs
from rust_gauge.store import receiver_reports as store_reports
from rust_gauge.store import report_sources as store
from rust_gauge.store.domains import DomainRow
from rust_gauge.store.jobs import Job
from rust_gauge.store.report_sources import DecisionRow, HeloRow, HostRow, SourceRow

_LOOKED_BACK = timedelta(days=90)  # of mail that a verdict rests on
_NAMES_HOLD = timedelta(days=14)  # for which the name of an address is believed
_UNANSWERED_HOLDS = timedelta(hours=6)
_MAX_NAMES = 2000  # addresses whose names are looked up in one run, those with most mail first
_MAX_HELO = 3  # HELO names of one address
_WITHIN = 10.0  # seconds for one address or record
_AT_ONCE = 500  # sources in one transaction


def ask_for_due(context: Context) -> None:
    """Ask for what reports left to do: sources to judge, reports of domains that were added."""
    now = context.clock()

    def write(connection: Connection) -> None:
        for tenant_id in store.waiting_tenants(connection):
            jobs.enqueue(connection, JUDGE, tenant_id, 0, now)

    context.store.transaction(write)


def run_judging(context: Context, job: Job) -> None:
    """Judge the sources of a tenant that reports told something new of."""
    run_tenant(context, job.tenant_id)


def run_tenant(context: Context, tenant_id: int) -> None:
    """The same, at once."""
    file_later(context, tenant_id)
    for domain_id, name in context.store.transaction(lambda c: store.domains_to_judge(c, tenant_id)):
        judge_domain(context, tenant_id, domain_id, name)


def judge_domain(context: Context, tenant_id: int, domain_id: int, name: str) -> None:
    """Judge all sources of a domain by its reports of 90 days, and store what changed."""
    now = context.clock()
    until = now.date()
    oldest = context.store.transaction(lambda c: store.oldest_waiting(c, domain_id))
    since = min(until - _LOOKED_BACK, oldest or until)  # reports of long ago can come, too
    sources, seen = context.store.transaction(lambda c: _seen(c, domain_id, since, until))
    if not sources:
        return
    read = {row.id: row.changes for row in sources}
    _look_up(context, sources, seen, now)
    _look_up_helo(context, sources, seen, now)
    known = _known(context, tenant_id, domain_id, name)
    judgements = judge_sources(seen.values(), known)
    for at in range(0, len(sources), _AT_ONCE):
        part = sources[at : at + _AT_ONCE]
        context.store.transaction(lambda c, part=part: _put(c, part, read, judgements, now))  # type: ignore[misc]
    context.store.transaction(lambda c: jobs.enqueue(c, "readings", tenant_id, domain_id, now))


def _put(
    connection: Connection, part: Sequence[SourceRow], read: Mapping[int, int], judgements: Mapping[str, Judgement],
    now: datetime,
) -> None:  # fmt: skip
    for row in store.lock_sources(connection, [row.id for row in part]):
        judgement = judgements[_text(row.ip)]
        evidence = [asdict(each) for each in judgement.evidence]
        at = now.replace(tzinfo=None) if row.changes == read[row.id] else None  # more was reported in the meantime
        store.put_judgement(
            connection, row, judgement.verdict, judgement.group, judgement.certainty, evidence, at
        )  # fmt: skip


def _seen(
    connection: Connection, domain_id: int, since: Any, until: Any
) -> tuple[list[SourceRow], dict[int, SourceSeen]]:
    """Return the sources of a domain with what reports tell of each."""
    sources = store.list_sources(connection, domain_id, since, until)
    seen = {row.id: SourceSeen(_text(row.ip)) for row in sources}
    for total in store.sums_by_source(connection, domain_id, since, until):
        source = seen.get(total.source_id)
        if source is None:
            continue
        outcome = Outcome(total.outcome)
        source.messages += total.n
        source.aligned_spf += total.n if outcome & Outcome.SPF else 0
        source.aligned_dkim += total.n if outcome & Outcome.DKIM else 0
    ids = [row.id for row in sources]
    for at in range(0, len(ids), _AT_ONCE):
        sums = store.identities_of(connection, domain_id, ids[at : at + _AT_ONCE], since, until)
        results = store_reports.results_of(connection, {each.result_id for each in sums})
        for each in sums:
            source, result = seen[each.source_id], results[each.result_id]
            source.receivers.add(each.receiver_id)
            if result.helo_domain:
                _count(source.helo, (result.helo_domain, result.helo_result), each.n)
            _count(source.spf, (result.spf_domain, result.spf_result), each.n)
            for domain, selector, word in result.signatures:
                _count(source.signatures, (domain, selector, word), each.n)
            for kind, comment in result.reasons:
                _count(source.reasons, (kind, comment), each.n)
    return sources, seen


def _count(into: dict[Any, int], key: tuple[str, ...], n: int) -> None:
    into[key] = into.get(key, 0) + n


def _look_up(context: Context, sources: Sequence[SourceRow], seen: Mapping[int, SourceSeen], now: datetime) -> None:
    """Give each source the name of its address; names that are not known, or old, are looked up and stored."""
    known = context.store.transaction(lambda c: store.hosts_of(c, {bytes(row.ip) for row in sources}))
    by_mail = sorted(sources, key=lambda row: -seen[row.id].messages)
    to_ask = [bytes(row.ip) for row in by_mail if not _holds(known.get(bytes(row.ip)), now)][:_MAX_NAMES]
    answers: dict[int, tuple[str, bool]] = {}

    def done(number: int, answer: tuple[str, bool] | Exception) -> bool:
        answers[number] = answer if isinstance(answer, tuple) else ("", False)
        return True

    context.resolver.run_many((confirmed_host(_text(ip)) for ip in to_ask), done=done)
    at = now.replace(tzinfo=None)
    found = []
    for number, ip in enumerate(to_ask):
        host, answered = answers.get(number, ("", False))
        before = known.get(ip)
        if not answered and before is not None and before.answered:
            continue  # what is known holds on until DNS answers
        found.append((ip, host[:253], answered, at))
        known[ip] = HostRow(ip, host, answered, at)
    if found:
        context.store.transaction(lambda c: store.put_hosts(c, found))
    for row in sources:
        host_row = known.get(bytes(row.ip))
        if host_row is not None:
            seen[row.id].host, seen[row.id].host_known = host_row.host, host_row.answered


def _look_up_helo(
    context: Context, sources: Sequence[SourceRow], seen: Mapping[int, SourceSeen], now: datetime
) -> None:
    """Give each source those of its HELO names that have its address; what is not known, or old, is looked up."""
    by_mail = sorted((row for row in sources if seen[row.id].helo), key=lambda row: -seen[row.id].messages)
    names = {bytes(row.ip): _most_used(seen[row.id].helo) for row in by_mail}
    known = context.store.transaction(lambda c: store.helo_hosts_of(c, names))
    to_ask = [(ip, name) for ip in names for name in names[ip] if not _helo_holds(known.get((ip, name)), now)]
    to_ask = to_ask[:_MAX_NAMES]
    found: list[HeloRow] = []

    def done(number: int, answer: bool | Exception | None) -> bool:
        ip, name = to_ask[number]
        before = known.get((ip, name))
        has_address = None if isinstance(answer, Exception) else answer
        if has_address is None and before is not None:
            has_address = before.has_address  # what is known holds on until DNS answers
        found.append(HeloRow(ip, name, has_address, now.replace(tzinfo=None)))
        return True

    context.resolver.run_many((leads_to(name, _text(ip)) for ip, name in to_ask), done=done)
    if found:
        context.store.transaction(lambda c: store.put_helo_hosts(c, found))
        known |= {(row.ip, row.name): row for row in found}
    for row in by_mail:
        ip = bytes(row.ip)
        seen[row.id].helo_hosts = {name for name in names[ip] if (at := known.get((ip, name))) and at.has_address}


def _most_used(helo: Mapping[tuple[str, str], int]) -> list[str]:
    """Return the HELO names of an address that most of its mail gave."""
    ranked = sorted(helo, key=lambda key: (-helo[key], key))
    return list(dict.fromkeys(name for name, _ in ranked))[:_MAX_HELO]


def _holds(row: HostRow | None, now: datetime) -> bool:
    if row is None:
        return False
    return now.replace(tzinfo=None) - row.looked_up_at < (_NAMES_HOLD if row.answered else _UNANSWERED_HOLDS)


def _helo_holds(row: HeloRow | None, now: datetime) -> bool:
    if row is None:
        return False
    holds = _UNANSWERED_HOLDS if row.has_address is None else _NAMES_HOLD
    return now.replace(tzinfo=None) - row.looked_up_at < holds


def _known(context: Context, tenant_id: int, domain_id: int, name: str) -> Known:
    """Return what the tenant knows of a domain's mail: relays, streams, keys, its SPF record, decisions."""

    def read(
        connection: Connection,
    ) -> tuple[DomainRow, tuple[Relay, ...], dict[str, DecisionRow], dict[str, list[str]]]:
        row = store_domains.list_domains(connection, tenant_id, name=name)[0]
        relays = described_relays(connection, tenant_id)
        decided = store.list_decisions(connection, domain_id)
        return row, relays, decided, _selectors(connection, tenant_id)

    row, relays, decided, kept = context.store.transaction(read)
    paths = sending_paths(row, relays)
    record = _networks(context, name)
    keys = {key for path in paths for key in path.keys} | {(name, selector) for selector in kept.get(name, ())}
    keys |= {(name, selector) for selector in row.selectors}
    included = {
        relay.name: [network for network, _ in _networks(context, relay.filled(relay.include, name))]
        for relay in relays
        if relay.include
    }
    return Known(
        name,
        tuple(_relay(relay, name, included.get(relay.name, ())) for relay in relays),
        {stream.name: networks_of(stream.ips) for stream in planned_streams(row) if stream.ips},
        frozenset(keys),
        tuple((network, via) for text, via in record for network in networks_of([text])),
        {group: Verdict(decision.verdict) for group, decision in decided.items()},
    )


def _selectors(connection: Connection, tenant_id: int) -> dict[str, list[str]]:
    """Return selectors that messages and reports showed, by domain."""
    out: dict[str, list[str]] = defaultdict(list)
    for key in ("selectors-seen", "selectors-reported"):
        for domain, names in (store_audits.get_setting(connection, tenant_id, key) or {}).items():
            out[domain] += names
    return out


def _networks(context: Context, domain: str) -> tuple[tuple[str, str], ...]:
    """Return whom a domain's SPF record lets send; none where DNS gave no usable answer."""
    try:
        return context.resolver.run(authorised_networks(domain), within=_WITHIN)
    except RustGaugeError:
        return ()


def _relay(relay: Relay, domain: str, included: Sequence[str]) -> KnownRelay:
    named = [relay.include, *(host.helo for host in relay.hosts)]
    named += [key.value for key in relay.dkim if key.rdtype == "CNAME"]
    if relay.return_path is not None:
        named.append(relay.return_path.value)
    filled = [relay.filled(text, domain).rstrip(".").lower() for text in named if text and "." in text]
    domains = {registered_domain(text) for text in filled} - {registered_domain(domain), ""}
    return KnownRelay(
        relay.name, networks_of([host.ip for host in relay.hosts] + list(relay.networks) + list(included)),
        frozenset(domains),
    )  # fmt: skip


def _text(ip: bytes) -> str:
    return str(ip_address(bytes(ip)))
