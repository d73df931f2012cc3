"""Proofs of domains and addresses."""

from dataclasses import dataclass
from datetime import datetime
from typing import Unpack

from sqlalchemy import Connection, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t
from rust_gauge.store.columns import ProofColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class ProofRow:
    """A proof."""

    id: int
    tenant_id: int
    kind: str
    subject: str
    method: str
    sent_to: str
    token: str
    state: str
    tries: int
    sends: int
    code_digest: bytes | None
    link_digest: bytes | None
    created_at: datetime
    sent_at: datetime | None
    expires_at: datetime | None
    verified_at: datetime | None
    checked_at: datetime | None
    lost_at: datetime | None


def put_proof(connection: Connection, **values: Unpack[ProofColumns]) -> int:
    """Start a proof, or start it again: one for each subject and method."""
    statement = upsert(t.proof).values(**values)
    fresh = {name: value for name, value in values.items() if name not in ("tenant_id", "kind", "subject", "method")}
    connection.execute(statement.on_duplicate_key_update(**fresh))
    c = t.proof.c
    where = [c[name] == values[name] for name in ("tenant_id", "kind", "subject", "method")]
    return int(connection.execute(select(c.id).where(*where)).scalar_one())


def find_proof(connection: Connection, tenant_id: int, kind: str, subject: str, method: str) -> ProofRow | None:
    """Return the proof of a subject by this way; None before it was asked for."""
    c = t.proof.c
    query = select(t.proof).where(c.tenant_id == tenant_id, c.kind == kind, c.subject == subject, c.method == method)
    return value_of(ProofRow, connection.execute(query).first())


def get_proof(connection: Connection, tenant_id: int, proof_id: int, *, lock: bool = False) -> ProofRow | None:
    """Return a proof; `lock` keeps others from changing it until the transaction ends."""
    query = select(t.proof).where(t.proof.c.id == proof_id, t.proof.c.tenant_id == tenant_id)
    return value_of(ProofRow, connection.execute(query.with_for_update() if lock else query).first())


def proof_of_link(connection: Connection, digest: bytes) -> ProofRow | None:
    """Return the proof that a link belongs to, by the digest of its secret."""
    return value_of(
        ProofRow, connection.execute(select(t.proof).where(t.proof.c.link_digest == digest).with_for_update()).first()
    )


def list_proofs(connection: Connection, tenant_id: int) -> list[ProofRow]:
    """Return a tenant's proofs by subject."""
    query = select(t.proof).where(t.proof.c.tenant_id == tenant_id).order_by(t.proof.c.subject, t.proof.c.method)
    return values_of(ProofRow, connection.execute(query.limit(2000)))


def verified_domains(connection: Connection, tenant_id: int) -> list[str]:
    """Return the domains that a tenant has verified."""
    c = t.proof.c
    query = select(c.subject).where(c.tenant_id == tenant_id, c.kind == "domain", c.state == "verified").distinct()
    return list(connection.scalars(query))


def change_proof(connection: Connection, proof_id: int, /, **values: Unpack[ProofColumns]) -> None:
    """Change columns of a proof."""
    connection.execute(update(t.proof).where(t.proof.c.id == proof_id).values(**values))


def due(connection: Connection, before: datetime, limit: int = 200) -> list[ProofRow]:
    """Proofs by record that stood, and were not checked since `before`."""
    c = t.proof.c
    query = select(t.proof).where(c.method == "record", c.state.in_(("verified", "lost")), c.checked_at < before)
    return values_of(ProofRow, connection.execute(query.order_by(c.checked_at).limit(limit)))


def sent_since(connection: Connection, tenant_id: int, since: datetime) -> int:
    """Return how many messages a tenant had sent since then."""
    c = t.proof.c
    rows = connection.execute(select(c.sends).where(c.tenant_id == tenant_id, c.sent_at > since)).all()
    return sum(row.sends for row in rows)
