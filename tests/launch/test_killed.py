"""SIGKILL at any moment, of any part, or a MariaDB that says nothing: after restart and repeat every event is there once.

RUST_GAUGE_KILLS sets how many times; a few in the usual run, a hundred to be sure.
"""

import contextlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx
import pytest

from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.contract.tokens import NewToken
from rust_gauge.core.roles import Role
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import PrivateMariaDb, free_port
from rust_gauge.service.accounts import tokens
from rust_gauge.service.feeds import feeds
from rust_gauge.service.runtime.context import Context, make_context, utc_now
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import assignments
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import StoreError
from rust_gauge.store.recount import counters, recount
from tests.rows import ndjson
from tests.traffic import lines, mail
from tests.waiting import until

ROUNDS = int(os.environ.get("RUST_GAUGE_KILLS", "3"))
PIECES, ROWS = 24, 120
LINES = 240


@dataclass
class Site:
    """An installation of its own, whose parts are processes that can be killed."""

    database: PrivateMariaDb
    context: Context
    home: Path
    port: int
    processes: dict[str, subprocess.Popen[bytes]]

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def start(self, name: str) -> None:
        environment = {
            **os.environ, "RUSTGAUGE_DATABASE_URL": self.database.url, "RUSTGAUGE_PORT": str(self.port),
            "RUSTGAUGE_DNS_SERVERS": '["127.0.0.1:9"]', "RUSTGAUGE_DNS_TIMEOUT": "0.05", "RUSTGAUGE_DNS_ATTEMPTS": "1",
            "RUSTGAUGE_LOG_LEVEL": "error", "RUSTGAUGE_VAR_DIR": str(self.home),
            "RUSTGAUGE_FEED_FOLDERS": f'["{self.home}"]',
        }  # fmt: skip
        log = (self.home / f"{name}.out").open("ab")
        command = [sys.executable, "-m", "rust_gauge.launch.process", name]
        self.processes[name] = subprocess.Popen(command, env=environment, stdout=log, stderr=log)

    def wait(self) -> None:
        until(self._is_ready, lambda: (self.home / "service.out").read_text()[-2000:])

    def _refuses(self) -> bool:
        """Whether a call that needs the database is answered with 503."""
        answer = httpx.get(f"{self.url}/api/v1/session", headers={"Authorization": "Bearer rgt_x"}, timeout=60)
        return answer.status_code == 503 and answer.headers["retry-after"] == "5"

    def _is_ready(self) -> bool:
        try:
            return httpx.get(f"{self.url}/readyz", timeout=5).status_code == 200
        except httpx.TransportError:
            return False

    def frozen(self) -> AbstractContextManager[None]:
        """MariaDB takes connections and says nothing, until the end of the context."""
        assert self.database.process is not None
        process = self.database.process

        @contextlib.contextmanager
        def freeze() -> Iterator[None]:
            process.send_signal(signal.SIGSTOP)
            try:
                until(lambda: not self._is_ready())
                yield
            finally:
                process.send_signal(signal.SIGCONT)

        return freeze()

    def kill(self, name: str) -> None:
        if name == "frozen":
            with self.frozen():
                until(lambda: self._refuses())
        elif name == "mariadb":
            assert self.database.process is not None
            self.database.process.send_signal(signal.SIGKILL)
            self.database.process.wait(20)
            self.database.process = None
            self.database.start()
        else:
            self.processes[name].send_signal(signal.SIGKILL)
            self.processes[name].wait(20)
            self.start(name)


@pytest.fixture(scope="module")
def site() -> Iterator[Site]:
    home = Path(tempfile.mkdtemp(prefix="rust-gauge-kill-"))
    home.chmod(0o711)
    database = PrivateMariaDb(home / "mariadb", memory="128M")  # durable, as in real use
    made = None
    try:
        database.start()
        prepare(database.url)
        settings = Settings(database_url=database.url, var_dir=home, dns_servers=["127.0.0.1:9"], feed_folders=[home])  # type: ignore[arg-type]
        made = Site(database, make_context(settings), home, free_port(), {})
        made.start("service")
        made.start("feeds")
        made.start("worker")
        made.wait()
        yield made
    finally:
        if made is not None:
            for process in made.processes.values():
                process.terminate()
                process.wait(20)
            made.context.close()
        database.stop()
        shutil.rmtree(home, ignore_errors=True)


def test_a_frozen_database_is_said_and_holds_nobody_up(site: Site) -> None:
    with site.frozen():
        answer = httpx.get(f"{site.url}/readyz", timeout=60)
        assert (answer.status_code, answer.json()["type"]) == (503, "/problems/database-unavailable")
        assert answer.headers["retry-after"] == "5"
        until(lambda: site._refuses())  # those that were asked before are cut off; later ones are refused at once
        assert httpx.get(f"{site.url}/healthz", timeout=60).status_code == 200
    site.wait()
    answer = httpx.get(f"{site.url}/api/v1/session", headers={"Authorization": "Bearer rgt_x"}, timeout=60)
    assert answer.status_code == 401


@pytest.mark.parametrize("number", range(ROUNDS))
def test_every_acknowledged_event_is_there_once(site: Site, number: int) -> None:
    chance = random.Random(number)
    victim = chance.choice(["service", "feeds", "mariadb", "frozen", "worker"])
    store, now = site.context.store, utc_now()
    slug, email = f"round{number}", f"round{number}@office.example"
    account = store.transaction(lambda c: store_accounts.add_account(c, email, "R", "x", now))
    tenant_id = store.transaction(lambda c: store_accounts.add_tenant(c, slug, slug, now))
    store.transaction(lambda c: store_accounts.grant(c, account, tenant_id, Role.ADMIN))
    principal = store.transaction(lambda c: store_accounts.principal_of_email(c, email))
    assert principal is not None
    token = tokens.add_token(site.context, principal, NewToken(name="kill")).secret
    tenant = TenantAccess(tenant_id, slug, slug, Role.ADMIN)
    log = site.home / f"mail{number}.log"
    log.touch()
    store.transaction(lambda c: assignments.add_assignment(c, "folder", str(log), tenant_id, now, "owner"))
    feeds.add_feed(site.context, tenant, NewFeed(name="mta1", kind="log", source=FeedSource(path=str(log))))

    events = [event for row in range(PIECES * ROWS // 2) for event in mail(row)]
    chance.shuffle(events)
    size = len(events) // PIECES + 1
    pieces = [ndjson(*events[start : start + size]) for start in range(0, len(events), size)]
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-ndjson"}
    acknowledged: set[int] = set()
    begun = threading.Event()

    def load(which: range) -> None:
        for index in which:
            begun.set()
            try:
                answer = httpx.post(
                    f"{site.url}/api/v1/tenants/{slug}/events", content=pieces[index], headers=headers, timeout=60
                )
            except httpx.TransportError:
                continue
            if answer.status_code == 200:
                acknowledged.add(index)

    def write() -> None:
        with log.open("a") as file:
            for row in range(LINES):
                file.write(lines(row))
                file.flush()

    threads = [threading.Thread(target=load, args=(range(part, len(pieces), 2),)) for part in (0, 1)]
    threads.append(threading.Thread(target=write))
    for thread in threads:
        thread.start()
    assert begun.wait(30)
    moment = chance.randrange(PIECES // 2)  # with how many acknowledged, others on their way
    until(lambda: len(acknowledged) >= moment)
    site.kill(victim)
    for thread in threads:
        thread.join(120)
    site.wait()
    kept = _identities(site, tenant_id)
    for index in range(len(pieces)):  # whoever was not told repeats
        if index not in acknowledged:
            answer = httpx.post(
                f"{site.url}/api/v1/tenants/{slug}/events", content=pieces[index], headers=headers, timeout=60
            )
            assert answer.status_code == 200, answer.text
    wanted = len(events) + LINES * 2
    until(lambda: _count(site, tenant_id) >= wanted, lambda: f"{victim}: {_count(site, tenant_id)} of {wanted}")
    assert _count(site, tenant_id) == wanted
    assert kept <= _identities(site, tenant_id)
    held, right = store.transaction(lambda c: (counters(c, tenant_id), recount(c, tenant_id)))
    assert held == right, victim


def _ask(site: Site, sql: str) -> list[Any]:
    found: list[list[Any]] = []

    def answers() -> bool:
        with contextlib.suppress(StoreError):
            found.append(site.context.store.transaction(lambda c: list(c.exec_driver_sql(sql))))
        return bool(found)

    until(answers)
    return found[0]


def _count(site: Site, tenant_id: int) -> int:
    return int(_ask(site, f"SELECT COUNT(*) FROM event WHERE tenant_id = {tenant_id}")[0][0])


def _identities(site: Site, tenant_id: int) -> set[bytes]:
    return {bytes(row[0]) for row in _ask(site, f"SELECT identity FROM event WHERE tenant_id = {tenant_id}")}
