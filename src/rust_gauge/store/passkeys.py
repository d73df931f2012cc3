"""Passkeys (WebAuthn credentials), and which challenges they signed: each is good once."""

import hashlib
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, delete, func, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class PasskeyRow:
    """A passkey. `synced`: its owner's devices share it. `sign_count` is the authenticator's counter, 0 for many."""

    id: int
    account_id: int
    name: str
    credential_id: bytes
    public_key: bytes
    sign_count: int
    synced: bool
    created_at: datetime
    last_used_at: datetime | None


_COLUMNS = tuple(t.passkey.c[name] for name in PasskeyRow.__dataclass_fields__)


def add_passkey(
    connection: Connection, account_id: int, name: str, credential_id: bytes, public_key: bytes, sign_count: int,
    synced: bool, now: datetime,
) -> int:  # fmt: skip
    """Store a passkey; return its id. IntegrityError when the credential is there already."""
    statement = insert(t.passkey).values(
        account_id=account_id, name=name, credential_digest=_digest(credential_id), credential_id=credential_id,
        public_key=public_key, sign_count=sign_count, synced=synced, created_at=now,
    )  # fmt: skip
    return int(connection.execute(statement).inserted_primary_key[0])  # type: ignore[index]


def list_passkeys(connection: Connection, account_id: int) -> list[PasskeyRow]:
    """Return an account's passkeys in the order in which they were added."""
    query = select(*_COLUMNS).where(t.passkey.c.account_id == account_id).order_by(t.passkey.c.id)
    return values_of(PasskeyRow, connection.execute(query))


def find_passkey(connection: Connection, credential_id: bytes) -> PasskeyRow | None:
    """Return the passkey of a credential id, locked until the transaction ends."""
    where = t.passkey.c.credential_digest == _digest(credential_id)
    return value_of(PasskeyRow, connection.execute(select(*_COLUMNS).where(where).with_for_update()).first())


def note_use(connection: Connection, id: int, sign_count: int, now: datetime) -> None:
    """Record that a passkey was used, and its counter."""
    connection.execute(update(t.passkey).where(t.passkey.c.id == id).values(sign_count=sign_count, last_used_at=now))


def delete_passkey(connection: Connection, account_id: int, id: int | None = None) -> int:
    """Delete a passkey of an account, or all of them. Return how many."""
    c = t.passkey.c
    where = c.account_id == account_id if id is None else (c.account_id == account_id) & (c.id == id)
    return int(connection.execute(delete(t.passkey).where(where)).rowcount)


def count_passkeys(connection: Connection, account_id: int) -> int:
    """Count an account's passkeys."""
    where = t.passkey.c.account_id == account_id
    return int(connection.scalar(select(func.count()).select_from(t.passkey).where(where)) or 0)


def use_challenge(connection: Connection, challenge: bytes, now: datetime, expires: datetime) -> bool:
    """Use up a challenge; return False when it was used before. It is remembered until it expires."""
    connection.execute(delete(t.challenge).where(t.challenge.c.expires_at < now))
    values = {"digest": _digest(challenge), "expires_at": expires}
    return connection.execute(insert(t.challenge).prefix_with("IGNORE").values(**values)).rowcount > 0


def _digest(octets: bytes) -> bytes:
    return hashlib.sha256(octets).digest()
