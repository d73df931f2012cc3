"""Locks of the installation: one holder at a time, none over another's work, and nobody else's business."""

import subprocess
import sys
import threading
from datetime import datetime, timedelta

import pytest
from sqlalchemy import Connection, text

from rust_gauge.launch.main import prepare
from rust_gauge.store import leases
from rust_gauge.store.engine import Store
from rust_gauge.store.leases import LeaseHeld, LeaseLost
from tests.conftest import TODAY, World

LENGTH = timedelta(seconds=30)


@pytest.fixture
def name(request: pytest.FixtureRequest) -> str:
    return request.node.name[:100]


def test_a_lease_has_one_holder_and_says_who(world: World, name: str) -> None:
    store, now = world.context.store, world.clock()
    store.transaction(lambda c: leases.take(c, name, now))
    with pytest.raises(LeaseHeld, match=rf"{name} is held by .+ process \d+.* until 12:00:30 UTC"):
        store.transaction(lambda c: leases.take(c, name, now + LENGTH / 2))


def test_a_lease_that_ran_out_goes_to_another_and_fences_off_the_first(world: World, name: str) -> None:
    store, now = world.context.store, world.clock()
    first = store.transaction(lambda c: leases.take(c, name, now))
    second = store.transaction(lambda c: leases.take(c, name, now + LENGTH))
    assert second.fence > first.fence
    for act in (leases.check, lambda c, lease: leases.renew(c, lease, now)):
        with pytest.raises(LeaseLost):
            store.transaction(lambda c, act=act: act(c, first))  # type: ignore[misc]
    store.transaction(lambda c: leases.release(c, first))  # which is not the first one's to release any more
    store.transaction(lambda c: leases.check(c, second))
    with pytest.raises(LeaseHeld):
        store.transaction(lambda c: leases.take(c, name, now + LENGTH))


def test_a_renewed_lease_lasts_and_a_released_one_is_free(world: World, name: str) -> None:
    store, now = world.context.store, world.clock()
    lease = store.transaction(lambda c: leases.take(c, name, now))
    store.transaction(lambda c: leases.renew(c, lease, now + LENGTH / 2))
    with pytest.raises(LeaseHeld):
        store.transaction(lambda c: leases.take(c, name, now + LENGTH))
    store.transaction(lambda c: leases.release(c, lease))
    store.transaction(lambda c: leases.take(c, name, now + LENGTH))


def test_of_many_that_want_it_at_once_one_gets_it(world: World, name: str) -> None:
    store, now = world.context.store, world.clock()
    got: list[int] = []
    held: list[LeaseHeld] = []

    def take() -> None:
        try:
            got.append(store.transaction(lambda c: leases.take(c, name, now)).fence)
        except LeaseHeld as error:
            held.append(error)

    threads = [threading.Thread(target=take) for _ in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert (len(got), len(held)) == (1, 7)


def test_a_writer_whose_lease_is_lost_writes_nothing(world: World, name: str) -> None:
    """A process that was asleep for longer than its lease, at any of its transactions."""
    store, now = world.context.store, world.clock()
    lease = store.transaction(lambda c: leases.take(c, name, now))
    fenced = store.guarded(lambda c: leases.check(c, lease))
    fenced.transaction(lambda c: leases.lock(c, name + " 1"))
    store.transaction(lambda c: leases.take(c, name, now + LENGTH))
    with pytest.raises(LeaseLost):
        fenced.transaction(lambda c: leases.lock(c, name + " 2"))
    written = store.transaction(
        lambda c: list(c.scalars(text("SELECT name FROM lease WHERE name LIKE :n"), {"n": f"{name} %"}))
    )
    assert written == [name + " 1"]


def test_two_installations_on_one_server_do_not_block_each_other(world: World, name: str) -> None:
    """Each has a database of its own; GET_LOCK, whose names are the server's, would have made one wait."""
    database = "rust_gauge_second"
    url = world.database.url.replace("/rust_gauge?", f"/{database}?")
    with world.context.store.engine.begin() as connection:
        connection.execute(text(f"CREATE DATABASE {database}"))
    second = Store(url)
    try:
        prepare(url)
        now = world.clock()
        for lease in ("feeds", "partitions of events", name):
            for store in (world.context.store, second):
                store.transaction(lambda c, lease=lease: leases.release(c, leases.take(c, lease, now)))  # type: ignore[misc]
        with (
            leases.held(world.context.store, name, now, LENGTH),
            leases.held(second, name, now, LENGTH),
            pytest.raises(LeaseHeld),
        ):
            second.transaction(lambda c: leases.take(c, name, now))

        def lock(connection: Connection) -> None:
            leases.lock(connection, "readings 1 1")
            connection.execute(text("SET SESSION innodb_lock_wait_timeout = DEFAULT"))

        with world.context.store.engine.begin() as connection:
            leases.lock(connection, "readings 1 1")
            second.transaction(lock, attempts=1)
    finally:
        second.close()
        with world.context.store.engine.begin() as connection:
            connection.execute(text(f"DROP DATABASE {database}"))


def test_the_lease_of_a_process_that_ended_here_is_free_at_once(world: World) -> None:
    """One that runs, and one of another machine, is waited for."""
    store, now = world.context.store, world.clock()
    program = (
        "import sys, datetime; from rust_gauge.store import leases; from rust_gauge.store.engine import Store\n"
        "store, now = Store(sys.argv[1]), datetime.datetime.fromisoformat(sys.argv[2])\n"
        "store.transaction(lambda c: leases.take(c, 'of a process', now)); print('taken', flush=True); input()"
    )
    command = [sys.executable, "-c", program, world.database.url, now.isoformat()]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    assert process.stdout.readline() == "taken\n"
    with pytest.raises(leases.LeaseHeld):
        store.transaction(lambda c: leases.take(c, "of a process", now))
    process.kill()
    process.communicate()
    lease = store.transaction(lambda c: leases.take(c, "of a process", now))
    assert lease.fence == 2
    with pytest.raises(leases.LeaseHeld):  # ours
        store.transaction(lambda c: leases.take(c, "of a process", now))
    store.transaction(lambda c: leases.release(c, lease))


@pytest.mark.parametrize(
    "holder", ["", "mta1 process 1 since 5 on 0123456789ab", "mta1 process 77.ab12", "x process 1 since 5 on "]
)
def test_a_holder_elsewhere_is_not_taken_to_be_dead(holder: str) -> None:
    assert not leases.is_dead(holder)


def test_what_is_due_is_done_by_one_process_once_in_a_while(world: World) -> None:
    store, hour, name = world.context.store, timedelta(hours=1), "done once an hour"

    def ask(now: datetime) -> bool:
        return store.transaction(lambda c: leases.is_due(c, name, now, hour))

    assert [ask(TODAY), ask(TODAY), ask(TODAY + timedelta(minutes=59))] == [True, False, False]
    assert not ask(TODAY - timedelta(seconds=2)), "another machine's clock is a little behind"
    assert ask(TODAY + hour)
    assert ask(TODAY - timedelta(days=1)), "a clock that was a day ahead holds nobody up for a day"
