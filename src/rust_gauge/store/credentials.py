"""Every credential that is stored encrypted, so that all can be encrypted again with another key.

A test stores one of each and compares this list with what the service encrypts.
"""

from collections.abc import Callable
from typing import Any

from sqlalchemy import Column, Connection, select, update

from rust_gauge.store import tables as t

_UPDATE_SERVERS = "update-servers"  # a setting: by zone, with `secret` in each
_COLUMNS: tuple[Column[Any], ...] = (
    t.feed.c.secret,
    t.feed.c.password,
    t.webhook.c.secret,
    t.webhook.c.previous_secret,
    t.suppression_state.c.secret,
    t.account.c.code_secret,
    t.seed.c.password,
    t.outlet.c.password,
    t.verifier.c.secret,
)


def rewrite(connection: Connection, again: Callable[[str], str]) -> int:
    """Replace every stored credential by what `again` makes of it. Return how many there were."""
    done = 0
    for column in _COLUMNS:
        keys = list(column.table.primary_key.columns)
        rows = connection.execute(select(*keys, column.label("credential")).where(column != "").with_for_update())
        for row in rows.all():
            where = [key == getattr(row, key.name) for key in keys]
            connection.execute(update(column.table).where(*where).values({column.name: again(row.credential)}))
            done += 1
    s = t.tenant_setting.c
    query = select(s.tenant_id, s.document).where(s.name == _UPDATE_SERVERS).with_for_update()
    for tenant_id, servers in connection.execute(query).all():
        document = {zone: _key_again(kept, again) for zone, kept in servers.items()}
        where = (s.tenant_id == tenant_id) & (s.name == _UPDATE_SERVERS)
        connection.execute(update(t.tenant_setting).where(where).values(document=document))
        done += len(document)
    return done


def all_sealed(connection: Connection) -> list[str]:
    """Return every stored credential, encrypted as it is."""
    found = [str(value) for column in _COLUMNS for value in connection.scalars(select(column).where(column != ""))]
    s = t.tenant_setting.c
    for servers in connection.scalars(select(s.document).where(s.name == _UPDATE_SERVERS)):
        for kept in servers.values():
            found += [kept["secret"], *([kept["previous"]["secret"]] if kept.get("previous") else [])]
    return found


def _key_again(kept: dict[str, Any], again: Callable[[str], str]) -> dict[str, Any]:
    """Return an update server with its key, and the key before it, encrypted again."""
    made = {**kept, "secret": again(kept["secret"])}
    if kept.get("previous"):
        made["previous"] = {**kept["previous"], "secret": again(kept["previous"]["secret"])}
    return made
