"""Sessions, attempts to sign in and recovery codes. Secrets come in as digests only."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy import Connection, delete, func, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.accounts import Principal, principal_of_account
from rust_gauge.store.values import values_of

_SEEN_EVERY = timedelta(minutes=1)  # so that reading a page does not write


@dataclass(frozen=True, slots=True)
class SessionRow:
    """A session that has not ended."""

    id: int
    created_at: datetime
    expires_at: datetime
    last_seen_at: datetime | None
    address: str
    agent: str
    second_factor: bool


@dataclass(frozen=True, slots=True)
class Attempts:
    """Attempts to sign in as somebody from one source since a time, the newest of them, and all from there."""

    count: int
    newest: datetime | None
    from_source: int


def add_session(
    connection: Connection, digest: bytes, account_id: int, now: datetime, expires: datetime, *, address: str = "",
    agent: str = "", second_factor: bool = False,
) -> None:  # fmt: skip
    """Store a session by the digest of its secret; expired ones are deleted."""
    connection.execute(delete(t.session).where(t.session.c.expires_at < now))
    connection.execute(
        insert(t.session).values(
            digest=digest,
            account_id=account_id,
            created_at=now,
            expires_at=expires,
            last_seen_at=now,
            address=address[:45],
            agent=agent[:200],
            second_factor=second_factor,
        )
    )


def drop_session(connection: Connection, digest: bytes) -> None:
    """Delete a session."""
    connection.execute(delete(t.session).where(t.session.c.digest == digest))


def list_sessions(connection: Connection, account_id: int, now: datetime) -> list[SessionRow]:
    """Return an account's sessions, the newest first."""
    c = t.session.c
    query = select(*(c[name] for name in SessionRow.__dataclass_fields__))
    query = query.where(c.account_id == account_id, c.expires_at > now).order_by(c.created_at.desc(), c.id.desc())
    return values_of(SessionRow, connection.execute(query))


def end_session(connection: Connection, account_id: int, id: int) -> bool:
    """End a session of an account; return whether there was one."""
    c = t.session.c
    return connection.execute(delete(t.session).where(c.account_id == account_id, c.id == id)).rowcount > 0


def end_sessions(connection: Connection, account_id: int, but: int | None = None) -> int:
    """End an account's sessions, all or all but one. Return how many."""
    c = t.session.c
    where = c.account_id == account_id if but is None else (c.account_id == account_id) & (c.id != but)
    return int(connection.execute(delete(t.session).where(where)).rowcount)


def mark_second_factor(connection: Connection, id: int) -> None:
    """Record that the person of a session has shown a second factor."""
    connection.execute(update(t.session).where(t.session.c.id == id).values(second_factor=True))


def principal_of_session(connection: Connection, digest: bytes, now: datetime) -> Principal | None:
    """Return who a session belongs to; None if it is unknown or expired."""
    c = t.session.c
    row = connection.execute(select(t.session).where(c.digest == digest, c.expires_at > now)).first()
    if row is None:
        return None
    if row.last_seen_at is None or now.replace(tzinfo=None) - row.last_seen_at > _SEEN_EVERY:
        connection.execute(update(t.session).where(c.digest == digest).values(last_seen_at=now))
    found = principal_of_account(connection, row.account_id)
    return found and replace(found, session_id=row.id, second_factor=bool(row.second_factor))


# Attempts


def add_attempt(connection: Connection, email: str, source: str, now: datetime, window: timedelta) -> Attempts:
    """Count an attempt, and return those of this account from this source before it. Old ones are deleted."""
    c = t.sign_in_attempt.c
    connection.execute(delete(t.sign_in_attempt).where(c.at < now - 4 * window))
    since = now - window
    query = select(func.count(), func.max(c.at)).where(c.email == email, c.source == source, c.at > since)
    count, newest = connection.execute(query).one()
    everybody = select(func.count()).select_from(t.sign_in_attempt).where(c.source == source, c.at > since)
    from_source = int(connection.scalar(everybody) or 0)
    connection.execute(insert(t.sign_in_attempt).values(email=email, source=source[:45], at=now))
    return Attempts(int(count), newest, from_source)


def forget_attempts(connection: Connection, email: str, source: str) -> None:
    """Delete the attempts of an account from a source: somebody signed in."""
    c = t.sign_in_attempt.c
    connection.execute(delete(t.sign_in_attempt).where(c.email == email, c.source == source))


# Recovery codes


def put_recovery_codes(connection: Connection, account_id: int, digests: Sequence[bytes]) -> None:
    """Replace an account's recovery codes."""
    connection.execute(delete(t.recovery_code).where(t.recovery_code.c.account_id == account_id))
    if digests:
        connection.execute(insert(t.recovery_code), [{"account_id": account_id, "digest": each} for each in digests])


def use_recovery_code(connection: Connection, account_id: int, digest: bytes) -> bool:
    """Use up a recovery code; return whether there was one."""
    c = t.recovery_code.c
    done = connection.execute(delete(t.recovery_code).where(c.account_id == account_id, c.digest == digest))
    return done.rowcount > 0


def count_recovery_codes(connection: Connection, account_id: int) -> int:
    """Count the recovery codes that are left."""
    where = t.recovery_code.c.account_id == account_id
    return int(connection.scalar(select(func.count()).select_from(t.recovery_code).where(where)) or 0)


def take_code_step(connection: Connection, account_id: int, step: int) -> bool:
    """Use up the time step of a one-time code (RFC 6238 §5.2: each code once); return whether it was still new."""
    c = t.account.c
    done = connection.execute(update(t.account).where(c.id == account_id, c.code_step < step).values(code_step=step))
    return done.rowcount > 0
