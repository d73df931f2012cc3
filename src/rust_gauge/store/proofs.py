"""Proofs of domains and addresses."""

from datetime import datetime
from typing import Any

from sqlalchemy import Connection, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow


def put_proof(connection: Connection, **values: Any) -> int:
    """Begin a proof, or begin it anew: one for each subject and way."""
    statement = upsert(t.proof).values(**values)
    fresh = {name: value for name, value in values.items() if name not in ("tenant_id", "kind", "subject", "way")}
    connection.execute(statement.on_duplicate_key_update(**fresh))
    c = t.proof.c
    where = [c[name] == values[name] for name in ("tenant_id", "kind", "subject", "way")]
    return int(connection.execute(select(c.id).where(*where)).scalar_one())


def find_proof(connection: Connection, tenant_id: int, kind: str, subject: str, way: str) -> AnyRow | None:
    c = t.proof.c
    query = select(t.proof).where(c.tenant_id == tenant_id, c.kind == kind, c.subject == subject, c.way == way)
    return connection.execute(query).first()


def get_proof(connection: Connection, tenant_id: int, proof_id: int, *, lock: bool = False) -> AnyRow | None:
    query = select(t.proof).where(t.proof.c.id == proof_id, t.proof.c.tenant_id == tenant_id)
    return connection.execute(query.with_for_update() if lock else query).first()


def proof_of_link(connection: Connection, digest: bytes) -> AnyRow | None:
    """The proof that a link belongs to, by the digest of its secret."""
    return connection.execute(select(t.proof).where(t.proof.c.link_digest == digest).with_for_update()).first()


def list_proofs(connection: Connection, tenant_id: int) -> list[AnyRow]:
    query = select(t.proof).where(t.proof.c.tenant_id == tenant_id).order_by(t.proof.c.subject, t.proof.c.way)
    return list(connection.execute(query.limit(2000)))


def change_proof(connection: Connection, proof_id: int, **values: Any) -> None:
    connection.execute(update(t.proof).where(t.proof.c.id == proof_id).values(**values))


def due(connection: Connection, before: datetime, limit: int = 200) -> list[AnyRow]:
    """Proofs by record that stood, and were not looked at since `before`."""
    c = t.proof.c
    query = select(t.proof).where(c.way == "record", c.state.in_(("proven", "lost")), c.checked_at < before)
    return list(connection.execute(query.order_by(c.checked_at).limit(limit)))


def sent_since(connection: Connection, tenant_id: int, since: datetime) -> int:
    """How many messages a tenant had sent since then."""
    c = t.proof.c
    rows = connection.execute(select(c.sends).where(c.tenant_id == tenant_id, c.sent_at > since)).all()
    return sum(row.sends for row in rows)
