"""Reading the counters."""

from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from sqlalchemy import ColumnElement, Connection, Table, func, select

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class WordingSum:
    """A reply by its fixed part, and how often it came; `providers` are ids joined by commas."""

    id: int
    reply_pattern: str
    example: str
    first_seen_at: datetime
    cause: int
    n: int
    providers: str


@dataclass(frozen=True, slots=True)
class FlowLine:
    """A sum of one kind, cause and permanence at one provider."""

    provider_id: int
    kind: Count
    cause: Cause
    permanence: Permanence
    n: int


@dataclass(frozen=True, slots=True)
class FlowFilter:
    """A part of the mail. With a label (sending address, campaign, tag), only domains can be chosen in addition."""

    domain_id: int | None = None
    stream_id: int | None = None
    relay_id: int | None = None
    label_id: int | None = None

    def conditions(self, table: Table) -> list[ColumnElement[bool]]:
        """Return the conditions on a table of counters."""
        chosen = {"domain_id": self.domain_id, "stream_id": self.stream_id, "relay_id": self.relay_id,
                  "label_id": self.label_id}  # fmt: skip
        return [table.c[name] == id for name, id in chosen.items() if id is not None]

    @property
    def table(self) -> Table:
        """The table of counters that can answer: labels have one of their own."""
        return t.flow_day if self.label_id is None else t.flow_label_day


EVERYTHING = FlowFilter()


def flow_lines(
    connection: Connection, tenant_id: int, first: date, last: date, where: FlowFilter = EVERYTHING
) -> list[FlowLine]:
    """Sum over whole days, both ends included."""
    c = where.table.c
    keys = (c.provider_id, c.kind, c.cause, c.permanence)
    query = (
        select(*keys, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.day.between(first, last), *where.conditions(where.table))
        .group_by(*keys)
    )
    return [
        FlowLine(
            row.provider_id,
            Count.from_number(row.kind),
            Cause.from_number(row.cause),
            Permanence.from_number(row.permanence),
            int(row.n),
        )
        for row in connection.execute(query)
    ]


def flow_days(
    connection: Connection, tenant_id: int, first: date, last: date, where: FlowFilter
) -> list[tuple[date, FlowLine]]:
    """Sum each day on its own; causes are left together."""
    c = where.table.c
    keys = (c.day, c.provider_id, c.kind, c.permanence)
    query = (
        select(*keys, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.day.between(first, last), *where.conditions(where.table))
        .group_by(*keys)
    )
    return [
        (row.day, FlowLine(row.provider_id, Count.from_number(row.kind), Cause.NONE,
                           Permanence.from_number(row.permanence), int(row.n)))
        for row in connection.execute(query)
    ]  # fmt: skip


def times_to_delivery(
    connection: Connection, tenant_id: int, first: date, last: date, where: FlowFilter
) -> dict[int, dict[int, int]]:
    """Return by provider: bucket and how many. Nothing by label, as times are not stored that finely."""
    if where.label_id is not None:
        return {}
    c = t.flow_time_day.c
    query = (
        select(c.provider_id, c.bucket, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.day.between(first, last), *where.conditions(t.flow_time_day))
        .group_by(c.provider_id, c.bucket)
    )
    out: dict[int, dict[int, int]] = {}
    for row in connection.execute(query):
        out.setdefault(row.provider_id, {})[row.bucket] = int(row.n)
    return out


def cause_days(
    connection: Connection, tenant_id: int, first: date, last: date, where: FlowFilter
) -> list[tuple[date, int, Cause, bool, int]]:
    """(day, provider, cause, whether it bounced, how many) of bounces and delays."""
    c = where.table.c
    kinds = (Count.BOUNCED.number, Count.DELAYED.number)
    query = (
        select(c.day, c.provider_id, c.cause, c.kind, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.day.between(first, last), c.kind.in_(kinds))
        .where(*where.conditions(where.table))
        .group_by(c.day, c.provider_id, c.cause, c.kind)
    )
    bounced = Count.BOUNCED.number
    return [
        (row.day, row.provider_id, Cause.from_number(row.cause), row.kind == bounced, int(row.n))
        for row in connection.execute(query)
    ]


def reply_patterns(
    connection: Connection, tenant_id: int, first: date, last: date, cause: Cause | None, limit: int
) -> list[WordingSum]:
    """Return reply patterns, most frequent first, with example, first_seen_at, cause, providers and count."""
    c, w = t.flow_pattern_day.c, t.reply_pattern.c
    query = (
        select(
            w.id, w.reply_pattern, w.example, w.first_seen_at, c.cause, func.sum(c.n).label("n"),
            func.group_concat(c.provider_id.distinct()).label("providers"),
        )
        .join(t.reply_pattern, w.id == c.pattern_id)
        .where(c.tenant_id == tenant_id, c.day.between(first, last))
        .group_by(w.id, c.cause)
        .order_by(func.sum(c.n).desc(), w.id)
        .limit(limit)
    )  # fmt: skip
    return values_of(WordingSum, connection.execute(query if cause is None else query.where(c.cause == cause.number)))


def id_of(connection: Connection, table: Table, tenant_id: int, name: str) -> int | None:
    """Return the id of a stream or relay by its name."""
    found: int | None = connection.scalar(
        select(table.c.id).where(table.c.tenant_id == tenant_id, table.c.name == name)
    )
    return found


def label_id(connection: Connection, tenant_id: int, what: int, name: str) -> int | None:
    """Return the id of an address, campaign or tag by its name; None for an unknown one."""
    c = t.label.c
    found: int | None = connection.scalar(select(c.id).where(c.tenant_id == tenant_id, c.what == what, c.name == name))
    return found


def names_of(connection: Connection, tenant_id: int) -> dict[str, list[str]]:
    """Return the names that mail is broken down by: streams, relays, and the newest addresses, campaigns and tags."""
    out = {}
    for key, table in (("streams", t.stream), ("relays", t.relay)):
        query = select(table.c.name).where(table.c.tenant_id == tenant_id, table.c.name != "").order_by(table.c.name)
        out[key] = [row.name for row in connection.execute(query.limit(500))]
    for key, what in (("ips", 0), ("campaigns", 1), ("tags", 2)):
        c = t.label.c
        query = select(c.name).where(c.tenant_id == tenant_id, c.what == what).order_by(c.id.desc())
        out[key] = [row.name for row in connection.execute(query.limit(200))]
    return out


def delivered_by(connection: Connection, tenant_ids: list[int], kind: int, first: date, last: date) -> dict[int, int]:
    """Messages delivered in whole days, by the id of a domain (kind 1), stream (2), relay (3) or address (4)."""
    delivered = Kind.DELIVERED.number
    if kind == 4:
        labels = t.flow_label_day.c
        where = (labels.tenant_id.in_(tenant_ids), labels.day.between(first, last), labels.kind == delivered)
        query = select(labels.label_id.label("id"), func.sum(labels.n).label("n")).where(*where)
        return {row.id: int(row.n) for row in connection.execute(query.group_by(labels.label_id))}
    c = t.flow_sum_day.c
    query = (
        select(c.part_id.label("id"), func.sum(c.n).label("n"))
        .where(c.tenant_id.in_(tenant_ids), c.what == kind, c.day.between(first, last), c.kind == delivered)
        .group_by(c.part_id)
    )
    return {row.id: int(row.n) for row in connection.execute(query)}


def volume_by_provider(connection: Connection, tenant_id: int, since: date = date.min) -> dict[int, int]:
    """Messages delivered or bounced since a day, by provider id."""
    return volumes_by_provider(connection, [tenant_id], since).get(tenant_id, {})


def volumes_by_provider(
    connection: Connection, tenant_ids: Collection[int], since: date = date.min
) -> dict[int, dict[int, int]]:
    """Messages delivered or bounced since a day, by tenant and provider id."""
    c = t.flow_sum_day.c
    kinds = (Kind.DELIVERED.number, Kind.BOUNCED.number)
    query = (
        select(c.tenant_id, c.part_id, func.sum(c.n).label("n"))
        .where(c.tenant_id.in_(tenant_ids), c.what == t.SUM_PROVIDER, c.day >= since, c.kind.in_(kinds))
        .group_by(c.tenant_id, c.part_id)
    )
    found: dict[int, dict[int, int]] = defaultdict(dict)
    for row in connection.execute(query):
        found[row.tenant_id][row.part_id] = int(row.n)
    return found


def sums(connection: Connection, tenant_id: int, first: date, last: date) -> dict[int, int]:
    """All counts of a period by number of their kind."""
    c = t.flow_sum_day.c
    where = (c.tenant_id == tenant_id, c.what == t.SUM_PROVIDER, c.day.between(first, last))
    query = select(c.kind, func.sum(c.n).label("n")).where(*where)
    return {row.kind: int(row.n) for row in connection.execute(query.group_by(c.kind))}


REPORTS_WITHIN = timedelta(days=180)  # a provider that sent no complaint for so long is taken not to report any


def reporting_providers(connection: Connection, since: date) -> set[int]:
    """Return providers that sent a complaint report to anybody here since a day: the others do not report."""
    c = t.flow_sum_day.c
    where = (c.what == t.SUM_PROVIDER, c.kind == Kind.COMPLAINED.number, c.day >= since, c.n > 0)
    return {int(row.part_id) for row in connection.execute(select(c.part_id).where(*where).distinct())}


def delivered_at(
    connection: Connection, tenant_id: int, domain_ids: Sequence[int], first: date, last: date
) -> list[tuple[int, int, int]]:
    """(domain id, provider id, messages delivered) in whole days."""
    c = t.flow_day.c
    query = (
        select(c.domain_id, c.provider_id, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.domain_id.in_(domain_ids))
        .where(c.day.between(first, last), c.kind == Kind.DELIVERED.number)
        .group_by(c.domain_id, c.provider_id)
    )
    return [(row.domain_id, row.provider_id, int(row.n)) for row in connection.execute(query)]


def worst_relay(
    connection: Connection, tenant_id: int, domain_id: int, first: date, last: date, cause: Cause
) -> int | None:
    """Return the relay over which a domain's mail was refused most for a cause."""
    c = t.flow_day.c
    query = (
        select(c.relay_id)
        .where(c.tenant_id == tenant_id, c.domain_id == domain_id, c.day.between(first, last))
        .where(c.cause == cause.number)
        .group_by(c.relay_id)
        .order_by(func.sum(c.n).desc(), c.relay_id)
        .limit(1)
    )
    found: int | None = connection.scalar(query)
    return found


def worst_domains(connection: Connection, tenant_id: int, day: date, of: str) -> dict[tuple[int, bool], int]:
    """By id of a relay (or stream, as `of` says) and whether bounces are meant (else complaints): the domain that most
    of them came from in the three days up to one.
    """
    c = t.flow_day.c
    part = c[f"{of}_id"]
    domains = connection.scalars(select(t.sending_domain.c.id).where(t.sending_domain.c.tenant_id == tenant_id)).all()
    query = (
        select(part.label("part"), c.domain_id, c.kind, func.sum(c.n).label("n"))
        .where(c.tenant_id == tenant_id, c.domain_id.in_(domains))
        .where(c.day.between(day - timedelta(days=2), day), c.kind.in_((Count.BOUNCED.number, Count.COMPLAINED.number)))
        .group_by(part, c.domain_id, c.kind)
    )
    most: dict[tuple[int, bool], tuple[int, int]] = {}
    for row in connection.execute(query):
        key = (row.part, row.kind == Count.BOUNCED.number)
        most[key] = max(most.get(key, (0, 0)), (int(row.n), -row.domain_id))
    return {key: -domain for key, (_, domain) in most.items()}


def newest_events(connection: Connection, tenant_id: int, first: date, most: int) -> date:
    """Return the day, `first` or later, from which on a tenant has at most so many events; or the newest day alone."""
    c = t.flow_day.c
    query = (
        select(c.day, func.sum(c.n)).where(c.tenant_id == tenant_id, c.day >= first).group_by(c.day)
        .order_by(c.day.desc())
    )  # fmt: skip
    day: date | None = None
    total = 0
    for each, n in connection.execute(query):
        total += int(n)
        if day is not None and total > most:
            return day
        day = each
    return first
