"""What a tenant's text model learns from: messages that were caught, and how the campaigns of their names went."""

from dataclasses import dataclass
from datetime import date

from sqlalchemy import Connection, case, func, select

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.replies.causes import SENDER_CAUSES
from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of

_CAMPAIGN = 1  # what a label is


@dataclass(frozen=True, slots=True)
class OutcomeRow:
    """How a campaign went, in messages."""

    campaign: str
    delivered: int
    complained: int
    refused: int


@dataclass(frozen=True, slots=True)
class TextRow:
    """A caught message that is of a campaign's name."""

    id: int
    series: str


def outcomes(connection: Connection, tenant_id: int, since: date) -> list[OutcomeRow]:
    """Return how campaigns went since a day."""
    f, name = t.flow_label_day.c, t.label.c
    causes = [cause.number for cause in SENDER_CAUSES]

    def count(condition: object) -> object:
        return func.sum(case((condition, f.n), else_=0))  # type: ignore[arg-type]

    query = (
        select(
            name.name.label("campaign"),
            count(f.kind == Kind.DELIVERED.number).label("delivered"),  # type: ignore[attr-defined]
            count(f.kind == Kind.COMPLAINED.number).label("complained"),  # type: ignore[attr-defined]
            count((f.kind == Kind.BOUNCED.number) & f.cause.in_(causes)).label("refused"),  # type: ignore[attr-defined]
        )
        .join(t.label, name.id == f.label_id)
        .where(f.tenant_id == tenant_id, f.day >= since, name.tenant_id == tenant_id, name.what == _CAMPAIGN)
        .group_by(name.name)
    )
    return values_of(OutcomeRow, connection.execute(query))


def texts_of(connection: Connection, tenant_id: int, campaigns: list[str], limit: int) -> list[TextRow]:
    """Return caught messages whose template is one of these campaigns, the newest first."""
    c = t.caught_message.c
    query = select(c.id, c.series).where(c.tenant_id == tenant_id, c.series.in_(campaigns))
    return values_of(TextRow, connection.execute(query.order_by(c.id.desc()).limit(limit)))
