"""The worker: does what waits, stops when told, waits for a database that is away."""

import threading

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import Connection, select, text

from rust_gauge.service import worker
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import jobs, tables
from rust_gauge.store.engine import StoreBusy, StoreUnavailable
from tests.conftest import Office, forget_others
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
            raise StoreUnavailable("The database is unavailable")
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
    forget_others(office)
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


@pytest.fixture
def alone(office: Office) -> None:
    """No other test's jobs become due when these look ahead."""
    office.world.context.store.transaction(lambda c: c.execute(tables.job.delete()))


def claimed(office: Office, kind: str, subject: int) -> jobs.Job:
    store, now = office.world.context.store, office.world.clock()
    store.transaction(lambda c: jobs.enqueue(c, kind, office.tenant.id, subject, now))
    job = store.transaction(lambda c: jobs.claim(c, now))
    assert job is not None
    assert (job.kind, job.subject) == (kind, subject)
    return job


@pytest.mark.usefixtures("alone")
def test_a_worker_that_outlives_its_lease_writes_nothing_and_ends_nobody_elses_job(office: Office) -> None:
    store, now = office.world.context.store, office.world.clock()
    asleep = claimed(office, "readings", 77)
    awake = store.transaction(lambda c: jobs.claim(c, now + jobs.LEASE * 2))
    assert awake is not None
    assert (awake.id, awake.claim) == (asleep.id, asleep.claim + 1)
    acts = (
        jobs.check,
        lambda c, job: jobs.renew(c, job, now),
        lambda c, job: jobs.advance(c, job, now, done=1),
        lambda c, job: jobs.finish(c, job, now),
        lambda c, job: jobs.fail(c, job, "late", now),
        lambda c, job: jobs.stop(c, job, now),
    )
    for act in acts:
        with pytest.raises(jobs.ClaimLost):
            store.transaction(lambda c, act=act: act(c, asleep))  # type: ignore[misc]
    store.transaction(lambda c: jobs.renew(c, awake, now))
    store.transaction(lambda c: jobs.finish(c, awake, now))
    with pytest.raises(jobs.ClaimLost):  # which is gone by now
        store.transaction(lambda c: jobs.check(c, asleep))


@pytest.mark.usefixtures("alone")
def test_work_that_goes_on_after_its_lease_is_lost_leaves_no_trace(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever the kind of job: each of its transactions makes sure that the job is still its own."""
    context, now = office.world.context, office.world.clock()
    taken: list[jobs.Job | None] = []

    def sleeps(fenced: Context, job: jobs.Job) -> None:
        def write(connection: Connection) -> None:
            connection.execute(tables.lease.insert().values(name="late", fence=0, holder="", until=now))

        taken.append(context.store.transaction(lambda c: jobs.claim(c, now + jobs.LEASE * 2)))
        fenced.store.transaction(write)

    monkeypatch.setitem(worker.KINDS, "readings", sleeps)
    context.store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 78, now))
    assert worker.work_once(context)
    (job,) = taken
    assert job is not None
    context.store.transaction(lambda c: jobs.check(c, job))  # it is still the other's
    names = context.store.transaction(lambda c: list(c.scalars(select(tables.lease.c.name))))
    assert "late" not in names
    context.store.transaction(lambda c: jobs.finish(c, job, now))


@pytest.mark.usefixtures("alone")
def test_a_job_that_ends_its_workers_is_given_up(office: Office) -> None:
    store, now = office.world.context.store, office.world.clock()
    claimed(office, "readings", 79)
    for attempt in range(2, jobs.MAX_ATTEMPTS + 1):
        now += jobs.LEASE * 2
        job = store.transaction(lambda c, now=now: jobs.claim(c, now))  # type: ignore[misc]
        assert job is not None
        assert job.attempts == attempt
    assert store.transaction(lambda c: jobs.claim(c, now + jobs.LEASE * 2)) is None


def test_a_transaction_inside_another_one_is_a_mistake(office: Office) -> None:
    store = office.world.context.store
    with pytest.raises(RuntimeError, match="inside another one"):
        store.transaction(lambda c: store.transaction(lambda d: None))
    store.ping()  # and does no harm to the next one


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


@pytest.mark.usefixtures("alone")
@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.integers(0, 3), min_size=1, max_size=30))
def test_tenants_take_turns_however_much_one_of_them_asks_for(office: Office, asked: list[int]) -> None:
    """While tenants with free jobs are left, none is served twice before each of them was served once."""
    store, now = office.world.context.store, office.world.clock()
    store.transaction(lambda c: c.execute(tables.job.delete()))
    first = 900_000
    for subject, who in enumerate(asked):
        tenant_id = first + who if who else 0
        store.transaction(lambda c, t=tenant_id, s=subject: jobs.enqueue(c, "readings", t, s, now))
    left = {who: asked.count(who) for who in set(asked)}
    after, since = 0, []
    for _ in asked:
        job = store.transaction(lambda c, after=after: jobs.claim(c, now, after))
        assert job is not None
        who = job.tenant_id - first if job.tenant_id else 0
        if who in since:
            waiting = {other for other, n in left.items() if n} - set(since[since.index(who) :]) - {who}
            assert not waiting, "somebody else's turn came first"
        since.append(who)
        left[who] -= 1
        after = job.tenant_id
    assert store.transaction(lambda c: jobs.claim(c, now, after)) is None


@pytest.mark.usefixtures("alone")
def test_one_tenant_does_not_take_every_worker(office: Office) -> None:
    store, now = office.world.context.store, office.world.clock()
    for subject in range(5):
        store.transaction(lambda c, s=subject: jobs.enqueue(c, "readings", office.tenant.id, s, now))
    store.transaction(lambda c: jobs.enqueue(c, "providers", 0, 0, now))
    mine = [store.transaction(lambda c: jobs.claim(c, now, office.tenant.id, 3)) for _ in range(4)]
    assert [job.tenant_id if job else None for job in mine] == [0, office.tenant.id, office.tenant.id, None]
    assert mine[1] is not None
    done = mine[1]
    store.transaction(lambda c: jobs.finish(c, done, now))
    assert store.transaction(lambda c: jobs.claim(c, now, office.tenant.id, 3)) is not None


def _listed(office: Office, kind: str, tenant_id: int) -> None:
    store, now = office.world.context.store, office.world.clock()
    store.transaction(lambda c: jobs.add(c, kind, tenant_id, now, name="x", request={}, created_by="y"))


@pytest.mark.usefixtures("alone")
def test_long_jobs_leave_a_worker_for_short_work_and_one_kind_runs_once_for_a_tenant(office: Office) -> None:
    store, now, others = office.world.context.store, office.world.clock(), (910_000, 910_001)
    for _ in range(2):
        _listed(office, "import", office.tenant.id)
        _listed(office, "list_check", office.tenant.id)
    for tenant_id in others:
        _listed(office, "import", tenant_id)
    store.transaction(lambda c: jobs.enqueue(c, "readings", office.tenant.id, 1, now))
    store.transaction(lambda c: jobs.enqueue(c, "readings", others[0], 1, now))

    def take() -> tuple[int, str] | None:
        job = store.transaction(lambda c: jobs.claim(c, now, 0, 4))
        return (job.tenant_id, job.kind) if job else None

    taken = [take() for _ in range(6)]
    mine = [kind for tenant, kind in filter(None, taken) if tenant == office.tenant.id]
    assert mine == ["import", "list_check", "readings"]  # three at most, and no second import
    assert [each for each in taken if each and each[1] != "readings"] == [
        (office.tenant.id, "import"),
        (office.tenant.id, "list_check"),
        (others[0], "import"),
    ]  # fmt: skip - three of four workers
    assert (others[0], "readings") in taken
    assert taken[-1] is None


@pytest.mark.usefixtures("alone")
def test_a_single_worker_does_everything(office: Office) -> None:
    store, now = office.world.context.store, office.world.clock()
    _listed(office, "import", office.tenant.id)
    _listed(office, "import", office.tenant.id)
    found = [store.transaction(lambda c: jobs.claim(c, now, 0, 1)) for _ in range(3)]
    assert [job.kind if job else None for job in found] == ["import", "import", None]
