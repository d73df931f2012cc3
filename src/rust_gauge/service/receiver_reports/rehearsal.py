"""Trying a stricter DMARC policy on past reports: whose mail it would have hit at which receivers, and what to fix."""

from collections import Counter, defaultdict
from collections.abc import Sequence
from datetime import date

from sqlalchemy import Connection

from rust_gauge.contract.receiver_reports import (
    Rehearsal,
    RehearsalPolicy,
    RehearsedGroup,
    RehearsedReceiver,
    RehearsedSource,
)
from rust_gauge.core.dmarc.changed import changed_policy
from rust_gauge.core.reports.lookups import name_exists
from rust_gauge.core.reports.outcomes import Outcome
from rust_gauge.core.reports.rehearsal import Tried, TriedPolicy, would_hit
from rust_gauge.core.reports.sources import Verdict
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.plans.published import PublishedPolicy, published_policy
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.periods import period_of
from rust_gauge.store import report_sources as store
from rust_gauge.store.accounts import TenantAccess

_LISTED = 100
_NAMES = 200  # subdomains that are looked up for `np`, those with most mail
_ORDER = (Verdict.OURS, Verdict.UNKNOWN, Verdict.FORWARDED, Verdict.NOT_OURS)


def rehearse(context: Context, tenant: TenantAccess, name: str, body: RehearsalPolicy) -> Rehearsal:
    """Try a policy on a domain's reports. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    first, last = period_of(context, body.days, body.last)
    published = published_policy(context, row.name)
    policy = tried_policy(body)
    missing, unknown = _missing_names(context, row.id, first, last) if body.np else ([], 0)
    rehearsal = context.store.read(lambda c: _rehearse(c, tenant.id, row.id, first, last, policy, missing))
    groups, receivers, to_fix, quiet, days = rehearsal
    return Rehearsal(
        domain=row.name, first=first, last=last, policy=body, record=_record(published, body),
        record_state=published.state, groups=groups, receivers=receivers,
        to_fix=to_fix, quiet_days=quiet, days_with_reports=days, summary=_summary(groups, days, body),
        missing_names=missing[:_LISTED], names_not_measured=unknown,
    )  # fmt: skip


def _record(published: PublishedPolicy, body: RehearsalPolicy) -> str:
    """Return the record to publish; empty where the tags of the one that it replaces are not known."""
    if published.state == "no_answer":
        return ""
    base = published.record or (published.governing.record if published.governing else "")
    return changed_policy(base, tags_of(body))


def _missing_names(context: Context, domain_id: int, first: date, last: date) -> tuple[list[str], int]:
    """Return the From domains below a domain that do not exist, and for how many DNS gave no answer."""
    rows = context.store.read(lambda c: store.names_below(c, domain_id, first, last))
    names = [row.name for row in rows[:_NAMES]]
    found: dict[int, bool | None] = {}

    def done(number: int, answer: bool | Exception | None) -> bool:
        found[number] = None if isinstance(answer, Exception) else answer
        return True

    context.resolver.run_many((name_exists(name) for name in names), done=done)
    missing = [name for number, name in enumerate(names) if found.get(number) is False]
    return missing, sum(found.get(number) is None for number in range(len(names)))


def tried_policy(body: RehearsalPolicy) -> TriedPolicy:
    """Return the policy as the core tries it."""
    return TriedPolicy(body.p, body.sp, body.np, body.pct, body.testing, body.aspf == "s", body.adkim == "s")


def tags_of(body: RehearsalPolicy) -> dict[str, str]:
    """Return the tags of the record that publishes the policy."""
    return {
        "p": body.p, "sp": body.sp, "np": body.np, "pct": "" if body.pct == 100 else str(body.pct),
        "t": "y" if body.testing else "", "aspf": body.aspf, "adkim": body.adkim,
    }  # fmt: skip


Rehearsed = tuple[list[RehearsedGroup], list[RehearsedReceiver], list[RehearsedSource], int, int]


def _rehearse(
    connection: Connection, tenant_id: int, domain_id: int, first: date, last: date, policy: TriedPolicy,
    missing: Sequence[str],
) -> Rehearsed:  # fmt: skip
    """Return mail by verdict, by receiver, the sources to fix, and for how many days nothing of ours was hit."""
    by_verdict: dict[Verdict, Tried] = {verdict: Tried() for verdict in _ORDER}
    at: dict[int, Tried] = defaultdict(Tried)
    ours_at: dict[int, Tried] = defaultdict(Tried)
    newest: date | None = None
    days: set[date] = set()
    of_missing: Counter[tuple[date, int, str, int]] = Counter()
    by_group: Counter[tuple[str, str, int]] = Counter()
    for mail in store.mail_from_names(connection, domain_id, missing, first, last) if missing else ():
        of_missing[mail.day, mail.receiver_id, mail.verdict, mail.outcome] += mail.n
        by_group[mail.verdict, mail.group_name, mail.outcome] += mail.n
    for each in store.sums_by_verdict(connection, domain_id, first, last):
        verdict, outcome = Verdict(each.verdict), Outcome(each.outcome)
        counted = (policy, outcome, each.n, of_missing[each.day, each.receiver_id, each.verdict, each.outcome])
        days.add(each.day)
        by_verdict[verdict].add(*counted)
        at[each.receiver_id].add(*counted)
        if verdict is Verdict.OURS:
            ours_at[each.receiver_id].add(*counted)
        if verdict in (Verdict.OURS, Verdict.UNKNOWN) and would_hit(*counted):
            newest = max(newest or each.day, each.day)
    names = store.receiver_names(connection, tenant_id)
    groups = [RehearsedGroup(verdict=verdict.value, **_numbers(tried)) for verdict, tried in by_verdict.items()]
    receivers = [
        RehearsedReceiver(
            receiver=names[id][0], label=names[id][1], ours_hit=round(ours_at[id].hit, 2), **_numbers(tried)
        )
        for id, tried in sorted(at.items(), key=lambda item: (-ours_at[item[0]].hit, -item[1].messages))
        if id in names
    ]  # fmt: skip
    quiet = (last - newest).days if newest else (last - first).days + 1
    to_fix = _to_fix(connection, domain_id, first, last, policy, by_group)
    return groups, receivers[:_LISTED], to_fix, quiet, len(days)


def _numbers(tried: Tried) -> dict[str, float]:
    return {
        "messages": tried.messages, "aligned": tried.aligned, "quarantined": round(tried.quarantined, 2),
        "rejected": round(tried.rejected, 2),
    }  # fmt: skip


def _to_fix(
    connection: Connection, domain_id: int, first: date, last: date, policy: TriedPolicy,
    of_missing: Counter[tuple[str, str, int]],
) -> list[RehearsedSource]:  # fmt: skip
    tried: dict[tuple[Verdict, str], Tried] = defaultdict(Tried)
    hit_on: dict[tuple[Verdict, str], date] = {}
    for each in store.sums_by_group(connection, domain_id, first, last):
        if each.verdict == Verdict.NOT_OURS:
            continue
        key, outcome = (Verdict(each.verdict), each.group_name), Outcome(each.outcome)
        counted = (policy, outcome, each.n, of_missing[each.verdict, each.group_name, each.outcome])
        tried[key].add(*counted)
        if would_hit(*counted):
            hit_on[key] = max(hit_on.get(key, date.min), each.last_day)
    certainty = {
        (Verdict(head.verdict), head.group_name): head.certainty
        for head in store.heads_of_groups(connection, domain_id, first, last)
    }
    found = sorted(hit_on, key=lambda key: (_ORDER.index(key[0]), -tried[key].hit, key[1]))
    return [
        RehearsedSource(
            source=key[1], verdict=key[0].value, certainty=certainty[key], last_hit=hit_on[key],
            remedy=_remedy(key[0], key[1], tried[key]), **_numbers(tried[key]),
        )
        for key in found[:_LISTED]
    ]  # fmt: skip


def _remedy(verdict: Verdict, name: str, tried: Tried) -> str:
    if verdict is Verdict.OURS and not tried.aligned:
        return f"Nothing of {name} aligns. Sign its mail with a key of the domain, or have the SPF record authorise it"
    if verdict is Verdict.OURS:
        return f"Some mail of {name} does not align. Open the source to see which stream and which results"
    if verdict is Verdict.UNKNOWN:
        return f"Decide whether {name} is yours: claim it, or mark it as not yours"
    return "Forwarded mail passes only where its DKIM signature survives. Sign all streams; the rest depends on others"


def _summary(groups: list[RehearsedGroup], days: int, body: RehearsalPolicy) -> str:
    ours = next(group for group in groups if group.verdict == "ours")
    unknown = next(group for group in groups if group.verdict == "unknown")
    if not days:
        return f"No reports in {body.days} days: nothing is known of what this policy would do"
    hit = ours.quarantined + ours.rejected
    share = f"{100 * hit / ours.messages:.2f} %" if ours.messages else "0 %"
    other = unknown.quarantined + unknown.rejected
    more = f"; {round(other):,} messages of unknown sources" if other else ""
    return f"{round(hit):,} of {ours.messages:,} messages of ours ({share}) would be quarantined or rejected{more}"
