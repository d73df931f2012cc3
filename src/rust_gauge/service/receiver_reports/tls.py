"""How mail to a domain was encrypted, by TLS reports (RFC 8460), and what MTA-STS in mode enforce would have done."""

from collections import defaultdict
from collections.abc import Sequence
from datetime import date, datetime, time, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.receiver_reports import (
    StsRehearsal,
    TlsDay,
    TlsFailureSeen,
    TlsOverview,
    TlsPolicyReported,
    TlsReceiver,
)
from rust_gauge.core.reports.tls_results import result_of
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.store import receiver_reports as store_reports
from rust_gauge.store import report_sources, report_tls
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.domains import DomainRow
from rust_gauge.store.report_tls import TlsSum

_LISTED = 50


def get_tls(context: Context, tenant: TenantAccess, name: str, days: int, last: date | None) -> TlsOverview:
    """Return sessions of a period by result, receiver and MX. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    first, last = period_of(context, days, last)
    return context.store.read(lambda c: tls_of(c, tenant.id, row, first, last))


def tls_of(connection: Connection, tenant_id: int, row: DomainRow, first: date, last: date) -> TlsOverview:
    """The same, within a transaction."""
    sums = report_tls.sums(connection, row.id, first, last)
    names = report_sources.receiver_names(connection, tenant_id)
    by_day: dict[date, list[int]] = defaultdict(lambda: [0, 0])
    by_receiver: dict[int, list[int]] = defaultdict(lambda: [0, 0])
    for each in sums:
        failed = bool(each.result)
        by_day[each.day][failed] += each.sessions
        by_receiver[each.receiver_id][failed] += each.sessions
    return TlsOverview(
        domain=row.name, first=first, last=last, successful=sum(n for n, _ in by_day.values()),
        failed=sum(n for _, n in by_day.values()),
        days=[TlsDay(day=day, successful=n[0], failed=n[1]) for day, n in sorted(by_day.items())],
        failures=_failures(sums, names),
        receivers=[
            TlsReceiver(receiver=names[id][0], label=names[id][1], successful=n[0], failed=n[1])
            for id, n in sorted(by_receiver.items(), key=lambda item: (-item[1][1], -item[1][0]))
            if id in names
        ],
        policies=_policies(connection, tenant_id, row, first, last),
        rehearsal=_rehearsal(sums, first, last),
    )  # fmt: skip


def _failures(sums: Sequence[TlsSum], names: dict[int, tuple[str, str]]) -> list[TlsFailureSeen]:
    groups: dict[str, list[TlsSum]] = defaultdict(list)
    for each in sums:
        if each.result:
            groups[each.result].append(each)
    out = []
    for name, those in groups.items():
        known = result_of(name)
        out.append(
            TlsFailureSeen(
                result=name, meaning=known.meaning, remedy=known.remedy, blocks=known.blocks,
                sessions=sum(each.sessions for each in those), mx=_each(each.mx for each in those),
                receivers=_each(names.get(each.receiver_id, ("", ""))[1] for each in those),
                reasons=_each(each.reason for each in those), first_day=min(each.day for each in those),
                last_day=max(each.day for each in those),
            )
        )  # fmt: skip
    return sorted(out, key=lambda each: (-each.sessions, each.result))[:_LISTED]


def _each(words: object) -> list[str]:
    return list(dict.fromkeys(word for word in words if word))[:20]  # type: ignore[attr-defined]


def _policies(
    connection: Connection, tenant_id: int, row: DomainRow, first: date, last: date
) -> list[TlsPolicyReported]:
    """Return the policies that senders saw in a period, newest first."""
    until = datetime.combine(last, time()) + timedelta(days=1)
    since = datetime.combine(first, time())
    current = str(row.plan.get("sts_policy", "")).split()
    seen: dict[tuple[str, tuple[str, ...]], TlsPolicyReported] = {}
    for report in store_reports.list_reports(connection, tenant_id, domain=row.name, kind="tls", limit=500):
        if not since <= report.begins_at < until:
            continue
        for policy in report.document.get("tls", ()):
            if policy["domain"] != row.name:
                continue
            key = (policy["kind"], tuple(policy["text"]))
            found = seen.get(key)
            if found is None:
                same = " ".join(policy["text"]).split() == current if current and policy["text"] else None
                seen[key] = TlsPolicyReported(
                    kind=policy["kind"], text=list(policy["text"]), receivers=[report.label],
                    last_day=report.ends_at.date(), is_current=same,
                )  # fmt: skip
            elif report.label not in found.receivers:
                found.receivers.append(report.label)
    return sorted(seen.values(), key=lambda each: each.last_day, reverse=True)[:_LISTED]


def _rehearsal(sums: Sequence[TlsSum], first: date, last: date) -> StsRehearsal:
    hit = [each for each in sums if each.result and result_of(each.result).blocks]
    sessions, kept_back = sum(each.sessions for each in sums), sum(each.sessions for each in hit)
    days = len({each.day for each in sums})
    quiet = (last - max(each.day for each in hit)).days if hit else (last - first).days + 1
    if not sums:
        summary = "No TLS reports in this period: nothing is known of what mode enforce would do"
    elif not hit:
        summary = f"Mode enforce would have kept back none of {sessions:,} sessions"
    else:
        share = 100 * kept_back / sessions
        summary = f"Mode enforce would have kept back {kept_back:,} of {sessions:,} sessions ({share:.2f} %)"
    return StsRehearsal(sessions=sessions, kept_back=kept_back, days=days, quiet_days=quiet, summary=summary)
