"""The worker: does what waits, stops when told, waits for a database that is away."""

import threading

import pytest
from sqlalchemy import Connection, text

from rust_gauge.service import worker
from rust_gauge.store import jobs
from rust_gauge.store.engine import StoreBusy, StoreUnavailable
from tests.conftest import Office
from tests.rows import ndjson, row


def run(office: Office, stop: threading.Event) -> threading.Thread:
    thread = threading.Thread(target=worker.run_worker, args=(office.world.context, stop))
    thread.start()
    return thread


def test_it_does_what_waits_and_stops_when_it_is_told(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    with office.client() as client:
        client.events.load(office.slug, ndjson(*(row(n) for n in range(60))))
    stop, done = threading.Event(), threading.Event()
    original = worker.KINDS["readings"]

    def counted(context, job):  # type: ignore[no-untyped-def]
        original(context, job)
        if job.tenant_id == office.tenant.id:
            done.set()

    monkeypatch.setitem(worker.KINDS, "readings", counted)
    thread = run(office, stop)
    assert done.wait(30)
    stop.set()
    thread.join(30)
    assert not thread.is_alive()
    with office.client() as client:
        assert client.readings.series(office.slug, "news.d.example").readings[-1].value is not None


def test_a_database_that_is_away_is_waited_for(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    stop, back = threading.Event(), threading.Event()
    tries = 0

    def away(context):  # type: ignore[no-untyped-def]
        nonlocal tries
        tries += 1
        if tries < 3:
            raise StoreUnavailable("The database cannot be reached")
        back.set()
        return False

    monkeypatch.setattr(worker, "work_once", away)
    waits: list[float] = []
    wait = stop.wait
    monkeypatch.setattr(stop, "wait", lambda seconds=None: waits.append(seconds) or wait(0))
    thread = run(office, stop)
    assert back.wait(30)
    stop.set()
    thread.join(30)
    assert waits[:2] == [2, 2]


def test_two_workers_never_take_the_same_job(office: Office) -> None:
    context, now = office.world.context, office.world.clock()
    office.world.work()
    for subject in range(40):
        context.store.transaction(lambda c, s=subject: jobs.enqueue(c, "readings", office.tenant.id, 10_000 + s, now))
    taken: list[int] = []
    lock = threading.Lock()

    def take() -> None:
        while True:
            job = context.store.transaction(lambda c: jobs.claim(c, now))
            if job is None:
                return
            with lock:
                taken.append(job.subject)
            context.store.transaction(lambda c, job=job: jobs.finish(c, job, now))

    threads = [threading.Thread(target=take) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert sorted(taken) == list(range(10_000, 10_040))


def test_a_load_that_is_not_committed_yet_holds_its_job_back(office: Office) -> None:
    """Otherwise a worker could compute readings just before the events that asked for them can be seen."""
    store, now = office.world.context.store, office.world.clock()
    office.world.work()
    store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 99, now))

    def claim(connection: Connection) -> jobs.Job | None:
        connection.execute(text("SET SESSION innodb_lock_wait_timeout = 0"))  # say at once that one would have to wait
        try:
            return jobs.claim(connection, now)
        finally:
            connection.execute(text("SET SESSION innodb_lock_wait_timeout = DEFAULT"))

    with store.engine.begin() as connection:
        jobs.enqueue(connection, "readings", office.tenant.id, 99, now)
        with pytest.raises(StoreBusy):
            store.transaction(claim, attempts=1)
    job = store.transaction(claim)
    assert job is not None
    assert job.subject == 99
    store.transaction(lambda c: jobs.finish(c, job, now))
