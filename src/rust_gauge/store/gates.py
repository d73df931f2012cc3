"""Gates for MTAs, by the digest of their key."""

from datetime import datetime
from typing import Any

from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow


def add_gate(connection: Connection, **values: Any) -> AnyRow:
    made = connection.execute(insert(t.gate).values(**values)).inserted_primary_key
    return connection.execute(select(t.gate).where(t.gate.c.id == made[0])).one()  # type: ignore[index]


def list_gates(connection: Connection, tenant_id: int) -> list[AnyRow]:
    return list(connection.execute(select(t.gate).where(t.gate.c.tenant_id == tenant_id).order_by(t.gate.c.id)))


def find_gate(connection: Connection, digest: bytes) -> AnyRow | None:
    return connection.execute(select(t.gate).where(t.gate.c.digest == digest)).first()


def drop_gate(connection: Connection, tenant_id: int, id: int) -> bool:
    c = t.gate.c
    return bool(connection.execute(t.gate.delete().where(c.tenant_id == tenant_id, c.id == id)).rowcount)


def note_use(connection: Connection, id: int, now: datetime) -> None:
    connection.execute(update(t.gate).where(t.gate.c.id == id).values(last_used_at=now))
