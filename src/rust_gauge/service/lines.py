"""Bounce and complaint rates of relays, streams, domains and providers against their watch and stop lines."""

from collections import defaultdict
from collections.abc import Mapping
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
from rust_gauge.service.context import Context
from rust_gauge.service.flow import REPORTS_WITHIN
from rust_gauge.service.providers import columns_of
from rust_gauge.service.readings import Counted, count
from rust_gauge.store import flow, readings, relays
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.tables import SUM_PROVIDER

_DAYS = 30  # what lies further back is forgotten by then
_ATTEMPTED, _DELIVERED, _COMPLAINTS = (COUNTS.index(name) for name in ("attempted", "delivered", "complaints"))
Rates = tuple[
    NDArray[np.float64], NDArray[np.float64]
]  # bounces of what was attempted, complaints of what was reported


def lines_of(context: Context, connection: Connection, tenant: TenantAccess, settings: AlertSettings) -> list[LineRow]:
    """Rates of relays, streams, domains and providers against their lines, today."""
    own = _own_lines(connection, tenant)
    providers = columns_of(connection, tenant.id, context.clock().date())
    out = []
    for kind, subject in ((3, "relay"), (2, "stream"), (1, "domain"), (SUM_PROVIDER, "provider")):
        names = (
            {id: providers.label(id) for id in providers.names}
            if kind == SUM_PROVIDER
            else readings.names_of(connection, tenant.id, kind)
        )
        out += _rows(context, connection, tenant, kind, subject, names, own if kind == 3 else {}, settings)
    return out


def stream_relay_lines(
    context: Context, connection: Connection, tenant: TenantAccess, settings: AlertSettings
) -> list[tuple[str, str, LineRow]]:
    """(stream, relay, line) of each stream over each relay, by the relay's lines."""
    own = _own_lines(connection, tenant)
    streams, relay_names = (readings.names_of(connection, tenant.id, kind) for kind in (2, 3))
    out = []
    for relay_id, relay in relay_names.items():
        lines = dict.fromkeys(streams.values(), own[relay]) if relay in own else {}
        rows = _rows(context, connection, tenant, 2, "stream", streams, lines, settings, relay_id)
        out += [(row.name, relay, row) for row in rows]
    return out


def is_past_since(connection: Connection, tenant: TenantAccess, row: LineRow, since: date, today: date) -> bool:
    """Whether the mail of the days from `since` on is past the watch line by itself, whatever was before."""
    kind = {"domain": 1, "stream": 2, "relay": 3, "provider": SUM_PROVIDER}[row.subject]
    columns = columns_of(connection, tenant.id, today)
    names = dict(columns.labels) if kind == SUM_PROVIDER else readings.names_of(connection, tenant.id, kind)
    reporting = flow.reporting_providers(connection, today - REPORTS_WITHIN)
    rates = _rates(count(readings.line_counters(connection, tenant.id, kind, since, reporting), since, today))
    usual = BOUNCES if row.rate == BOUNCES.rate else COMPLAINTS
    for id, name in names.items():
        if name == row.name and id in rates:
            events, mail = rates[id][0 if usual is BOUNCES else 1]
            return bool((events.sum() + usual.usual * usual.worth) / (mail.sum() + usual.worth) > row.watch)
    return False


def _own_lines(connection: Connection, tenant: TenantAccess) -> dict[str, RelayLines]:
    """By relay: the lines of its description."""
    return {
        name: RelayDescription.model_validate(description or {}).lines
        for name, description in relays.list_relays(connection, tenant.id)
    }


def _rows(
    context: Context, connection: Connection, tenant: TenantAccess, kind: int, subject: str, names: Mapping[int, str],
    own: Mapping[str, RelayLines], settings: AlertSettings, relay_id: int | None = None,
) -> list[LineRow]:  # fmt: skip
    """Lines of all subjects of a kind. Those with the same lines are computed together."""
    today = context.clock().date()
    since = today - timedelta(days=_DAYS)
    reporting = flow.reporting_providers(connection, today - REPORTS_WITHIN)
    rows = readings.line_counters(connection, tenant.id, kind, since, reporting, relay_id)
    counted = count(rows, since, today)
    rates = _rates(counted)
    out: dict[tuple[str, int], LineRow] = {}
    for usual, at in ((BOUNCES, 0), (COMPLAINTS, 1)):
        groups: dict[tuple[Line, bool], list[int]] = defaultdict(list)
        for id, name in names.items():
            if id in rates and rates[id][at][1].sum() > 0:
                groups[_line(usual, own.get(name), settings)].append(id)
        for (line, is_own), ids in groups.items():
            events, mail = (np.stack([rates[id][at][side] for id in ids]) for side in (0, 1))
            ahead = crossings_ahead(events, mail, line)
            for id, now, (following, days) in zip(ids, stand(events, mail, line), ahead, strict=True):
                if now.mail >= 1:
                    row = _row(subject, names[id], line, now, own=is_own)
                    if following:
                        row = row.model_copy(update={"next": following, "next_on": today + timedelta(days=days)})
                    out[line.rate, id] = row
    return [out[rate, id] for id in names for rate in (BOUNCES.rate, COMPLAINTS.rate) if (rate, id) in out]


def _rates(counted: Counted) -> dict[int, tuple[Rates, Rates]]:
    """By subject: events and mail, (days,) each, of bounces and of complaints."""
    at: dict[int, list[int]] = defaultdict(list)
    for row, (subject, _) in enumerate(counted.series):
        at[subject].append(row)
    out = {}
    for subject, rows in at.items():
        sums = counted.counts[:, rows].sum(axis=1)
        reports = [row for row in rows if counted.series[row][1] == readings.REPORTING]
        heard = counted.counts[:, reports].sum(axis=1)
        # A bounce was attempted and is not delivered.
        bounces = np.maximum(sums[_ATTEMPTED] - sums[_DELIVERED], 0.0)
        out[subject] = ((bounces, sums[_ATTEMPTED]), (np.maximum(heard[_COMPLAINTS], 0.0), heard[_DELIVERED]))
    return out


def _line(usual: Line, own: RelayLines | None, settings: AlertSettings) -> tuple[Line, bool]:
    """A relay's own lines where it has them; and whether it has."""
    side = "bounce" if usual is BOUNCES else "complaint"
    watch = getattr(own, f"{side}_watch", None) or usual.watch
    stop = max(getattr(own, f"{side}_stop", None) or usual.stop, watch * 1.01)
    return replace(usual, watch=watch, stop=stop, sure=settings.sure), (watch, stop) != (usual.watch, usual.stop)


def _row(subject: Any, name: str, line: Line, now: Standing, *, own: bool) -> LineRow:
    return LineRow(
        subject=subject, name=name, rate=line.rate, value=now.rate, watch=line.watch, stop=line.stop,
        watch_chance=round(now.watch_chance, 4), stop_chance=round(now.stop_chance, 4), events=round(now.events, 1),
        mail=round(now.mail, 1), crossed=crossed(now, line), own=own,
    )  # fmt: skip
