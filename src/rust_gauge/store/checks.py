"""What checks of addresses keep: facts about domains, and which domains a tenant's mail usually goes to."""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from sqlalchemy import Connection, select
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.mailflow import Kind
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import run
from rust_gauge.store.columns import Document

_CHUNK = 1000  # names in one IN list
_LOOKED_AT = 50_000  # newest events
_USUAL = 200  # domains: those that a typing slip is compared with


def facts(connection: Connection, names: Sequence[str]) -> dict[str, tuple[Document, datetime]]:
    """Return what is known of these domains, and since when."""
    out: dict[str, tuple[Document, datetime]] = {}
    for start in range(0, len(names), _CHUNK):
        query = select(t.domain_fact).where(t.domain_fact.c.name.in_(names[start : start + _CHUNK]))
        for row in connection.execute(query):
            out[row.name] = (row.document, row.found_at.replace(tzinfo=UTC))
    return out


def keep_facts(connection: Connection, found: Mapping[str, Document], now: datetime) -> None:
    """Store what was found out about domains."""
    for name, document in sorted(found.items()):
        statement = upsert(t.domain_fact).values(name=name, document=document, found_at=now)
        same = {"document": statement.inserted.document, "found_at": statement.inserted.found_at}
        connection.execute(statement.on_duplicate_key_update(**same))


def usual_domains(connection: Connection, tenant_id: int) -> list[str]:
    """Recipient domains of the newest mail, those with most of it first; rare ones may be slips themselves."""
    sql = (
        "SELECT SUBSTRING_INDEX(recipient, '@', -1) AS domain, COUNT(*) AS n FROM (SELECT recipient FROM event "
        f"WHERE tenant_id = {tenant_id} AND kind = {Kind.DELIVERED.number} "
        f"ORDER BY occurred_at DESC LIMIT {_LOOKED_AT}) AS newest "
        f"GROUP BY domain HAVING n >= 5 ORDER BY n DESC LIMIT {_USUAL}"
    )
    return [row.domain for row in run(connection, sql)]
