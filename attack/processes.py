"""`make processes`: four services behind HAProxy, a random one of which is killed every ten seconds.

Meanwhile people with sessions read and write, programs send events and files, and one caller sends as much as it can.
Nobody is signed out, what somebody wrote is seen at once by whichever service answers, everything acknowledged is there
once, long work is done once, and the limit of requests holds over all four. PROCESSES_MINUTES, PROCESSES_SEED.
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
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
from bench.world import machine
from tests.rows import ndjson
from tests.traffic import mail

from rust_gauge.contract.tokens import NewToken
from rust_gauge.core.roles import Role
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import PrivateMariaDb, free_port
from rust_gauge.service.accounts import tokens
from rust_gauge.service.accounts.passwords import hash_password
from rust_gauge.service.runtime.context import Context, make_context, utc_now
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.recount import counters, recount

_MINUTES = float(os.environ.get("PROCESSES_MINUTES", "5"))
_SEED = int(os.environ.get("PROCESSES_SEED", "1"))
_SERVICES, _WORKERS, _PEOPLE, _SENDERS = 4, 2, 3, 2
_EVERY, _AWAY = 10.0, 3.0  # seconds between two kills, and until the killed one is started again
_LIMIT = 600  # requests of a caller in a minute
_MESSAGES, _ADDRESSES = 20, 500  # of a batch, of an import
_PASSWORD = "seven herons over slate"
_PASSING = (429, 502, 503, 504)  # answers that a caller tries again after


@dataclass
class Load:
    """What works on the services, and what came of it."""

    url: str
    context: Context
    tenant: TenantAccess
    tokens: list[str]
    over: threading.Event = field(default_factory=threading.Event)
    lock: threading.Lock = field(default_factory=threading.Lock)
    next: int = 0
    events: int = 0
    written: list[str] = field(default_factory=list)  # texts of annotations
    imports: list[int] = field(default_factory=list)
    let_through: list[float] = field(default_factory=list)  # times of the greedy caller's requests
    longest: dict[str, float] = field(default_factory=dict)  # seconds until a request was done, with its repeats
    statuses: Counter[int | str] = field(default_factory=Counter)
    strange: list[str] = field(default_factory=list)

    def threads(self) -> list[threading.Thread]:
        """Return people, programs, and the one that sends as much as it can."""
        people = [threading.Thread(target=self._guarded(lambda n=n: self._work_as_person(n))) for n in range(_PEOPLE)]  # type: ignore[misc]
        works: list[Callable[[], None]] = [self._send] * _SENDERS + [self._import, self._flood]
        return [*people, *(threading.Thread(target=self._guarded(work)) for work in works)]

    def _guarded(self, work: Callable[[], None]) -> Callable[[], None]:
        def run() -> None:
            try:
                work()
            except Exception as error:  # whatever it was, it is said at the end
                self.strange.append(f"{type(error).__name__}: {error}")

        return run

    def _asked(self, client: httpx.Client, what: str, method: str, path: str, **more: Any) -> httpx.Response:
        """Return the answer of a service, after as many repeats as it takes. What is sent may be done twice."""
        began = time.monotonic()
        while True:
            try:
                answer = client.request(method, path, **more)
            except httpx.TransportError as error:
                self.statuses[type(error).__name__] += 1
            else:
                self.statuses[answer.status_code] += 1
                if answer.status_code not in _PASSING:
                    with self.lock:
                        self.longest[what] = max(self.longest.get(what, 0.0), time.monotonic() - began)
                    return answer
            time.sleep(0.1)

    def _work_as_person(self, number: int) -> None:
        """Sign in once; then read pages, and write notes that have to be there at the next look."""
        with httpx.Client(base_url=f"{self.url}/api/v1", timeout=30) as client:
            who = {"email": f"p{number}@office.example", "password": _PASSWORD}
            self._asked(client, "sign in", "POST", "/session", json=who).raise_for_status()
            client.headers["Sec-Fetch-Site"] = "same-origin"
            count = 0
            while not self.over.is_set():
                for path in ("/session", "/wall", "/worklist", "/tenants/office/domains", "/tenants/office/flow"):
                    answer = self._asked(client, "read a page", "GET", path)
                    if answer.status_code != 200:
                        self.strange.append(f"{path}: {answer.status_code} {answer.text[:200]}")
                        return
                text = f"note {number}.{count}"
                count += 1
                self._write(client, text)
                time.sleep(0.3)

    def _write(self, client: httpx.Client, text: str) -> None:
        """Add a note once: where there was no answer, look whether it is there first."""
        path, note = "/tenants/office/annotations", {"day": str(utc_now().date()), "text": text}
        began = time.monotonic()
        while True:
            try:
                answer = client.post(path, json=note)
                self.statuses[answer.status_code] += 1
                if answer.status_code in (200, 201):
                    break
                if answer.status_code not in _PASSING:
                    self.strange.append(f"POST {path}: {answer.status_code} {answer.text[:200]}")
                    return
            except httpx.TransportError as error:
                self.statuses[type(error).__name__] += 1
            time.sleep(0.1)
            if text in self._notes(client):
                break
        self.longest["write a note"] = max(self.longest.get("write a note", 0.0), time.monotonic() - began)
        if text not in self._notes(client):
            self.strange.append(f"{text} was written and is not seen")
        with self.lock:
            self.written.append(text)

    def _notes(self, client: httpx.Client) -> list[str]:
        today = str(utc_now().date())
        query = {"first": today, "last": today}
        answer = self._asked(client, "read notes", "GET", "/tenants/office/annotations", params=query)
        return [each["text"] for each in answer.json()["items"]]

    def _program(self, token: int) -> httpx.Client:
        return httpx.Client(
            base_url=f"{self.url}/api/v1/tenants/office", headers={"Authorization": f"Bearer {self.tokens[token]}"},
            timeout=30,
        )  # fmt: skip

    def _send(self) -> None:
        with self._program(0) as client:
            while not self.over.is_set():
                with self.lock:
                    first, self.next = self.next, self.next + _MESSAGES
                rows = [event for number in range(first, first + _MESSAGES) for event in mail(number)]
                kind = {"Content-Type": "application/x-ndjson"}
                answer = self._asked(client, "send events", "POST", "/events", content=ndjson(*rows), headers=kind)
                if answer.status_code != 200:
                    self.strange.append(f"events: {answer.status_code} {answer.text[:200]}")
                    return
                with self.lock:
                    self.events += len(rows)
                time.sleep(0.1)

    def _import(self) -> None:
        """Import files one after the other, a piece at a time, and wait for each."""
        with self._program(1) as client:
            while not self.over.is_set():
                number = len(self.imports)
                rows = range(number * _ADDRESSES, (number + 1) * _ADDRESSES)
                text = "address\n" + "".join(f"held{n}@tidepost.example\n" for n in rows)
                wanted = {"name": f"list {number}", "reason": "invalid_address"}
                # A job that is begun twice is one that nobody fills.
                id = self._asked(client, "begin an import", "POST", "/suppression/imports", json=wanted).json()["id"]
                half = text.index("\n", len(text) // 2) + 1
                for piece, part in enumerate((text[:half], text[half:])):
                    kind = {"Content-Type": "application/octet-stream"}
                    path = f"/jobs/{id}/pieces/{piece}"
                    self._asked(client, "send a piece", "PUT", path, content=part.encode(), headers=kind)
                self._asked(client, "run a job", "POST", f"/jobs/{id}/run", json={"dry": False})
                began = time.monotonic()
                while True:
                    job = self._asked(client, "look at a job", "GET", f"/jobs/{id}").json()
                    if job["state"] in ("done", "failed", "cancelled") or time.monotonic() - began > 120:
                        break
                    time.sleep(0.2)
                if job["state"] != "done" or job["result"]["counts"]["new"] != _ADDRESSES:
                    self.strange.append(f"import {number}: {job['state']} {job['result']} {job['error']}")
                self.imports.append(id)

    def _flood(self) -> None:
        """Send as much as it can, over several connections, for as long as it lasts."""

        def work() -> None:
            with self._program(2) as client:
                while not self.over.is_set():
                    with contextlib.suppress(httpx.TransportError):
                        answer = client.get("/domains?limit=1")
                        if answer.status_code == 200:
                            with self.lock:
                                self.let_through.append(time.monotonic())
                        elif answer.status_code == 429:
                            time.sleep(0.05)

        threads = [threading.Thread(target=work) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()


@dataclass
class Services:
    """The services behind the proxy, the workers, and who kills and starts them."""

    home: Path
    environment: dict[str, str]
    ports: list[int]
    processes: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def start(self, name: str) -> None:
        """Start a part: `service-N` or `worker-N`."""
        kind, _, number = name.partition("-")
        port = self.ports[int(number)] if kind == "service" else 8850
        out = (self.home / f"{name}.out").open("ab")
        command = [sys.executable, "-m", "rust_gauge.launch.process", kind]
        environment = {**os.environ, **self.environment, "RUSTGAUGE_PORT": str(port)}
        self.processes[name] = subprocess.Popen(command, env=environment, stdout=out, stderr=out)

    def stop(self) -> None:
        """End all."""
        for process in self.processes.values():
            process.terminate()
        for process in self.processes.values():
            process.wait(30)


def main() -> int:
    """Return 1 when anything was not as promised."""
    print(f"{datetime.now(UTC):%Y-%m-%d} on {machine()}", flush=True)
    home = Path(tempfile.mkdtemp(prefix="rust-gauge-processes-"))
    home.chmod(0o711)
    database = PrivateMariaDb(home / "mariadb")
    try:
        database.start()
        prepare(database.url)
        with _working(database.url, home) as (load, services):
            kills = _disturbed(load, services)
            return 0 if _check(load, kills) else 1
    finally:
        database.stop()
        shutil.rmtree(home, ignore_errors=True)


@contextlib.contextmanager
def _working(url: str, home: Path) -> Iterator[tuple[Load, Services]]:
    environment = {
        "RUSTGAUGE_DATABASE_URL": url, "RUSTGAUGE_DNS_SERVERS": '["127.0.0.1:9"]', "RUSTGAUGE_DNS_TIMEOUT": "0.05",
        "RUSTGAUGE_DNS_ATTEMPTS": "1", "RUSTGAUGE_LOG_LEVEL": "warning", "RUSTGAUGE_VAR_DIR": str(home),
        "RUSTGAUGE_REQUESTS_PER_MINUTE": str(_LIMIT), "RUSTGAUGE_REQUESTS_PER_MINUTE_OF_SOURCE": "0",
        "RUSTGAUGE_PROXIES": '["127.0.0.1"]',
    }  # fmt: skip
    context = make_context(Settings(database_url=url, var_dir=home, dns_servers=["127.0.0.1:9"]))  # type: ignore[arg-type]
    store, now = context.store, utc_now()
    tenant_id = store.transaction(lambda c: store_accounts.add_tenant(c, "office", "Office", now))

    def add(c: Any) -> None:
        for number in range(_PEOPLE):
            mail_address = f"p{number}@office.example"
            account = store_accounts.add_account(c, mail_address, f"P{number}", hash_password(_PASSWORD), now)
            store_accounts.grant(c, account, tenant_id, Role.ADMIN)

    store.transaction(add)
    principal = store.transaction(lambda c: store_accounts.principal_of_email(c, "p0@office.example"))
    assert principal is not None
    made = [tokens.add_token(context, principal, NewToken(name=f"program {n}")).secret for n in range(3)]
    services = Services(home, environment, [free_port() for _ in range(_SERVICES)])
    port = free_port()
    proxy = _proxy(home, port, services.ports)
    names = [f"service-{n}" for n in range(_SERVICES)] + [f"worker-{n}" for n in range(_WORKERS)]
    try:
        for name in names:
            services.start(name)
        _until(lambda: all(_is_ready(each) for each in services.ports), 60)
        _until(lambda: _is_ready(port), 30)
        tenant = TenantAccess(tenant_id, "office", "Office", Role.ADMIN)
        yield Load(f"http://127.0.0.1:{port}", context, tenant, made), services
    finally:
        services.stop()
        proxy.terminate()
        proxy.wait(10)
        context.close()


def _proxy(home: Path, port: int, ports: list[int]) -> subprocess.Popen[bytes]:
    """HAProxy as docs/operations.md says."""
    path = home / "haproxy.cfg"
    servers = [f"  server gauge-{n} 127.0.0.1:{each} check" for n, each in enumerate(ports, 1)]
    path.write_text(
        "\n".join((
            "global", "  maxconn 2000", "defaults", "  mode http", "  timeout connect 2s", "  timeout client 2m",
            "  timeout server 2m", "  timeout check 1s", "  retries 3", "  option redispatch 1", "  option forwardfor",
            "listen gauge", f"  bind 127.0.0.1:{port}", "  balance roundrobin", "  option httpchk GET /readyz",
            "  http-check expect status 200", "  default-server inter 500ms fall 1 rise 2", *servers, "",
        ))
    )  # fmt: skip
    found = shutil.which("haproxy") or "/usr/sbin/haproxy"
    return subprocess.Popen(
        [found, "-f", str(path)], stdout=(home / "haproxy.log").open("ab"), stderr=subprocess.STDOUT
    )


def _is_ready(port: int) -> bool:
    try:
        return httpx.get(f"http://127.0.0.1:{port}/readyz", timeout=5).status_code == 200
    except httpx.TransportError:
        return False


def _disturbed(load: Load, services: Services) -> int:
    """Let everybody work while a random service is killed every ten seconds. Return how often."""
    chance, threads, kills = random.Random(_SEED), load.threads(), 0
    for thread in threads:
        thread.start()
    end = time.monotonic() + _MINUTES * 60
    try:
        while time.monotonic() < end and not load.strange:
            time.sleep(_EVERY - _AWAY)
            name = f"service-{chance.randrange(_SERVICES)}"
            services.processes[name].send_signal(signal.SIGKILL)
            services.processes[name].wait()
            kills += 1
            time.sleep(_AWAY)
            services.start(name)
    finally:
        load.over.set()
        for thread in threads:
            thread.join(180)
    return kills


def _check(load: Load, kills: int) -> bool:
    store, tenant_id = load.context.store, load.tenant.id

    def count(sql: str) -> int:
        return int(store.transaction(lambda c: c.exec_driver_sql(sql).scalar()))  # type: ignore[arg-type]

    counted, right = store.transaction(lambda c: (counters(c, tenant_id), recount(c, tenant_id)))
    stored = f"SELECT COUNT(*) FROM event WHERE tenant_id = {tenant_id}"
    notes = f"FROM annotation WHERE tenant_id = {tenant_id} AND text LIKE 'note %%'"
    held = f"SELECT COUNT(*) FROM suppression_entry WHERE tenant_id = {tenant_id} AND address LIKE 'held%%'"
    results = [
        (
            "events acknowledged and there",
            load.events,
            count(stored),
        ),
        ("counters that differ from a recount", 0, 0 if counted == right else 1),
        ("notes written and there", len(load.written), count(f"SELECT COUNT(*) {notes}")),
        ("notes that are there once", len(load.written), count(f"SELECT COUNT(DISTINCT text) {notes}")),
        ("addresses of imports and there", len(load.imports) * _ADDRESSES, count(held)),
        ("people signed out, answers that nobody expects", 0, len(load.strange)),
    ]
    print(f"\n{kills} services killed in {_MINUTES:g} minutes; {len(load.imports)} imports; {dict(load.statuses)}")
    print("Longest until done, with repeats: " + ", ".join(f"{k} {v:.1f} s" for k, v in load.longest.items()))
    print("\n| | wanted | found |\n| --- | --- | --- |")
    for name, should, there in results:
        print(f"| {name} | {should:,} | {there:,} |", flush=True)
    for text in load.strange[:8]:
        print(text)
    return all(should == there for _, should, there in results) and _is_limited(load.let_through)


def _is_limited(times: list[float]) -> bool:
    """Whether the greedy caller had the limit of one, not of four: a full bucket first, then what fills it."""
    if not times:
        return False
    seconds = times[-1] - times[0]
    wanted = _LIMIT + _LIMIT / 60 * seconds
    print(f"\nThe greedy caller: {len(times):,} requests let through in {seconds:.0f} s; the limit is {wanted:,.0f}")
    return len(times) <= wanted * 1.1


def _until(what: Callable[[], bool], within: float) -> None:
    end = time.monotonic() + within
    while not what():
        if time.monotonic() > end:
            raise TimeoutError(f"not within {within:.0f} s")
        time.sleep(0.1)


if __name__ == "__main__":
    sys.exit(main())
