"""What people have set for themselves, as a document each."""

from typing import Any

from sqlalchemy import Connection, select
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.store import tables as t


def get_preferences(connection: Connection, account_id: int) -> dict[str, Any] | None:
    """Return a person's preferences; None where nothing was ever set."""
    c = t.account_preferences.c
    return connection.scalar(select(c.preferences).where(c.account_id == account_id))


def set_preferences(connection: Connection, account_id: int, preferences: dict[str, Any]) -> None:
    """Replace a person's preferences."""
    statement = upsert(t.account_preferences).values(account_id=account_id, preferences=preferences)
    connection.execute(statement.on_duplicate_key_update(preferences=preferences))
