"""What the newest mail says of a problem: a reading remembers for days, the last hours do not."""

from collections.abc import Sequence
from datetime import date, datetime, timedelta

import numpy as np
from sqlalchemy import Connection

from rust_gauge.core.reputation import COUNTS, FACTORS, exposure
from rust_gauge.core.reputation.memory import chance_above
from rust_gauge.service.readings import computation as readings
from rust_gauge.store import reading_counters

_WINDOW = timedelta(hours=24)  # in which the newest mail is looked for
_ENOUGH = 100.0  # messages that say something
SEEN_AT_ONCE = ("invalid_addresses", "refusals", "listings", "authentication", "delays")
_SURE_WELL = 0.1  # how probable it may be that the rate still lies above its watch line


def newest_is_right(
    connection: Connection, tenant_id: int, topic: str, domain_ids: Sequence[int], now: datetime
) -> str:
    """Return what the newest mail of these domains says if it says that a factor's problem is fixed; else nothing.

    The last hours are those with enough mail, whole ones first. Complaints and readers come too late for that.
    """
    factor = next((factor for factor in FACTORS if factor.name == topic), None)
    if factor is None or factor.name not in SEEN_AT_ONCE or not domain_ids:
        return ""
    since = (now - _WINDOW).replace(minute=0, second=0, microsecond=0)
    rows = reading_counters.lately(connection, tenant_id, domain_ids, since)
    hours = int(_WINDOW / timedelta(hours=1))
    counted = readings.count(rows, date.min, date.min + timedelta(days=hours))
    by_name = dict(zip(COUNTS, counted.counts.sum(axis=1), strict=True))
    events, mail = by_name[factor.name], exposure(factor, by_name)
    for back in range(1, len(mail) + 1):
        sent, failed = float(mail[-back:].sum()), float(events[-back:].sum())
        if sent >= _ENOUGH:
            a, b = np.array(failed + factor.usual * factor.worth), np.array(sent + factor.worth)
            if float(chance_above(factor.watch, a, b)) > _SURE_WELL:
                return ""
            return f"{failed:.0f} of the newest {sent:,.0f} messages (last {back} hours) failed this way: fixed"
    return ""
