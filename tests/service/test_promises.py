"""What must hold whatever happens at the same moment: acknowledged means in force, and a death loses nothing."""

import os
import signal
import subprocess
import sys
import threading
import time
from collections import Counter

import httpx
import pytest
from sqlalchemy import text

from rust_gauge.client import Client
from rust_gauge.launch.mariadb import free_port
from tests.conftest import Office
from tests.rows import bounce, ndjson, row
from tests.service.test_events import assert_counters_equal_a_recount


@pytest.fixture
def second(office: Office):  # type: ignore[no-untyped-def]
    """Another service process on the same database."""
    port = free_port()
    environment = {
        **os.environ,
        "RUSTGAUGE_DATABASE_URL": office.world.database.url,
        "RUSTGAUGE_PORT": str(port),
        "RUSTGAUGE_DNS_SERVERS": f'["127.0.0.1:{office.world.dns.port}"]',
        "RUSTGAUGE_LOG_LEVEL": "error",
    }
    process = subprocess.Popen([sys.executable, "-m", "rust_gauge.launch.process", "service"], env=environment)
    url = f"http://127.0.0.1:{port}"
    deadline = time.monotonic() + 60
    while True:
        assert process.poll() is None and time.monotonic() < deadline, "the second process did not become ready"
        try:
            if httpx.get(f"{url}/readyz", timeout=5).status_code == 200:
                break
        except httpx.TransportError:
            continue
    yield url, process
    process.terminate()
    process.wait(20)


def test_an_entry_is_in_force_at_every_process_once_its_event_is_acknowledged(
    office: Office, client: Client, second: tuple[str, subprocess.Popen[bytes]]
) -> None:
    with Client(second[0], token=office.token) as elsewhere:
        for number in range(40):
            here, there = (client, elsewhere) if number % 2 else (elsewhere, client)
            here.events.load(office.slug, ndjson(bounce(number)))
            answer = there.suppression.clearance(office.slug, [f"person{number}@tidepost.example"])
            assert answer.held == 1


def test_loads_at_two_processes_count_each_event_once(
    office: Office, second: tuple[str, subprocess.Popen[bytes]]
) -> None:
    body = ndjson(*(row(n) for n in range(300)), *(bounce(n) for n in range(300, 340)))
    stored: list[int] = []

    def load(url: str) -> None:
        with Client(url, token=office.token) as client:
            stored.append(client.events.load(office.slug, body).stored)

    threads = [threading.Thread(target=load, args=(url,)) for url in (office.world.url, second[0]) for _ in range(3)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert sum(stored) == 340
    assert_counters_equal_a_recount(office)


def test_a_service_killed_in_the_middle_of_loads_leaves_every_counter_right(
    office: Office, client: Client, second: tuple[str, subprocess.Popen[bytes]]
) -> None:
    url, process = second
    pieces = [ndjson(*(row(n) for n in range(start, start + 200))) for start in range(0, 4000, 200)]
    acknowledged: list[int] = []
    first = threading.Event()

    def load() -> None:
        headers = {"Authorization": f"Bearer {office.token}", "Content-Type": "application/x-ndjson"}
        for index, piece in enumerate(pieces):
            try:
                answer = httpx.post(f"{url}/api/v1/tenants/{office.slug}/events", content=piece, headers=headers)
            except httpx.TransportError:
                return
            if answer.status_code == 200:
                acknowledged.append(index)
                first.set()

    thread = threading.Thread(target=load)
    thread.start()
    assert first.wait(30)
    process.send_signal(signal.SIGKILL)
    thread.join(60)
    assert_counters_equal_a_recount(office)
    there = {event.message_id for event in client.events.list(office.slug)}
    for index in acknowledged:
        assert {f"m{n}" for n in range(index * 200, index * 200 + 200)} <= there
    # Loading all of it again brings in exactly what was missing.
    results = Counter[str]()
    for piece in pieces:
        result = client.events.load(office.slug, piece)
        results.update(stored=result.stored, duplicates=result.duplicates)
    assert results["stored"] + results["duplicates"] == 4000
    assert results["duplicates"] == len(there)
    assert_counters_equal_a_recount(office)


def test_nothing_of_a_load_is_there_when_its_transaction_fails_at_the_end(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    from rust_gauge.store import jobs

    def broken(*_: object, **__: object) -> None:
        raise RuntimeError("out of order")

    monkeypatch.setattr(jobs, "enqueue", broken)
    body = ndjson(row(1), bounce(2))
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/events"
    headers = {"Authorization": f"Bearer {office.token}", "Content-Type": "application/x-ndjson"}
    assert httpx.post(url, content=body, headers=headers).status_code == 500
    with office.world.context.store.engine.connect() as connection:
        for table in ("event", "flow_hour", "flow_day", "suppression_entry", "suppression_change"):
            query = text(f"SELECT COUNT(*) FROM {table} WHERE tenant_id = :t")
            assert connection.execute(query, {"t": office.tenant.id}).scalar_one() == 0
    monkeypatch.undo()
    assert client.events.load(office.slug, body).stored == 2
