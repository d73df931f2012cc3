"""Sessions of TLS reports, summed."""

from dataclasses import dataclass
from datetime import date

from sqlalchemy import Connection, func, select

from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class TlsSum:
    """Sessions of a day at a receiver that went alike. `result` is empty for those that succeeded."""

    day: date
    receiver_id: int
    policy: str
    result: str
    mx: str
    reason: str
    sessions: int


def sums(connection: Connection, domain_id: int, since: date, until: date) -> list[TlsSum]:
    """Return sessions of a domain by day, receiver, policy, result, MX and reason, oldest first."""
    c, p = t.tls_row.c, t.receiver_report.c
    query = (
        select(
            c.day, p.receiver_id, c.policy, c.result, c.mx, c.reason, func.sum(c.sessions).label("sessions")
        )
        .join(t.receiver_report, p.id == c.report_id)
        .where(c.domain_id == domain_id, c.day >= since, c.day <= until)
        .group_by(c.day, p.receiver_id, c.policy, c.result, c.mx, c.reason)
        .order_by(c.day)
        .limit(50_000)
    )  # fmt: skip
    return values_of(TlsSum, connection.execute(query))
