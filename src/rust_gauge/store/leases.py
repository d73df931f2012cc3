"""Locks of the installation, as leases in a table, with fencing numbers.

A lease is held until a time, and each time it is taken its fence grows. Whoever writes under a lease calls `check` in
the same transaction: it fails for a holder whose lease has run out and gone to another, so that a process that was
asleep cannot write over the work of the one that took its place. The table lies in the installation's own database, so
that two installations on one server never block each other, and it works on every node of a cluster, where GET_LOCK
does not.

LeaseError
 ├─ LeaseHeld   another process holds it
 └─ LeaseLost   it ran out, and another process may hold it by now
"""

import hashlib
import os
import re
import secrets
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.engine import Store, StoreError

LENGTH = timedelta(seconds=30)  # how long a process that dies holds up the others at most
_FREE = datetime(2000, 1, 1)


class LeaseError(StoreError):
    """A lease cannot be had, or not any more."""


class LeaseHeld(LeaseError):
    """Another process holds the lease."""


class LeaseLost(LeaseError):
    """The lease ran out; nothing may be written under it any more."""


@dataclass(frozen=True, slots=True)
class Lease:
    """A lease that was taken. `fence` is larger than that of everybody who held it before."""

    name: str
    fence: int
    length: timedelta


def take(connection: Connection, name: str, now: datetime, length: timedelta = LENGTH) -> Lease:
    """Take a lease until `now` + `length`. LeaseHeld while another one lasts."""
    c = t.lease.c
    first = {"name": name, "fence": 0, "holder": "", "until": _FREE}
    connection.execute(insert(t.lease).prefix_with("IGNORE").values(**first))
    row = connection.execute(select(t.lease).where(c.name == name).with_for_update()).one()
    until = row.until.replace(tzinfo=UTC)
    if until > now and not is_dead(row.holder):
        raise LeaseHeld(
            f"{name} is held by {row.holder} until {until:%H:%M:%S} UTC",
            remedy="Wait until it is released, or until then if that process died",
        )
    values = {"fence": row.fence + 1, "holder": _holder(), "until": now + length}
    connection.execute(update(t.lease).where(c.name == name).values(**values))
    return Lease(name, row.fence + 1, length)


def check(connection: Connection, lease: Lease) -> None:
    """Make sure, until this transaction ends, that nobody else has taken the lease. LeaseLost if somebody has.

    Several transactions of the holder can do so at once.
    """
    _check(connection, lease, read=True)


def _check(connection: Connection, lease: Lease, *, read: bool = False) -> None:
    c = t.lease.c
    fence = connection.scalar(select(c.fence).where(c.name == lease.name).with_for_update(read=read))
    if fence != lease.fence:
        raise LeaseLost(f"{lease.name} was taken by another process", remedy="Nothing was written; it goes on there")


def renew(connection: Connection, lease: Lease, now: datetime) -> None:
    """Extend a lease. LeaseLost if another process has taken it."""
    _check(connection, lease)
    connection.execute(update(t.lease).where(t.lease.c.name == lease.name).values(until=now + lease.length))


def release(connection: Connection, lease: Lease) -> None:
    """Release a lease. Does nothing when it is lost already."""
    where = (t.lease.c.name == lease.name) & (t.lease.c.fence == lease.fence)
    connection.execute(update(t.lease).where(where).values(until=_FREE))


@contextmanager
def held(store: Store, name: str, now: datetime, length: timedelta) -> Iterator[Lease]:
    """Hold a lease for a block that ends well within `length`. LeaseHeld while another process has it."""
    lease = store.transaction(lambda c: take(c, name, now, length))
    try:
        yield lease
    finally:
        store.transaction(lambda c: release(c, lease))


def is_due(connection: Connection, name: str, now: datetime, every: timedelta) -> bool:
    """Return True to one process of the installation, once in `every`: it does now what is due then."""
    c = t.lease.c
    first = {"name": name, "fence": 0, "holder": "", "until": _FREE}
    connection.execute(insert(t.lease).prefix_with("IGNORE").values(**first))
    next_time = (now + every).replace(tzinfo=None)
    # A time much further ahead than `every` was written by a clock that was wrong.
    due = (c.until <= now) | (c.until > next_time + every)
    change = update(t.lease).where(c.name == name, due).values(fence=c.fence + 1, holder=_holder(), until=next_time)
    return connection.execute(change).rowcount > 0


def lock(connection: Connection, name: str) -> None:
    """Be the only one to hold this name until the transaction ends; waits for whoever holds it.

    It writes to the row, so that two nodes of a cluster cannot both commit. StoreBusy (from `Store.transaction`) when
    it cannot be had in the server's lock wait time.
    """
    change = update(t.lease).where(t.lease.c.name == name).values(fence=t.lease.c.fence + 1)
    if connection.execute(change).rowcount:
        return
    first = {"name": name, "fence": 1, "holder": "", "until": _FREE}  # nobody has held it yet
    connection.execute(insert(t.lease).prefix_with("IGNORE").values(**first))
    connection.execute(change)


def is_dead(holder: str) -> bool:
    """Return whether a holder was a process of this machine that has ended: nobody has to wait for its lease then.

    Should it be wrong, the fence still keeps the other one from writing.
    """
    found = _HOLDER.search(holder)
    if found is None or found["machine"] != _machine():
        return False
    return _started(int(found["pid"])) != found["started"]


def _holder() -> str:
    """Return the holder's name: where, the process, and when that began (process ids are used again)."""
    pid = os.getpid()
    return f"{socket.gethostname()[:60]} process {pid} since {_started(pid)} on {_machine()}"


_HOLDER = re.compile(r" process (?P<pid>\d{1,10}) since (?P<started>\d*) on (?P<machine>\w*)\Z")


def _started(pid: int) -> str:
    """Return when a process began, in clock ticks after the machine did; empty if there is none, or nothing to tell."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""


def _machine() -> str:
    """Return what tells this machine since its start, and its view of processes, from all others."""
    try:
        view = f"{Path('/proc/sys/kernel/random/boot_id').read_text()} {os.readlink('/proc/self/ns/pid')}"
    except OSError:
        return secrets.token_hex(4)  # nothing to tell: like no other
    return hashlib.sha256(view.encode()).hexdigest()[:12]
