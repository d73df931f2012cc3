"""Detection: all that is wrong with a tenant now, one problem for each incident."""

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import replace
from datetime import date

import numpy as np
from sqlalchemy import Connection

from rust_gauge.contract.worklist import AlertSettings
from rust_gauge.core.worklist import Incident, State, join
from rust_gauge.service.readings.computation import EVENTS_OF
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.worklist import signs
from rust_gauge.service.worklist.crossed_lines import crossed_lines, with_lines
from rust_gauge.service.worklist.installation_signs import installation_problems
from rust_gauge.service.worklist.limit_signs import limit_problems
from rust_gauge.service.worklist.newest_mail import SEEN_AT_ONCE, newest_is_right
from rust_gauge.service.worklist.outages import outages_on
from rust_gauge.service.worklist.place import CONDITION_FELL, FELL_WITHIN, KEEPS, Place, place_of
from rust_gauge.service.worklist.placement_signs import placement_problems
from rust_gauge.service.worklist.pulls import HEAVY, HEAVY_OVER_ALL, pulls_on
from rust_gauge.service.worklist.report_signs import report_problems
from rust_gauge.service.worklist.warmup_signs import warmup_problems
from rust_gauge.store import readings as store_readings
from rust_gauge.store import worklist as store
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.readings import Series
from rust_gauge.store.tables import ALL_PROVIDERS

_READ_AT_ONCE, _UNPACKED_AT_ONCE = 2_000, 200  # domains: memory is bounded, however many a tenant has


def find_troubles(unit: UnitOfWork, tenant: TenantAccess, settings: AlertSettings) -> list[Incident]:
    """All that is wrong now, one incident for each incident."""
    connection, now = unit.connection, unit.now
    today = now.date()
    ids = _worth_a_look(connection, tenant, today)
    place = place_of(connection, tenant, today, ids)
    faults = signs.faults(connection, tenant, place.names, place.mail_of)
    place = _without_fixed_faults(unit, place, {fault.key for fault in faults})
    found = pulls_on(connection, place, _histories(connection, tenant, ids), today)
    found = with_lines(connection, place, found, crossed_lines(unit, place, settings))
    found += outages_on(connection, place, today) + faults
    found += signs.lost_proofs(connection, tenant, now) + signs.silent_feeds(unit, tenant)
    found += signs.old_keys(connection, tenant, now) + signs.new_replies(connection, tenant, now)
    found += installation_problems(unit, tenant) + placement_problems(unit, place) + limit_problems(unit, place)
    found += warmup_problems(unit, place) + report_problems(unit, place)
    by_name = {place.names[id]: n for id, n in place.mail_of.items() if id in place.names}
    fixed: dict[str, date] = {}
    for key, (closed, _) in place.fixed.items():
        if key.startswith("fault:") or key.endswith(":authentication"):  # the change that fixed it is no news
            name = key.split(":")[1]
            fixed[name] = max(closed, fixed.get(name, closed))
    return joined(found + signs.changed_records(connection, tenant, by_name, fixed, now))


def joined(found: Iterable[Incident]) -> list[Incident]:
    """One incident for each incident."""
    return join(found, {name: causes for name, (_, causes) in EVENTS_OF.items()})


def _without_fixed_faults(unit: UnitOfWork, place: Place, found: Collection[str]) -> Place:
    """Mark what a fault caused as fixed once the fault is gone and the newest mail is right."""
    connection = unit.connection
    ids = {name: id for id, name in place.names.items()}
    fixed = dict(place.fixed)
    for row in store.items(
        connection, [place.tenant.id], [str(state) for state in State if state is not State.RESOLVED]
    ):
        incident = store.item_of(row).incident
        if incident.kind == "fault" and row.item_key not in found:
            domains = [ids[name] for name in incident.domains or (incident.name,) if name in ids]
            for part in incident.parts:
                topic = part.rpartition(":")[2] if part.startswith("pull:") else ""
                if topic not in SEEN_AT_ONCE or newest_is_right(connection, place.tenant.id, topic, domains, unit.now):
                    fixed[part] = (row.seen_at.date(), incident.measure)
            fixed[row.item_key] = (place.day, incident.measure)  # a record that changed today is what fixed it
    return replace(place, fixed=fixed)


def _worth_a_look(connection: Connection, tenant: TenantAccess, today: date) -> list[int]:
    """Domains of which anything may be an incident today, by what lies beside their newest readings."""
    found = store_readings.jumped(connection, tenant.id, 1, today)
    known = sorted(store_readings.names_of(connection, tenant.id, 1))
    for start in range(0, len(known), _READ_AT_ONCE):
        ids = known[start : start + _READ_AT_ONCE]
        newest = store_readings.newest(connection, [tenant.id], 1, today, FELL_WITHIN + 1, ids)
        whole = newest.provider_id == ALL_PROVIDERS
        least = np.where(whole, HEAVY_OVER_ALL, HEAVY) * 10 * KEEPS
        fell = whole & (newest.tenths[:, 0] - newest.tenths[:, -1] >= CONDITION_FELL * 10)
        heavy = newest.pulls.max(axis=1, initial=0) >= least
        found |= set(newest.subject_id[(newest.late == 0) & (heavy | fell)].tolist())
    return sorted(found)


def _histories(connection: Connection, tenant: TenantAccess, ids: Sequence[int]) -> Iterator[Series]:
    """Series of these domains, those of one domain after the other; only some are in memory at a time."""
    for start in range(0, len(ids), _UNPACKED_AT_ONCE):
        part = ids[start : start + _UNPACKED_AT_ONCE]
        yield from map(store_readings.unpack, store_readings.histories(connection, tenant.id, 1, part))
