"""Recipients that somebody should decide about, found among events."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy import Connection

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.suppression import Reason
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.values import values_of

_DELIVERED = Kind.DELIVERED.number
_LIFE = f"{Kind.OPENED.number}, {Kind.CLICKED.number}"


@dataclass(frozen=True, slots=True)
class SilentRecipient:
    """A recipient that was mailed often and gave no sign of life."""

    recipient: str
    provider_id: int
    n: int
    first: datetime


@dataclass(frozen=True, slots=True)
class RoleRecipient:
    """A role that was mailed."""

    recipient: str
    provider_id: int


@dataclass(frozen=True, slots=True)
class RevivedRecipient:
    """A mailbox that takes mail again; `since` when it was held for not being there."""

    recipient: str
    provider_id: int
    since: datetime


def _at(time: datetime) -> str:
    return literal(time.astimezone(UTC).replace(tzinfo=None))


def tenants_with_mail(connection: Connection, since: datetime) -> list[int]:
    """Return the ids of tenants that sent anything since a time."""
    sql = f"SELECT DISTINCT tenant_id FROM flow_day WHERE day >= {literal(since.date())}"
    return [int(row.tenant_id) for row in run(connection, sql)]


def without_life(
    connection: Connection, tenant_id: int, since: datetime, sends: int, days: int, most: int
) -> list[SilentRecipient]:
    """recipient, provider_id, n, first: mailed so often over so many days on streams where others open, and silent.

    Streams whose feeds tell of no openings say nothing about anybody.
    """
    sql = (
        "SELECT MIN(recipient) AS recipient, MAX(provider_id) AS provider_id, "
        f"SUM(kind = {Kind.DELIVERED.number}) AS n, "
        "MIN(occurred_at) AS first "
        f"FROM event WHERE tenant_id = {tenant_id} AND occurred_at >= {_at(since)} AND kind IN ({_DELIVERED}, {_LIFE}) "
        f"AND stream_id IN (SELECT DISTINCT stream_id FROM flow_day WHERE tenant_id = {tenant_id} "
        f"AND day >= {literal(since.date())} AND kind IN ({_LIFE})) "
        f"GROUP BY recipient_key HAVING n >= {sends} AND SUM(kind IN ({_LIFE})) = 0 "
        f"AND DATEDIFF(MAX(occurred_at), MIN(occurred_at)) >= {days} LIMIT {most}"
    )
    return values_of(SilentRecipient, run(connection, sql))


def roles_mailed(
    connection: Connection, tenant_id: int, since: datetime, roles: Sequence[str], most: int
) -> list[RoleRecipient]:
    """recipient, provider_id of mail to roles since a time."""
    listed = ", ".join(map(literal, roles))
    sql = (
        "SELECT MIN(recipient) AS recipient, MAX(provider_id) AS provider_id FROM event "
        f"WHERE tenant_id = {tenant_id} AND occurred_at >= {_at(since)} AND kind = {_DELIVERED} "
        f"AND LOWER(SUBSTRING_INDEX(recipient, '@', 1)) IN ({listed}) GROUP BY recipient_key LIMIT {most}"
    )
    return values_of(RoleRecipient, run(connection, sql))


def revived(
    connection: Connection, tenant_id: int, since: datetime, dead_before: datetime, most: int
) -> list[RevivedRecipient]:
    """recipient, provider_id, since: mail was delivered lately to a mailbox that did not exist long ago.

    Finds those whose keys are those of events, as they are unless a tenant compares addresses in a way of its own.
    """
    sql = (
        "SELECT MIN(e.recipient) AS recipient, MAX(e.provider_id) AS provider_id, MIN(s.since) AS since "
        f"FROM event AS e STRAIGHT_JOIN suppression_entry AS s ON s.tenant_id = {tenant_id} "
        f"AND s.address_key = e.recipient_key AND s.reason = {Reason.INVALID_ADDRESS.number} "
        f"WHERE e.tenant_id = {tenant_id} AND e.occurred_at >= {_at(since)} AND e.kind = {_DELIVERED} "
        f"AND s.since < {_at(dead_before)} GROUP BY e.recipient_key LIMIT {most}"
    )
    return values_of(RevivedRecipient, run(connection, sql))
