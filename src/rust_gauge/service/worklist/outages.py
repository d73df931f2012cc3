"""Problems of mailbox providers themselves, which hit everybody's mail."""

from datetime import UTC, date, datetime, time

from sqlalchemy import Connection

from rust_gauge.core.shares import percent
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.worklist.place import Place
from rust_gauge.store import provider_norms

_OUTAGE = 0.2  # share of an outage from which it is an item of the worklist


def outages_on(connection: Connection, place: Place, day: date) -> list[Incident]:
    """Providers that put everybody's mail off by their own incident: to know, nothing to fix."""
    out = []
    for row in provider_norms.provider_days(connection, day, place.columns.names):
        if row.day != day or row.outage < _OUTAGE or not place.mail_at.get(row.provider_id):
            continue
        label = place.columns.label(row.provider_id)
        out.append(
            Incident(
                f"outage:{place.columns.name(row.provider_id)}", "outage", "provider", label,
                f"{label} has an outage", f"It delays {percent(row.outage, 0)} of the mail of {row.senders} senders. "
                "Your mail is not at fault; readings exclude it.", Level.INFO, datetime.combine(day, time(), UTC),
                place.mail_at[row.provider_id], "Nothing to fix: mail is retried. Postpone large sends to this "
                "provider until it is over.", "", (f"{row.senders} senders are affected alike",),
            )
        )  # fmt: skip
    return out
