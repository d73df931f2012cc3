"""Bounce and complaint rates of relays, streams, domains and providers against their watch and stop lines."""

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import date, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from rust_gauge.contract.relays import RelayDescription, RelayLines
from rust_gauge.contract.worklist import AlertSettings, LineRow
from rust_gauge.core.reputation import COUNTS
from rust_gauge.core.reputation.lines import BOUNCES, COMPLAINTS, Line, Standing, crossed, crossings_ahead, stand
from rust_gauge.service.providers.providers import columns_of
from rust_gauge.service.readings.computation import Counted, count
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import flow, reading_counters, readings, relays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import SUM_PROVIDER

_DAYS = 30  # what lies further back is forgotten by then
_DOMAINS_AT_ONCE = 1_000  # some 4 kB each
COUNTED_DAYS = 7  # of the counts that are shown beside an estimate
_ATTEMPTED, _DELIVERED, _COMPLAINTS = (COUNTS.index(name) for name in ("attempted", "delivered", "complaints"))
Rate = tuple[NDArray[np.float64], NDArray[np.float64]]  # events and mail, (days,) each


def lines_of(unit: UnitOfWork, tenant: TenantAccess, settings: AlertSettings) -> Iterator[LineRow]:
    """Yield rates of relays, streams, domains and providers against their lines, today. Only the counters of some
    domains are in memory at a time.
    """
    connection = unit.connection
    own = _own_lines(connection, tenant)
    providers = columns_of(connection, tenant.id, unit.now.date())
    for kind, subject in ((3, "relay"), (2, "stream")):
        names = readings.names_of(connection, tenant.id, kind)
        yield from _rows(unit, tenant, kind, subject, names, own if kind == 3 else {}, settings)
    domains = readings.names_of(connection, tenant.id, 1)
    known = sorted(domains)
    for start in range(0, len(known), _DOMAINS_AT_ONCE):
        ids = known[start : start + _DOMAINS_AT_ONCE]
        yield from _rows(unit, tenant, 1, "domain", {id: domains[id] for id in ids}, {}, settings, ids=ids)
    labels = {id: providers.label(id) for id in providers.names}
    yield from _rows(unit, tenant, SUM_PROVIDER, "provider", labels, {}, settings)


def stream_relay_lines(
    unit: UnitOfWork, tenant: TenantAccess, settings: AlertSettings
) -> list[tuple[str, str, LineRow]]:
    """(stream, relay, line) of each stream over each relay, by the relay's lines."""
    connection = unit.connection
    own = _own_lines(connection, tenant)
    streams, relay_names = (readings.names_of(connection, tenant.id, kind) for kind in (2, 3))
    out = []
    for relay_id, relay in relay_names.items():
        lines = dict.fromkeys(streams.values(), own[relay]) if relay in own else {}
        rows = _rows(unit, tenant, 2, "stream", streams, lines, settings, relay_id)
        out += [(row.name, relay, row) for row in rows]
    return out


def is_past_since(connection: Connection, tenant: TenantAccess, row: LineRow, since: date, today: date) -> bool:
    """Return whether the mail of the days from `since` on is past the watch line by itself, whatever was before."""
    kind = {"domain": 1, "stream": 2, "relay": 3, "provider": SUM_PROVIDER}[row.subject]
    columns = columns_of(connection, tenant.id, today)
    names = dict(columns.labels) if kind == SUM_PROVIDER else readings.names_of(connection, tenant.id, kind)
    usual, at = (BOUNCES, 0) if row.rate == BOUNCES.rate else (COMPLAINTS, 1)
    ids = [id for id, name in names.items() if name == row.name]
    rates = _rates(connection, tenant, kind, since, today, ids=ids if kind == 1 else None)[at]
    for id in ids:
        if id in rates:
            events, mail = rates[id]
            return bool((events.sum() + usual.usual * usual.worth) / (mail.sum() + usual.worth) > row.watch)
    return False


def _own_lines(connection: Connection, tenant: TenantAccess) -> dict[str, RelayLines]:
    """Return by relay: the lines of its description."""
    return {
        name: RelayDescription.model_validate(description or {}).lines
        for name, description in relays.list_relays(connection, tenant.id)
    }


def _rows(
    unit: UnitOfWork, tenant: TenantAccess, kind: int, subject: str, names: Mapping[int, str],
    own: Mapping[str, RelayLines], settings: AlertSettings, relay_id: int | None = None,
    ids: Sequence[int] | None = None,
) -> list[LineRow]:  # fmt: skip
    """Lines of all subjects of a kind, or of these domains. Those with the same lines are computed together."""
    today = unit.now.date()
    since = today - timedelta(days=_DAYS)
    rates = _rates(unit.connection, tenant, kind, since, today, relay_id, ids)
    out: dict[tuple[str, int], LineRow] = {}
    for usual, at in ((BOUNCES, 0), (COMPLAINTS, 1)):
        groups: dict[tuple[Line, bool], list[int]] = defaultdict(list)
        for id, name in names.items():
            if id in rates[at] and rates[at][id][1].sum() > 0:
                groups[_line(usual, own.get(name), settings)].append(id)
        for (line, is_own), ids in groups.items():
            events, mail = (np.stack([rates[at][id][side] for id in ids]) for side in (0, 1))
            ahead = crossings_ahead(events, mail, line)
            week = zip(*(side[:, -COUNTED_DAYS:].sum(axis=1).tolist() for side in (events, mail)), strict=True)
            for id, now, counted, (following, days) in zip(ids, stand(events, mail, line), week, ahead, strict=True):
                if now.mail >= 1:
                    row = _row(subject, names[id], line, now, *map(int, counted), own=is_own)
                    if following:
                        row = row.model_copy(update={"next": following, "next_on": today + timedelta(days=days)})
                    out[line.rate, id] = row
    return [out[rate, id] for id in names for rate in (BOUNCES.rate, COMPLAINTS.rate) if (rate, id) in out]


def _rates(
    connection: Connection, tenant: TenantAccess, kind: int, since: date, today: date, relay_id: int | None = None,
    ids: Sequence[int] | None = None,
) -> tuple[dict[int, Rate], dict[int, Rate]]:  # fmt: skip
    """Return by subject: bounces of all mail, complaints of the mail at providers that report them. With a relay: by
    stream. With ids: of these domains.
    """
    reporting = sorted(flow.reporting_providers(connection, today - flow.REPORTS_WITHIN))
    if relay_id is None:
        # By the sums of a subject alone where they serve: a look goes over all of a tenant's mail.
        all_mail = reading_counters.mail_sums(connection, tenant.id, kind, since, today, ids)
        reported = reading_counters.heard_sums(connection, tenant.id, kind, since, reporting, ids)
    else:
        all_mail = reading_counters.stream_sums(connection, tenant.id, relay_id, since, reporting)
        reported = all_mail.where(all_mail.provider == reading_counters.REPORTING)
    sums, heard = count(all_mail, since, today), count(reported, since, today)
    bounces, complaints = {}, {}
    for subject, counts in _by_subject(sums).items():  # a bounce was attempted and is not delivered
        bounces[subject] = (np.maximum(counts[_ATTEMPTED] - counts[_DELIVERED], 0.0), counts[_ATTEMPTED])
    for subject, counts in _by_subject(heard).items():
        complaints[subject] = (counts[_COMPLAINTS], counts[_DELIVERED])
    return bounces, complaints


def _by_subject(counted: Counted) -> dict[int, NDArray[np.float64]]:
    out: dict[int, NDArray[np.float64]] = {}
    for row, (subject, _) in enumerate(counted.series):
        out[subject] = out.get(subject, 0.0) + counted.counts[:, row]
    return out


def _line(usual: Line, own: RelayLines | None, settings: AlertSettings) -> tuple[Line, bool]:
    """A relay's own lines where it has them; and whether it has."""
    side = "bounce" if usual is BOUNCES else "complaint"
    watch = getattr(own, f"{side}_watch", None) or usual.watch
    stop = max(getattr(own, f"{side}_stop", None) or usual.stop, watch * 1.01)
    return replace(usual, watch=watch, stop=stop, sure=settings.confidence), (watch, stop) != (usual.watch, usual.stop)


def _row(subject: Any, name: str, line: Line, now: Standing, events: int, mail: int, *, own: bool) -> LineRow:
    return LineRow(
        subject=subject, name=name, rate=line.rate, value=events / mail if mail else None, events=events, mail=mail,
        days=COUNTED_DAYS, estimate=now.rate, watch=line.watch, stop=line.stop,
        watch_chance=round(now.watch_chance, 4), stop_chance=round(now.stop_chance, 4), crossed=crossed(now, line),
        own=own,
    )  # fmt: skip
