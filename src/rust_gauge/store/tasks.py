"""Tasks: work on a file or on the past, with what came in and what came out in pieces."""

import zlib
from collections.abc import Iterator
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow, Store

FILE = "file"  # the part that was handed in


def add(connection: Connection, **values: Any) -> int:
    usual: dict[str, Any] = {"position": {}, "result": {}, "done": 0, "total": 0, "cancel_asked": False, "error": ""}
    made = connection.execute(insert(t.task).values(**usual, **values))
    return int(made.inserted_primary_key[0])  # type: ignore[index]


def get(connection: Connection, id: int, tenant_id: int | None = None, *, lock: bool = False) -> AnyRow | None:
    query = select(t.task).where(t.task.c.id == id)
    if tenant_id is not None:
        query = query.where(t.task.c.tenant_id == tenant_id)
    return connection.execute(query.with_for_update() if lock else query).first()


def list_tasks(connection: Connection, tenant_id: int, kind: str | None, limit: int) -> list[AnyRow]:
    """Newest first."""
    c = t.task.c
    query = select(t.task).where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(limit)
    return list(connection.execute(query if kind is None else query.where(c.kind == kind)))


def change(connection: Connection, id: int, **values: Any) -> None:
    connection.execute(update(t.task).where(t.task.c.id == id).values(**values))


def drop(connection: Connection, id: int) -> None:
    connection.execute(delete(t.task).where(t.task.c.id == id))


def drop_old(connection: Connection, before: datetime, limit: int = 20) -> int:
    """Tasks that ended long ago, or were never started."""
    c = t.task.c
    old = (c.created_at < before) & c.state.in_(("done", "failed", "stopped", "collecting"))
    ids = list(connection.scalars(select(c.id).where(old).limit(limit)))
    connection.execute(delete(t.task).where(c.id.in_(ids)))
    return len(ids)


def put_piece(connection: Connection, id: int, part: str, number: int, octets: bytes) -> None:
    """Keep a piece; the same number again takes its place."""
    packed = zlib.compress(octets, 1)
    statement = upsert(t.task_piece).values(task_id=id, part=part, number=number, size=len(octets), octets=packed)
    same = {"size": statement.inserted.size, "octets": statement.inserted.octets}
    connection.execute(statement.on_duplicate_key_update(**same))


def sizes(connection: Connection, id: int, part: str) -> list[tuple[int, int]]:
    """(number, octets) of each piece, in their order."""
    c = t.task_piece.c
    query = select(c.number, c.size).where(c.task_id == id, c.part == part).order_by(c.number)
    return [(row.number, row.size) for row in connection.execute(query)]


def parts(connection: Connection, id: int) -> dict[str, int]:
    """Octets by part, without the file itself."""
    c = t.task_piece.c
    query = select(c.part, func.sum(c.size).label("n")).where(c.task_id == id, c.part != FILE).group_by(c.part)
    return {row.part: int(row.n) for row in connection.execute(query)}


def piece(connection: Connection, id: int, part: str, number: int) -> bytes | None:
    c = t.task_piece.c
    found = connection.scalar(select(c.octets).where(c.task_id == id, c.part == part, c.number == number))
    return None if found is None else zlib.decompress(found)


def drop_part(connection: Connection, id: int, part: str) -> None:
    c = t.task_piece.c
    connection.execute(delete(t.task_piece).where(c.task_id == id, c.part == part))


def pieces(store: Store, id: int, part: str) -> Iterator[bytes]:
    """All pieces of a part, one at a time."""
    for number, _ in store.transaction(lambda c: sizes(c, id, part)):
        found = store.transaction(lambda c, number=number: piece(c, id, part, number))  # type: ignore[misc]
        if found is not None:
            yield found
