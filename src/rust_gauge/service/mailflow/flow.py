"""Mail flow per provider, from the counters."""

from collections import Counter, defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.contract.flow import (
    CauseRow,
    Causes,
    CauseSeries,
    Counts,
    Flow,
    FlowComparison,
    FlowDays,
    FlowNames,
    FlowRow,
    FlowSeries,
    Rate,
    RateDifference,
    ReplyPattern,
)
from rust_gauge.core.mailflow import FlowCounts, difference
from rust_gauge.core.mailflow import Rate as CoreRate
from rust_gauge.core.mailflow.counting import Count, time_quantile
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.mailflow.names import label_id, part_id
from rust_gauge.service.providers.providers import ALL, ALL_LABEL, Columns, columns_of
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import flow as store_flow
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.flow import FlowFilter, FlowLine
from rust_gauge.store.intake import CAMPAIGN, IP, TAG
from rust_gauge.store.tables import OTHER_PROVIDERS

_NEW_AFTER = timedelta(days=28)  # a cause that was not met for so long is new


@dataclass(frozen=True, slots=True)
class FlowQuery:
    """A part of the mail: by domain, stream and relay; or by sending address, campaign or tag, and domain."""

    domain: str | None = None
    stream: str | None = None
    relay: str | None = None
    ip: str | None = None
    campaign: str | None = None
    tag: str | None = None
    first: date | None = None
    last: date | None = None


def _period(context: Context, query: FlowQuery) -> tuple[date, date]:
    """Both ends. Without dates: the last seven days, today included."""
    today = context.clock().date()
    last = query.last or today
    first = query.first or last - timedelta(days=6)
    if first > last:
        raise ServiceProblem("invalid-request", f"The period starts ({first}) after its end ({last})")
    length = (last - first).days + 1
    if length > 800:
        raise ServiceProblem("invalid-request", f"A period of {length} days is too long; the limit is 800")
    return first, last


def _filter(context: Context, tenant: TenantAccess, query: FlowQuery) -> FlowFilter:
    """Names as ids. ServiceProblem when one is not known, or two are asked for that are not counted together."""
    domain_id = find_domain(context, tenant, query.domain).id if query.domain else None
    labels = [(what, name) for what, name in ((IP, query.ip), (CAMPAIGN, query.campaign), (TAG, query.tag)) if name]
    if len(labels) > 1 or (labels and (query.stream or query.relay)):
        what = "Sending IP, campaign and tag cannot be combined"
        raise ServiceProblem("invalid-request", what, remedy="Use one of them, alone or with a domain")

    def find(connection: Connection) -> FlowFilter:
        ids: dict[str, int | None] = {}
        if query.stream is not None:
            ids["stream_id"] = part_id(connection, tenant, "stream", query.stream)
        if query.relay is not None:
            ids["relay_id"] = part_id(connection, tenant, "relay", query.relay)
        for what, name in labels:
            ids["label_id"] = label_id(connection, tenant, what, name)
        return FlowFilter(domain_id=domain_id, **ids)

    return context.store.transaction(find)


def get_flow(context: Context, tenant: TenantAccess, query: FlowQuery) -> Flow:
    """Mail of a period beside the period before."""
    first, last = _period(context, query)
    today = context.clock().date()
    where = _filter(context, tenant, query)
    span = last - first + timedelta(days=1)

    def read(connection: Connection) -> Flow:
        columns = columns_of(connection, tenant.id, today)
        reporting = store_flow.reporting_providers(connection, today - store_flow.REPORTS_WITHIN)
        lines = store_flow.flow_lines(connection, tenant.id, first, last, where)
        earlier = store_flow.flow_lines(connection, tenant.id, first - span, last - span, where)
        times: dict[int, Counter[int]] = defaultdict(Counter)
        for id, buckets in store_flow.times_to_delivery(connection, tenant.id, first, last, where).items():
            times[columns.place(id)].update(buckets)
        now_by, before_by = _by_place(lines, columns.place), _by_place(earlier, columns.place)
        # Complaints are counted of the mail at providers that report them, overall and among the others, too.
        heard_by = _by_place([line for line in lines if line.provider_id in reporting], columns.place)
        others_report = any(columns.place(id) == OTHER_PROVIDERS for id in reporting)
        rows = []
        for id in [*columns.names, OTHER_PROVIDERS]:
            counts, before = now_by.get(id, FlowCounts()), before_by.get(id, FlowCounts())
            if counts != FlowCounts() or before != FlowCounts():
                reports = id in reporting or (id == OTHER_PROVIDERS and others_report)
                heard = heard_by[id] if reports else None
                rows.append(_row(columns.name(id), columns.label(id), counts, before, heard, times[id]))
        all_times = sum(times.values(), Counter[int]())
        heard = _sum(heard_by.values()) if reporting else None
        total = _row(ALL, ALL_LABEL, _sum(now_by.values()), _sum(before_by.values()), heard, all_times)
        return Flow(
            tenant=tenant.slug, domain=query.domain, first_day=first, last_day=last, total=total, providers=rows,
            causes=_causes(lines),
        )  # fmt: skip

    return context.store.read(read)


def show_days(context: Context, tenant: TenantAccess, query: FlowQuery) -> FlowDays:
    """Mail of a period day by day, for plots."""
    first, last = _period(context, query)
    where = _filter(context, tenant, query)
    length = (last - first).days + 1
    today = context.clock().date()

    def read(connection: Connection) -> FlowDays:
        columns = columns_of(connection, tenant.id, today)
        reporting = store_flow.reporting_providers(connection, today - store_flow.REPORTS_WITHIN)
        reporting |= {OTHER_PROVIDERS} if any(columns.place(id) == OTHER_PROVIDERS for id in reporting) else set()
        days: dict[int, list[FlowCounts]] = defaultdict(lambda: [FlowCounts() for _ in range(length)])
        for day, line in store_flow.flow_days(connection, tenant.id, first, last, where):
            for place in (0, columns.place(line.provider_id)):
                days[place][(day - first).days].add(line.kind, line.permanence, line.n)
        places = [id for id in [*columns.names, OTHER_PROVIDERS] if id in days]
        series = [_series(columns.name(id), columns.label(id), id in reporting, days[id]) for id in places]
        return FlowDays(
            first_day=first, last_day=last, series=[_series(ALL, ALL_LABEL, bool(reporting), days[0]), *series]
        )

    return context.store.read(read)


def _series(provider: str, label: str, reports: bool, days: list[FlowCounts]) -> FlowSeries:
    return FlowSeries(
        provider=provider, label=label, reports_complaints=reports, delivered=[day.delivered for day in days],
        attempted=[day.attempted for day in days], permanent=[day.bounced_permanent for day in days],
        transient=[day.bounced_transient for day in days], delayed=[day.delayed for day in days],
        complained=[day.complained for day in days], unsubscribed=[day.unsubscribed for day in days],
    )  # fmt: skip


def get_causes(context: Context, tenant: TenantAccess, query: FlowQuery) -> Causes:
    """Causes of bounces and delays over time, per provider, with a reply of each and what is new."""
    first, last = _period(context, query)
    where = _filter(context, tenant, query)
    length = (last - first).days + 1

    def read(connection: Connection) -> Causes:
        columns = columns_of(connection, tenant.id, context.clock().date())
        back = first - max(_NEW_AFTER, timedelta(days=length))
        rows: dict[tuple[int, Cause], dict[str, Any]] = {}
        for day, provider, cause, bounced, n in store_flow.cause_days(connection, tenant.id, back, last, where):
            row = rows.setdefault(
                (columns.place(provider), cause),
                {"days": [0] * length, "bounced": 0, "delayed": 0, "before": 0, "known": False},
            )
            if day >= first:
                row["days"][(day - first).days] += n
                row["bounced" if bounced else "delayed"] += n
            else:
                row["known"] = True
                row["before"] += n if day >= first - timedelta(days=length) else 0
        examples = _examples(connection, tenant.id, first, last, columns)
        made = [
            CauseSeries(
                provider=columns.name(id), label=columns.label(id), cause=str(cause), bounced=row["bounced"],
                delayed=row["delayed"], before=row["before"], is_new=not row["known"], days=row["days"],
                example=examples.get((id, cause), examples.get((0, cause), "")),
            )
            for (id, cause), row in rows.items()
            if row["bounced"] or row["delayed"]
        ]  # fmt: skip
        made.sort(key=lambda row: -(row.bounced + row.delayed))
        return Causes(first_day=first, last_day=last, rows=made[:200])

    return context.store.read(read)


def _examples(
    connection: Connection, tenant_id: int, first: date, last: date, columns: Columns
) -> dict[tuple[int, Cause], str]:
    """The commonest reply of each cause, at each provider and (0) anywhere."""
    out: dict[tuple[int, Cause], str] = {}
    for row in store_flow.reply_patterns(connection, tenant_id, first, last, None, 2000):
        cause = Cause.from_number(row.cause)
        for id in {columns.place(int(text)) for text in str(row.providers).split(",")} | {0}:
            # An example with an address of another provider would mislead: then the reply pattern itself is shown.
            out.setdefault((id, cause), row.example if "," not in str(row.providers) else row.reply_pattern)
    return out


def list_reply_patterns(
    context: Context, tenant: TenantAccess, first: date | None, last: date | None, cause: str | None, limit: int
) -> list[ReplyPattern]:
    """Reply patterns of replies, the most frequent first; those that no rule knows with `unclassified`."""
    begin, end = _period(context, FlowQuery(first=first, last=last))
    chosen = Cause(cause) if cause else None

    def read(connection: Connection) -> list[ReplyPattern]:
        columns = columns_of(connection, tenant.id, context.clock().date())
        return [
            ReplyPattern(
                id=row.id, pattern=row.reply_pattern, example=row.example, cause=str(Cause.from_number(row.cause)),
                count=int(row.n), first_seen_at=row.first_seen_at,
                providers=sorted({columns.label(columns.place(int(text))) for text in str(row.providers).split(",")}),
            )
            for row in store_flow.reply_patterns(connection, tenant.id, begin, end, chosen, limit)
        ]  # fmt: skip

    return context.store.read(read)


def list_names(context: Context, tenant: TenantAccess) -> FlowNames:
    """Return the names by which mail can be filtered."""
    return FlowNames(**context.store.read(lambda c: store_flow.names_of(c, tenant.id)))


def compare(context: Context, tenant: TenantAccess, one: FlowQuery, other: FlowQuery) -> FlowComparison:
    """Two parts of the mail beside each other, with the interval of each difference."""
    first, last = _period(context, one)
    filters = [_filter(context, tenant, flow_query) for flow_query in (one, other)]

    def read(connection: Connection) -> FlowComparison:
        columns = columns_of(connection, tenant.id, context.clock().date())
        sides = [
            _by_place(store_flow.flow_lines(connection, tenant.id, first, last, where), columns.place)
            for where in filters
        ]
        places = [id for id in [*columns.names, OTHER_PROVIDERS] if any(id in side for side in sides)]
        reporting = store_flow.reporting_providers(connection, context.clock().date() - store_flow.REPORTS_WITHIN)
        reporting |= {OTHER_PROVIDERS} if any(columns.place(id) == OTHER_PROVIDERS for id in reporting) else set()
        names = (_called(one), _called(other))
        # Complaints are only compared where they are reported.
        heard = [_sum(counts for id, counts in side.items() if id in reporting) for side in sides]
        return FlowComparison(
            first_day=first, last_day=last, first=names[0], second=names[1],
            rates=_differences(_sum(sides[0].values()), _sum(sides[1].values()), names, heard),
            providers={
                columns.label(id): _differences(
                    sides[0].get(id, FlowCounts()), sides[1].get(id, FlowCounts()), names,
                    None if id in reporting else [],
                )
                for id in places
            },
        )  # fmt: skip

    return context.store.read(read)


def _called(query: FlowQuery) -> str:
    parts = [query.domain, query.stream, query.relay, query.ip, query.campaign, query.tag]
    return " ".join(part for part in parts if part) or "all mail"


_COMPARED = (  # name, attribute, whether more of it is better
    ("permanent bounces", "permanent_rate", False),
    ("transient bounces", "transient_rate", False),
    ("delayed", "delay_rate", False),
    ("complaints", "complaint_rate", False),
    ("unsubscribed", "unsubscribe_rate", False),
    ("opened", "open_rate", True),
)


def _differences(
    first: FlowCounts, second: FlowCounts, names: tuple[str, str], heard: list[FlowCounts] | None = None
) -> list[RateDifference]:
    """`heard`: both sides where complaints are reported; empty when nobody reports them; None when all of it is."""
    out = []
    for name, attribute, more_is_better in _COMPARED:
        one, two = getattr(first, attribute), getattr(second, attribute)
        said = "no mail on one side"
        if attribute == "complaint_rate" and heard is not None:
            one, two = (flow_counts.complaint_rate for flow_counts in heard) if heard else (None, None)
            said = (
                "no provider of this mail sends reports" if one is None and two is None else "reported on one side only"
            )
        row = RateDifference(name=name, first=_rate(one), second=_rate(two), summary=said)
        if one is not None and two is not None:
            found = difference(one, two)
            said, better = "not enough mail to decide", None
            if found.can_be_told:
                is_second = (found.value > 0) == more_is_better
                said, better = f"{names[is_second]} is better", "second" if is_second else "first"
            row = RateDifference(
                name=name, first=row.first, second=row.second, difference=found.value, low=found.low, high=found.high,
                better=better, summary=said,
            )  # fmt: skip
        out.append(row)
    return out


def _by_place(lines: Iterable[FlowLine], place: object) -> dict[int, FlowCounts]:
    out: dict[int, FlowCounts] = defaultdict(FlowCounts)
    for line in lines:
        out[place(line.provider_id)].add(line.kind, line.permanence, line.n)  # type: ignore[operator]
    return out


def _sum(counts: Iterable[FlowCounts]) -> FlowCounts:
    return sum(counts, FlowCounts())


def _row(
    provider: str, label: str, counts: FlowCounts, before: FlowCounts, heard: FlowCounts | None, times: Counter[int]
) -> FlowRow:
    """Make a row. `heard`: the counts at providers that report complaints; None where none does."""
    return FlowRow(
        provider=provider,
        label=label,
        counts=Counts.model_validate(counts, from_attributes=True),
        permanent=_rate(counts.permanent_rate),
        transient=_rate(counts.transient_rate),
        delayed=_rate(counts.delay_rate),
        complaints=_rate(heard.complaint_rate) if heard else None,
        reports_complaints=heard is not None,
        unsubscribed=_rate(counts.unsubscribe_rate),
        seconds_p50=time_quantile(times.items(), 0.5),
        seconds_p95=time_quantile(times.items(), 0.95),
        before=Counts.model_validate(before, from_attributes=True),
    )


def _rate(rate: CoreRate | None) -> Rate | None:
    return Rate.model_validate(rate, from_attributes=True) if rate is not None else None


def _causes(lines: Iterable[FlowLine]) -> list[CauseRow]:
    sums: dict[Cause, list[int]] = defaultdict(lambda: [0, 0])
    for line in lines:
        if line.kind in (Count.BOUNCED, Count.DELAYED):
            sums[line.cause][line.permanence is Permanence.PERMANENT] += line.n
    ordered = sorted(sums.items(), key=lambda item: -sum(item[1]))
    return [CauseRow(cause=str(cause), transient=n[0], permanent=n[1]) for cause, n in ordered]
