"""Who sends as a domain, as people see it: an overview, one source, and decisions about sources."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from ipaddress import ip_address
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.receiver_reports import (
    DomainChangeThen,
    FailureSeen,
    ReceiverCount,
    ReportDay,
    ReportedDomain,
    Source,
    SourceAddress,
    SourceClaim,
    SourceDay,
    SourceDecision,
    SourceDetails,
    SourceEvidence,
    SourceIdentity,
    SourceMail,
    SourceOverview,
    UnknownName,
    VerdictMail,
)
from rust_gauge.contract.relays import RelayDescription, RelayHost
from rust_gauge.core.reports.outcomes import Outcome
from rust_gauge.core.reports.sources import Verdict
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.domains.relays import described
from rust_gauge.service.receiver_reports.judging import judge_domain
from rust_gauge.service.receiver_reports.reports import reasons_of, signatures_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import domains as store_domains
from rust_gauge.store import flow, policy_paths, providers
from rust_gauge.store import receiver_reports as store_reports
from rust_gauge.store import relays as store_relays
from rust_gauge.store import report_sources as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow
from rust_gauge.store.receiver_reports import ReportRow
from rust_gauge.store.report_sources import DecisionRow, SourceRow

_LISTED = 500  # sources, and addresses of one
_LOOKED_AT = 5000  # addresses of one
_IDENTITIES = 100
_FAILURES = 20
_FAILING = 0.2  # of a day's mail
_MORE, _LEAST = 1.25, 50  # reported mail that events do not explain: so many times as much, and so many messages more
_ORDER = {Verdict.OURS: 0, Verdict.UNKNOWN: 1, Verdict.FORWARDED: 2, Verdict.NOT_OURS: 3}


NOT_JUDGED = "(not judged yet)"
"""Name of the group of those that no one has looked at."""


@dataclass(slots=True)
class Group:
    """Addresses that are shown together, with their mail; `head` is the one with most of it."""

    name: str
    verdict: str
    mail: SourceMail = field(default_factory=SourceMail)
    first_day: date = date.max
    last_day: date = date.min
    addresses: int = 0
    certainty: float = 0.0
    head: SourceRow | None = None

    @property
    def evidence(self) -> Sequence[Mapping[str, Any]]:
        """Return what speaks for its verdict: the evidence of its head."""
        return self.head.evidence if self.head is not None else ()


def get_overview(context: Context, tenant: TenantAccess, name: str, days: int, last: date | None) -> SourceOverview:
    """Return who sends as a domain. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    first, last = period_of(context, days, last)

    def read(connection: Connection) -> SourceOverview:
        groups = groups_of(connection, row.id, first, last)
        decisions = store.list_decisions(connection, row.id)
        since, until = _midnight(first), _midnight(last) + timedelta(days=1)
        reports, receivers = store.count_reports(connection, row.id, since, until)
        return SourceOverview(
            domain=row.name, first=first, last=last, reports=reports, receivers=receivers,
            by_verdict=_by_verdict(groups),
            sources=[shown(row.name, group, decisions) for group in groups[:_LISTED]],
            days=_days(connection, row.id, first, last),
            unknown_names=[
                UnknownName(name=each.name, first_day=each.first_day, last_day=each.last_day, messages=each.n,
                            passed=each.passed)
                for each in store.names_below(connection, row.id, first, last)
            ],
            by_receiver=_by_receiver(connection, tenant.id, row.id, first, last),
            not_judged=store.count_waiting(connection, row.id),
        )  # fmt: skip

    return context.store.read(read)


def _by_receiver(
    connection: Connection, tenant_id: int, domain_id: int, first: date, last: date
) -> list[ReceiverCount]:
    """Return what each receiver reported of ours beside what our events say that it took."""
    names = store.receiver_names(connection, tenant_id)
    reported: dict[int, SourceMail] = defaultdict(SourceMail)
    days: dict[int, list[date]] = {}
    for each in store.sums_by_verdict(connection, domain_id, first, last):
        if each.verdict == Verdict.OURS and each.receiver_id in names:
            add_mail(reported[each.receiver_id], each.outcome, each.n)
            days.setdefault(each.receiver_id, [each.day, each.day])[1] = each.day
    ids = providers.known_ids(connection, {names[id][0] for id in reported})
    out = []
    for id, mail in sorted(reported.items(), key=lambda item: -item[1].messages):
        name, label = names[id]
        sent = None
        if name in ids:  # over the days that it reported on
            taken = flow.delivered_at(connection, tenant_id, [domain_id], *days[id])
            sent = sum(n for _, provider_id, n in taken if provider_id == ids[name])
        out.append(
            ReceiverCount(
                receiver=name, label=label, reported=mail.messages, not_aligned=mail.neither, sent=sent,
                unexplained=sent is not None and mail.messages > _MORE * sent + _LEAST,
            )
        )  # fmt: skip
    return out


def list_domains(context: Context, tenant: TenantAccess, days: int, last: date | None) -> list[ReportedDomain]:
    """Return the domains that receivers reported about in a period, those with most mail first."""
    first, last = period_of(context, days, last)

    def read(connection: Connection) -> list[ReportedDomain]:
        paths = {path.domain_id: path.stage for path in policy_paths.list_paths(connection, tenant.id)}
        out = []
        for domain_id, name in store.domains_with_reports(connection, tenant.id):
            newest = store.newest_day(connection, domain_id)
            mail = {verdict: SourceMail() for verdict in Verdict}
            for each in store.sums_by_verdict(connection, domain_id, first, last):
                add_mail(mail[Verdict(each.verdict)], each.outcome, each.n)
            if newest is None or not any(each.messages for each in mail.values()):
                continue
            heads = store.heads_of_groups(connection, domain_id, first, last)
            unknown = [head for head in heads if head.verdict == Verdict.UNKNOWN]
            by_verdict = {str(verdict): each for verdict, each in mail.items()}
            out.append(
                ReportedDomain(
                    domain=name, newest_day=newest, unknown_sources=len(unknown), path_stage=paths.get(domain_id, ""),
                    **by_verdict,
                )
            )  # fmt: skip
        return sorted(out, key=lambda each: (-each.ours.messages, each.domain))

    return context.store.read(read)


def groups_of(connection: Connection, domain_id: int, first: date, last: date) -> list[Group]:
    """Return the sources of a domain by group: ours first, in each verdict those with most mail first."""
    groups: dict[tuple[str, str], Group] = {}
    for total in store.sums_by_group(connection, domain_id, first, last):
        key = (total.verdict, total.group_name)
        group = groups.setdefault(key, Group(total.group_name or NOT_JUDGED, total.verdict))
        add_mail(group.mail, total.outcome, total.n)
        group.first_day = min(group.first_day, total.first_day)
        group.last_day = max(group.last_day, total.last_day)
    heads = store.heads_of_groups(connection, domain_id, first, last)
    rows = store.sources_by_id(connection, [head.source_id for head in heads])
    for head in heads:
        group = groups[head.verdict, head.group_name]
        group.addresses, group.certainty, group.head = head.addresses, head.certainty, rows[head.source_id]
    return sorted(groups.values(), key=lambda group: (_ORDER[Verdict(group.verdict)], -group.mail.messages, group.name))


def add_mail(mail: SourceMail, outcome: int, n: int) -> None:
    """Count messages with an outcome."""
    found = Outcome(outcome)
    spf, dkim = bool(found & Outcome.SPF), bool(found & Outcome.DKIM)
    mail.messages += n
    mail.both += n if spf and dkim else 0
    mail.spf_only += n if spf and not dkim else 0
    mail.dkim_only += n if dkim and not spf else 0
    mail.neither += n if not found.aligned else 0
    mail.quarantined += n if found & Outcome.QUARANTINED else 0
    mail.rejected += n if found & Outcome.REJECTED else 0
    mail.overridden += n if found & Outcome.OVERRIDDEN else 0


def _by_verdict(groups: Iterable[Group]) -> list[VerdictMail]:
    out = {verdict: VerdictMail(verdict=verdict.value, mail=SourceMail(), sources=0) for verdict in _ORDER}
    for group in groups:
        total = out[Verdict(group.verdict)]
        total.sources += 1
        for name in SourceMail.model_fields:
            setattr(total.mail, name, getattr(total.mail, name) + getattr(group.mail, name))
    return list(out.values())


def _days(connection: Connection, domain_id: int, first: date, last: date) -> list[ReportDay]:
    """Return each day of a period, those without reports too."""
    days = {first + timedelta(days=n): {verdict: SourceMail() for verdict in Verdict} for n in
            range((last - first).days + 1)}  # fmt: skip
    for each in store.sums_by_verdict(connection, domain_id, first, last):
        add_mail(days[each.day][Verdict(each.verdict)], each.outcome, each.n)
    return [ReportDay(day=day, **{str(verdict): mail for verdict, mail in of.items()}) for day, of in days.items()]


def shown(domain: str, group: Group, decisions: Mapping[str, DecisionRow]) -> Source:
    """Return a group as the contract has it."""
    return Source.model_validate(_shown(domain, group, decisions))


def _shown(domain: str, group: Group, decisions: Mapping[str, DecisionRow]) -> dict[str, Any]:
    decision = decisions.get(group.name)
    return {
        "domain": domain, "name": group.name, "verdict": group.verdict, "certainty": round(group.certainty, 3),
        "decided_by": decision.decided_by if decision else "", "relay": decision.relay if decision else "",
        "evidence": [SourceEvidence.model_validate(each) for each in group.evidence], "mail": group.mail,
        "addresses": group.addresses, "first_day": group.first_day, "last_day": group.last_day,
    }  # fmt: skip


def get_source(
    context: Context, tenant: TenantAccess, name: str, source: str, days: int, last: date | None
) -> SourceDetails:
    """Return one source with its addresses, days and identities. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    first, last = period_of(context, days, last)
    return context.store.read(lambda c: _details(c, tenant, row, source, first, last))


def _details(
    connection: Connection, tenant: TenantAccess, row: DomainRow, source: str, first: date, last: date
) -> SourceDetails:
    group = _find(connection, row, source, first, last)
    rows = _addresses(connection, row.id, source, first, last)
    ids = [each.id for each in rows]
    by_id: dict[int, SourceMail] = defaultdict(SourceMail)
    for total in store.sums_by_source(connection, row.id, first, last, ids or [0]):
        add_mail(by_id[total.source_id], total.outcome, total.n)
    days: dict[date, SourceMail] = defaultdict(SourceMail)
    for day, outcome, n in store.days_of_sources(connection, row.id, ids, first, last):
        add_mail(days[day], outcome, n)
    hosts = store.hosts_of(connection, {bytes(each.ip) for each in rows})
    decisions = store.list_decisions(connection, row.id)
    failing = failing_since(days)
    texts = {str(ip_address(bytes(each.ip))) for each in rows}
    failures, newest = store_reports.failures_from(
        connection, row.id, sorted(texts), _midnight(first), _midnight(last) + timedelta(days=1), _FAILURES
    )
    by_mail = sorted(rows, key=lambda each: (-by_id[each.id].messages, bytes(each.ip)))
    return SourceDetails(
        **_shown(row.name, group, decisions),
        by_address=[
            SourceAddress(
                ip=str(ip_address(bytes(each.ip))), host=hosts[bytes(each.ip)].host if bytes(each.ip) in hosts else "",
                mail=by_id[each.id], first_day=each.first_day, last_day=each.last_day,
            )
            for each in by_mail[:_LISTED]
        ],
        failing_since=failing,
        changes=changes_then(connection, tenant.id, row.name, failing) if failing else [],
        by_day=[SourceDay(day=day, mail=mail) for day, mail in sorted(days.items())],
        identities=_identities(connection, tenant.id, row.id, ids, first, last),
        failures=failures,
        newest_failures=[_failure(each) for each in newest],
    )  # fmt: skip


def _failure(row: ReportRow) -> FailureSeen:
    found = row.document.get("failure", {})
    return FailureSeen(
        id=row.id, receiver=row.label, at=row.ends_at, failure=found.get("failure", ""),
        header_from=found.get("header_from", ""), subject=found.get("subject", ""),
    )  # fmt: skip


def failing_since(days: Mapping[date, SourceMail]) -> date | None:
    """Return the first of the newest days on each of which more than a fifth of the mail did not align; None where the
    newest day is not one of them."""
    first = None
    for day in sorted((day for day, mail in days.items() if mail.messages), reverse=True):
        if days[day].neither <= _FAILING * days[day].messages:
            break
        first = day
    return first


def changes_then(connection: Connection, tenant_id: int, name: str, failing: date) -> list[DomainChangeThen]:
    """Return what changed in a domain's records, and what its audits found new, from three days before its mail failed
    to the day after.
    """
    first, last = failing - timedelta(days=3), failing + timedelta(days=1)
    rows = store_domains.history_between(connection, tenant_id, first, last, name)
    return [
        DomainChangeThen(at=row.happened_at, kind="record" if row.kind.startswith("record") else "finding",
                         title=row.title)
        for row in rows
        if row.kind != "gone"
    ]  # fmt: skip


def _addresses(connection: Connection, domain_id: int, source: str, first: date, last: date) -> list[SourceRow]:
    name = "" if source == NOT_JUDGED else source
    return store.sources_of_group(connection, domain_id, name, first, last, _LOOKED_AT)


def _find(connection: Connection, row: DomainRow, source: str, first: date, last: date) -> Group:
    groups = [group for group in groups_of(connection, row.id, first, last) if group.name == source]
    if not groups:
        what = f"No source {source[:100]} sent as {row.name} from {first} to {last}"
        raise ServiceProblem("not-found", what, remedy="List the sources, or choose a longer period")
    out = groups[0]
    for other in groups[1:]:  # addresses of one network can differ in what they are
        out.addresses += other.addresses
        out.first_day, out.last_day = min(out.first_day, other.first_day), max(out.last_day, other.last_day)
        for name in SourceMail.model_fields:
            setattr(out.mail, name, getattr(out.mail, name) + getattr(other.mail, name))
    return out


def _identities(
    connection: Connection, tenant_id: int, domain_id: int, ids: Sequence[int], first: date, last: date
) -> list[SourceIdentity]:
    sums = store.identities_of(connection, domain_id, ids, first, last)
    names = store.receiver_names(connection, tenant_id)
    n: dict[int, int] = defaultdict(int)
    days: dict[int, date] = {}
    receivers: dict[int, dict[str, None]] = defaultdict(dict)
    for each in sums:
        n[each.result_id] += each.n
        days[each.result_id] = max(days.get(each.result_id, date.min), each.last_day)
        receivers[each.result_id][names.get(each.receiver_id, ("", ""))[1]] = None
    most = sorted(n, key=lambda id: (-n[id], id))[:_IDENTITIES]
    results = store_reports.results_of(connection, most)
    return [
        SourceIdentity(
            header_from=results[id].header_from, envelope_from=results[id].envelope_from,
            spf_domain=results[id].spf_domain, spf_result=results[id].spf_result, signatures=signatures_of(results[id]),
            reasons=reasons_of(results[id]), messages=n[id], receivers=list(receivers[id])[:20], last_day=days[id],
        )
        for id in most
        if id in results
    ]  # fmt: skip


# Decisions

_FAR_BACK = timedelta(days=400)


def claim(context: Context, tenant: TenantAccess, name: str, source: str, body: SourceClaim, by: str) -> Source:
    """Decide that a source is ours. Its addresses become hosts of a relay, and the relay carries a stream, where they
    are named. ServiceProblem `not-found`.
    """
    row = find_domain(context, tenant, name)
    if body.stream and not body.relay:
        raise ServiceProblem("invalid-request", "`relay` is missing: a stream is carried by a relay")
    now = context.clock()

    def write(connection: Connection) -> None:
        first, last = now.date() - _FAR_BACK, now.date()
        _find(connection, row, source, first, last)
        if body.relay:
            rows = _addresses(connection, row.id, source, first, last)
            _add_to_relay(connection, tenant.id, body.relay, rows)
        if body.stream:
            store_domains.update_domain(connection, row.id, streams=_with_relay(row, body.stream, body.relay))
        _decide(connection, tenant.id, row.id, source, Verdict.OURS, body.relay, body.note, by, now)

    context.store.transaction(write)
    return _judged(context, tenant, row, source)


def decide(context: Context, tenant: TenantAccess, name: str, source: str, body: SourceDecision, by: str) -> Source:
    """Decide that a source is not ours or forwards our mail, or take a decision back. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    now = context.clock()

    def write(connection: Connection) -> None:
        _find(connection, row, source, now.date() - _FAR_BACK, now.date())
        if body.verdict is None:
            store.delete_decision(connection, row.id, source)
            store.judge_again(connection, tenant.id, row.id)
        else:
            _decide(connection, tenant.id, row.id, source, Verdict(body.verdict), "", body.note, by, now)

    context.store.transaction(write)
    return _judged(context, tenant, row, source)


def _decide(
    connection: Connection, tenant_id: int, domain_id: int, group: str, verdict: Verdict, relay: str, note: str,
    by: str, now: datetime,
) -> None:  # fmt: skip
    store.put_decision(
        connection, domain_id=domain_id, group_name=group, tenant_id=tenant_id, verdict=verdict.value, relay=relay,
        note=note, decided_by=by, decided_at=now,
    )  # fmt: skip
    store.judge_again(connection, tenant_id, domain_id)


def _judged(context: Context, tenant: TenantAccess, row: DomainRow, source: str) -> Source:
    """Judge the domain's sources at once, so that what was decided shows; return the source as it is now."""
    judge_domain(context, tenant.id, row.id, row.name)
    today = context.clock().date()

    def read(connection: Connection) -> Source:
        decisions = store.list_decisions(connection, row.id)
        groups = groups_of(connection, row.id, today - _FAR_BACK, today)
        relay = decisions[source].relay if source in decisions else ""
        found = next((group for group in groups if group.name in (source, relay) and group.name), None)
        if found is None:
            found = _find(connection, row, source, today - _FAR_BACK, today)
        return shown(row.name, found, decisions)

    return context.store.transaction(read)


def _add_to_relay(connection: Connection, tenant_id: int, relay: str, rows: Sequence[SourceRow]) -> None:
    """Add the addresses of a source to a relay's hosts, with their names for HELO where they have one."""
    description = described(connection, tenant_id, relay)
    there = {host.ip for host in description.hosts}
    ips = {bytes(row.ip) for row in rows}
    names = {row.ip: row.name for row in store.helo_hosts_of(connection, ips).values() if row.has_address}
    names |= {ip: row.host for ip, row in store.hosts_of(connection, ips).items() if row.host}
    new = [
        RelayHost(ip=ip, helo=names.get(bytes(row.ip), ""))
        for row in rows
        if (ip := str(ip_address(bytes(row.ip)))) not in there
    ]
    room = max(0, 200 - len(description.hosts))
    if len(new) > room:
        what = f"The relay {relay} would have {len(there) + len(new)} hosts; the limit is 200"
        raise ServiceProblem("too-large", what, remedy="Describe its networks in the relay's settings, then claim it")
    known = RelayDescription.model_validate({**description.model_dump(), "hosts": [*description.hosts, *new]})
    store_relays.set_relay(connection, tenant_id, relay, known.model_dump(mode="json"))


def _with_relay(row: DomainRow, stream: str, relay: str) -> list[Mapping[str, Any]]:
    """Return a domain's streams, one of them carried by a relay as well; a new stream where none has the name."""
    out: list[Mapping[str, Any]] = []
    found = False
    for each in row.streams:
        if each["name"] == stream:
            found = True
            carried = dict.fromkeys([name for name in [each["relay"], *each.get("relays", []), relay] if name])
            first, *more = carried
            each = {**each, "relay": first, "relays": more}
        out.append(each)
    if not found:
        out.append(
            {"name": stream, "header_from": "", "envelope": "", "dkim_domain": "", "selector": "", "relay": relay,
             "relays": [], "helo": "", "ips": []}
        )  # fmt: skip
    return out


def _midnight(day: date) -> datetime:
    return datetime.combine(day, time())
