"""The state of a tenant on a day when it is searched for problems: names, providers, mail, open items."""

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.core.reputation import COUNTS
from rust_gauge.core.worklist import State
from rust_gauge.service.providers.providers import Columns, columns_of
from rust_gauge.service.readings.computation import count
from rust_gauge.store import flow, reading_counters
from rust_gauge.store import readings as store_readings
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.counter_rows import CounterRows
from rust_gauge.store.tables import SUM_PROVIDER

KEEPS = 0.5  # of that at which an item that lives goes on


FELL_WITHIN = 7  # days


CONDITION_FELL = 10.0  # or so many, more than the margin, into another condition


_REMEMBERED = timedelta(days=30)  # how long what was fixed may still fade


@dataclass(frozen=True, slots=True)
class Place:
    """What finding incidents on a day needs."""

    tenant: TenantAccess
    day: date
    columns: Columns
    names: Mapping[int, str]  # sending domains
    mail_of: Mapping[int, int]  # delivered in the week by domain
    mail_at: Mapping[int, int]  # by provider
    mail: Mapping[int, Mapping[int, int]]  # by domain and provider, of domains that are looked at closely
    streams: Mapping[tuple[int, str], tuple[str, int, int]]  # (domain, factor): stream, events, of how many
    live: frozenset[str] = frozenset()  # keys of items that live: they go on until they are well below what made them
    fixed: Mapping[str, tuple[date, float]] = field(default_factory=dict)  # by key: since when, at how many points


def place_of(connection: Connection, tenant: TenantAccess, day: date, domain_ids: Sequence[int]) -> Place:
    """Return the state of a day; details of these domains only."""
    columns = columns_of(connection, tenant.id, day)
    names = store_readings.names_of(connection, tenant.id, 1)
    week = day - timedelta(days=6)
    mail: dict[int, dict[int, int]] = defaultdict(lambda: defaultdict(int))
    for domain_id, provider_id, n in flow.delivered_at(connection, tenant.id, domain_ids, week, day):
        mail[domain_id][columns.place(provider_id)] += n
    mail_of, mail_at = (flow.delivered_by(connection, [tenant.id], kind, week, day) for kind in (1, SUM_PROVIDER))
    live: set[str] = set()
    fixed: dict[str, tuple[date, float]] = {}
    for row in store.items(connection, [tenant.id]):
        if row.state != str(State.RESOLVED):
            live.add(row.item_key)
        elif row.resolved_at is not None and day - _REMEMBERED <= row.resolved_at.date() <= day:
            incident = store.item_of(row).incident
            fixed |= dict.fromkeys((row.item_key, *incident.parts), (row.resolved_at.date(), incident.measure))
    streams = _streams(connection, tenant, domain_ids, week, day)
    return Place(tenant, day, columns, names, mail_of, mail_at, mail, streams, frozenset(live), fixed)


def _streams(
    connection: Connection, tenant: TenantAccess, domain_ids: Sequence[int], first: date, last: date
) -> dict[tuple[int, str], tuple[str, int, int]]:
    """Return by (domain, factor): the stream that most of a factor's events came from, how many, of how many."""
    known = store_readings.names_of(connection, tenant.id, 2)
    rows = reading_counters.week_by_stream(connection, tenant.id, domain_ids, first, last)
    if not len(rows):
        return {}
    pairs, at = np.unique(np.column_stack([rows.domain, rows.stream]), axis=0, return_inverse=True)
    zero = np.zeros(len(rows), dtype=np.int64)  # all days together
    flat = CounterRows(at.reshape(-1), rows.provider, zero, rows.kind, rows.cause, rows.permanence, rows.n)
    counted = count(flat, first, first)
    sums: dict[int, dict[int, NDArray[np.float64]]] = defaultdict(dict)  # by domain and stream: (COUNTS,)
    for row, (pair, _) in enumerate(counted.series):
        domain_id, stream_id = map(int, pairs[pair])
        so_far = sums[domain_id].get(stream_id, 0.0)
        sums[domain_id][stream_id] = so_far + counted.counts[:, row].sum(axis=1)
    out = {}
    for domain_id, of in sums.items():
        for at_name, name in enumerate(COUNTS):
            total = sum(float(values[at_name]) for values in of.values())
            if total > 0:
                most = max(of, key=lambda stream: float(of[stream][at_name]))
                out[domain_id, name] = (known.get(most, ""), int(of[most][at_name]), int(total))
    return out


def capital(text: str) -> str:
    return text[:1].upper() + text[1:]
