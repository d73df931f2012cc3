"""`make failover`: the writer of a cluster is killed, stopped, frozen or cut off and brought back, 30 times at random.

Three service processes, two workers and a feed work on the cluster meanwhile. At the end every event that was
acknowledged, and every line of the log, is there once; counters equal a recount; each import was done once.

As root each node is a host of its own, in a network namespace, so that it can be cut off; otherwise all are on
loopback, and none is. FAILOVER_ROUNDS, FAILOVER_SEED.
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
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Any

import httpx
import pymysql
from bench.world import machine
from sqlalchemy.engine import make_url
from tests.rows import ndjson
from tests.traffic import lines, mail

from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.contract.jobs import ImportRequest
from rust_gauge.contract.tokens import NewToken
from rust_gauge.core.roles import Role
from rust_gauge.launch.cluster import Cluster, ClusterNode, Place
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.accounts import tokens
from rust_gauge.service.feeds import feeds
from rust_gauge.service.jobs import jobs
from rust_gauge.service.runtime.context import Context, make_context, utc_now
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.suppression import imports
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import assignments
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.recount import counters, recount

_ROUNDS = int(os.environ.get("FAILOVER_ROUNDS", "30"))
_SEED = int(os.environ.get("FAILOVER_SEED", "1"))
_LONGEST = 10.0  # seconds without an acknowledged event
_SERVICES, _WORKERS, _SENDERS = 3, 2, 3
_MESSAGES = 40  # of a batch
_ADDRESSES = 300  # of an import
_HOST = "198.51.100"


class Hosts:
    """Three hosts in network namespaces, joined by a bridge of this machine. Nothing without root."""

    def __init__(self) -> None:
        self.are_there = os.geteuid() == 0 and shutil.which("ip") is not None

    def __enter__(self) -> "Hosts":
        if self.are_there:
            self._remove()
            _ip("link add rg-bridge type bridge")
            _ip(f"addr add {_HOST}.1/24 dev rg-bridge")
            _ip("link set rg-bridge up")
            for n in (1, 2, 3):
                _ip(f"netns add rg-{n}")
                _ip(f"link add rg-out{n} type veth peer name eth0 netns rg-{n}")
                _ip(f"link set rg-out{n} master rg-bridge up")
                _ip(f"-n rg-{n} addr add {_HOST}.1{n}/24 dev eth0")
                _ip(f"-n rg-{n} link set eth0 up")
                _ip(f"-n rg-{n} link set lo up")
        return self

    def __exit__(self, *_: object) -> None:
        if self.are_there:
            self._remove()

    def _remove(self) -> None:
        with contextlib.suppress(subprocess.CalledProcessError):
            _ip("link del rg-bridge")
        for n in (1, 2, 3):
            for words in (f"link del rg-out{n}", f"netns del rg-{n}"):
                with contextlib.suppress(subprocess.CalledProcessError):
                    _ip(words)

    def places(self) -> tuple[Place, ...]:
        """Return where the nodes run; empty for loopback."""
        if not self.are_there:
            return ()
        return tuple(
            Place(f"{_HOST}.1{n}", 3306, 4567, 4568, 4444, free_port(), ("ip", "netns", "exec", f"rg-{n}"))
            for n in (1, 2, 3)
        )

    def cut(self, number: int, off: bool) -> None:
        """Cut a host off, or connect it again."""
        _ip(f"link set rg-out{number} {'down' if off else 'up'}")


def _ip(words: str) -> None:
    subprocess.run(["ip", *words.split()], check=True, capture_output=True)


@dataclass
class Load:
    """What works on the cluster, and what was acknowledged."""

    home: Path
    context: Context
    tenant: TenantAccess
    token: str
    ports: list[int]
    acknowledged: list[float] = field(default_factory=list)  # when
    events: int = 0
    lines: int = 0
    imports: list[int] = field(default_factory=list)  # jobs
    ready: list[tuple[float, bool]] = field(default_factory=list)
    over: threading.Event = field(default_factory=threading.Event)
    lock: threading.Lock = field(default_factory=threading.Lock)
    next: int = 0
    strange: list[str] = field(default_factory=list)
    statuses: Counter[int | str] = field(default_factory=Counter)  # of answers to senders

    def threads(self) -> list[threading.Thread]:
        """Return senders, the writer of the log, and who asks whether the services are ready."""
        works: list[Callable[[], None]] = [self._send] * _SENDERS + [self._write, self._watch]
        return [threading.Thread(target=work) for work in works]

    def _send(self) -> None:
        chance = random.Random()
        headers = {"Authorization": f"Bearer {self.token}", "Content-Type": "application/x-ndjson"}
        while not self.over.is_set():
            with self.lock:
                first, self.next = self.next, self.next + _MESSAGES
            events = [event for number in range(first, first + _MESSAGES) for event in mail(number)]
            body = ndjson(*events)
            while True:  # a sender repeats until everything is acknowledged
                url = f"http://127.0.0.1:{chance.choice(self.ports)}/api/v1/tenants/{self.tenant.slug}/events"
                try:
                    answer = httpx.post(url, content=body, headers=headers, timeout=30)
                except httpx.TransportError as error:
                    self.statuses[type(error).__name__] += 1
                    continue
                self.statuses[answer.status_code] += 1
                if answer.status_code == 200:
                    break
                if answer.status_code not in (429, 503):
                    self.strange.append(f"{answer.status_code} {answer.text[:200]}")
                    return
                time.sleep(0.2)
            with self.lock:
                self.acknowledged.append(time.monotonic())
                self.events += len(events)

    def _write(self) -> None:
        with (self.home / "mail.log").open("a") as file:
            while not self.over.wait(0.2):
                file.write(lines(self.lines))
                file.flush()
                self.lines += 1

    def _watch(self) -> None:
        while not self.over.wait(0.2):
            for port in self.ports:
                began = time.monotonic()
                try:
                    ready = httpx.get(f"http://127.0.0.1:{port}/readyz", timeout=5).status_code == 200
                except httpx.TransportError:
                    ready = False
                self.ready.append((began, ready))

    def begin_import(self) -> None:
        """Ask for an import of addresses that no other has."""
        first = len(self.imports) * _ADDRESSES
        text = "address\n" + "".join(f"held{n}@tidepost.example\n" for n in range(first, first + _ADDRESSES))
        request = ImportRequest(name=f"list {first}", reason="invalid_address")
        job = imports.start(self.context, self.tenant, request, "failover")
        jobs.put_piece(self.context, self.tenant, job.id, 0, text.encode())
        jobs.run(self.context, self.tenant, job.id, dry=False)
        self.imports.append(job.id)


def main() -> int:
    """Return 1 when anything was lost or twice, or was away for too long."""
    print(f"{datetime.now(UTC):%Y-%m-%d} on {machine()}", flush=True)
    home = Path(tempfile.mkdtemp(prefix="rust-gauge-failover-"))
    home.chmod(0o711)
    with Hosts() as hosts:
        cluster = Cluster(home / "cluster", places=hosts.places(), clients="%")
        try:
            cluster.start()
            prepare(cluster.url())
            with _working(cluster, home) as load:
                good = _rounds(cluster, hosts, load)
                return 0 if _check(load) and good else 1
        finally:
            cluster.stop()
            shutil.rmtree(home, ignore_errors=True)


@contextlib.contextmanager
def _working(cluster: Cluster, home: Path) -> Iterator[Load]:
    environment = {
        "RUSTGAUGE_DATABASE_URL": cluster.url(), "RUSTGAUGE_DATABASE_READ_URL": cluster.url(read=True),
        "RUSTGAUGE_DATABASE_PATIENCE": "15", "RUSTGAUGE_DNS_SERVERS": '["127.0.0.1:9"]',
        "RUSTGAUGE_DNS_TIMEOUT": "0.05", "RUSTGAUGE_DNS_ATTEMPTS": "1", "RUSTGAUGE_LOG_LEVEL": "warning",
        "RUSTGAUGE_VAR_DIR": str(home), "RUSTGAUGE_FEED_FOLDERS": f'["{home}"]',
        "RUSTGAUGE_REQUESTS_PER_MINUTE": "0", "RUSTGAUGE_REQUESTS_PER_MINUTE_OF_SOURCE": "0",
    }  # fmt: skip
    settings = Settings(  # type: ignore[call-arg]
        database_url=cluster.url(), database_patience=15, var_dir=home, dns_servers=["127.0.0.1:9"],
        feed_folders=[home],
    )  # fmt: skip
    context = make_context(settings)
    store, now = context.store, utc_now()
    account = store.transaction(lambda c: store_accounts.add_account(c, "f@office.example", "F", "x", now))
    tenant_id = store.transaction(lambda c: store_accounts.add_tenant(c, "office", "Office", now))
    store.transaction(lambda c: store_accounts.grant(c, account, tenant_id, Role.ADMIN))
    principal = store.transaction(lambda c: store_accounts.principal_of_email(c, "f@office.example"))
    assert principal is not None
    token = tokens.add_token(context, principal, NewToken(name="failover")).secret
    tenant = TenantAccess(tenant_id, "office", "Office", Role.ADMIN)
    log = home / "mail.log"
    log.touch()
    store.transaction(lambda c: assignments.add_assignment(c, "folder", str(log), tenant_id, now, "owner"))
    feeds.add_feed(context, tenant, NewFeed(name="mta1", kind="log", source=FeedSource(path=str(log))))
    ports = [free_port() for _ in range(_SERVICES)]
    parts = [("service", port) for port in ports] + [("worker", 0)] * _WORKERS + [("feeds", 0)]
    processes = []
    for number, (name, port) in enumerate(parts):
        out = (home / f"{name}-{number}.out").open("ab")
        command = [sys.executable, "-m", "rust_gauge.launch.process", name]
        more = {**os.environ, **environment, "RUSTGAUGE_PORT": str(port or 8850)}
        processes.append(subprocess.Popen(command, env=more, stdout=out, stderr=out))
    load = Load(home, context, tenant, token, ports)
    try:
        _until(lambda: all(_is_ready(port) for port in ports), 60)
        yield load
    finally:
        for process in processes:
            process.terminate()
        for process in processes:
            process.wait(30)
        context.close()


def _is_ready(port: int) -> bool:
    try:
        return httpx.get(f"http://127.0.0.1:{port}/readyz", timeout=5).status_code == 200
    except httpx.TransportError:
        return False


def _rounds(cluster: Cluster, hosts: Hosts, load: Load) -> bool:
    chance = random.Random(_SEED)
    threads = load.threads()
    for thread in threads:
        thread.start()
    good = True
    ways = ["killed", "stopped", "frozen", *(["cut off"] if hosts.are_there else [])]
    print("| round | writer | was | away, s | while it came back, s |\n| --- | --- | --- | --- | --- |", flush=True)
    try:
        time.sleep(3)
        for number in range(1, _ROUNDS + 1):
            load.begin_import()
            writer = _writer(cluster)
            way = ways[number - 1] if number <= len(ways) else chance.choice(ways)
            place = cluster.nodes.index(writer)
            cluster.left_alone.add(place)
            began = time.monotonic()
            _disturb(writer, cluster, hosts, way)
            _until(partial(_goes_on, load, began), 60)
            time.sleep(chance.uniform(0, 4))
            away = _gap(load, began)
            load.statuses.clear()
            returned = time.monotonic()
            _bring_back(writer, cluster, hosts, way)
            cluster.left_alone.discard(place)
            time.sleep(3)  # one that was cut off or frozen notices only now
            _until(partial(_all_synced, cluster), 120)
            back = _gap(load, returned)
            good = good and max(away, back) <= _LONGEST
            print(f"| {number} | {writer.name} | {way} | {away:.1f} | {back:.1f} |", flush=True)
    except Exception:
        print(dict(load.statuses), load.strange[-3:], file=sys.stderr, flush=True)
        for node, agent in zip(cluster.nodes, cluster.agents, strict=True):
            said = f"{node.name}: {agent.problem(writing=True)}\n{node._log_tail()}\n{_statements(node)}\n"
            print(said, file=sys.stderr, flush=True)
        raise
    finally:
        load.over.set()
        for thread in threads:
            thread.join(120)
    print(f"\nStarted again: {'; '.join(cluster.restarts)}", flush=True)
    return good and _is_truthful(load)


def _statements(node: ClusterNode) -> str:
    """Return what a node is doing, for finding out why nothing goes on."""
    url = make_url(node.url)
    try:
        connection: Any = pymysql.connect(
            host=url.host, port=url.port or 0, user=url.username, password=url.password or "", connect_timeout=3,
            read_timeout=3,
        )  # fmt: skip
        with connection, connection.cursor() as cursor:
            cursor.execute("SHOW FULL PROCESSLIST")
            return "\n".join(str(row)[:300] for row in cursor.fetchall())
    except (pymysql.MySQLError, OSError) as error:
        return str(error)


def _writer(cluster: Cluster) -> ClusterNode:
    url = make_url(cluster.url())
    connection: Any = pymysql.connect(host=url.host, port=url.port or 0, user=url.username, password=url.password or "")
    with connection, connection.cursor() as cursor:
        cursor.execute("SELECT @@wsrep_node_name")
        name = cursor.fetchone()[0]
    return next(node for node in cluster.nodes if node.name == name)


def _disturb(node: ClusterNode, cluster: Cluster, hosts: Hosts, way: str) -> None:
    if way == "killed":
        node.kill()
    elif way == "stopped":
        node.stop()
    elif way == "frozen" and node.process is not None:
        node.process.send_signal(signal.SIGSTOP)
    elif way == "cut off":
        hosts.cut(cluster.nodes.index(node) + 1, True)


def _bring_back(node: ClusterNode, cluster: Cluster, hosts: Hosts, way: str) -> None:
    if way == "frozen" and node.process is not None:
        node.process.send_signal(signal.SIGCONT)
    elif way == "cut off":
        hosts.cut(cluster.nodes.index(node) + 1, False)
    # One that was killed or stopped is started by the cluster itself.


def _goes_on(load: Load, began: float) -> bool:
    """Whether events are acknowledged again."""
    with load.lock:
        return time.monotonic() - began > 3 and sum(at > began + 1 for at in load.acknowledged) >= 3


def _all_synced(cluster: Cluster) -> bool:
    return not any(agent.problem(writing=True) for agent in cluster.agents)


def _gap(load: Load, began: float) -> float:
    """Return the longest time without an acknowledgement since a moment, up to now."""
    with load.lock:
        times = [at for at in load.acknowledged if at > began - 1] + [time.monotonic()]
    return max((later - at for at, later in pairwise(times)), default=0.0)


def _is_truthful(load: Load) -> bool:
    """Whether services said that they were not ready only around moments without acknowledgements, and did so then."""
    times = sorted(load.acknowledged)
    gaps = [(at, later) for at, later in pairwise(times) if later - at > 1.5]
    refused = [at for at, ready in load.ready if not ready]
    wrong = [at for at in refused if not any(begin - 2 <= at <= end + 3 for begin, end in gaps)]
    long_ones = [gap for gap in gaps if gap[1] - gap[0] > 4]
    silent = [gap for gap in long_ones if not any(gap[0] <= at <= gap[1] for at in refused)]
    print(
        f"\n/readyz: {len(load.ready):,} answers, {len(refused):,} not ready, {len(wrong)} of these without an outage; "
        f"{len(silent)} of {len(long_ones)} outages above 4 s not said",
        flush=True,
    )
    return not silent and len(wrong) <= len(load.ready) * 0.002


def _check(load: Load) -> bool:
    """Whether everything is there once."""
    store, tenant_id = load.context.store, load.tenant.id

    def count(sql: str) -> int:
        return int(store.transaction(lambda c: c.exec_driver_sql(sql).scalar()))  # type: ignore[arg-type]

    wanted = load.events + 2 * load.lines
    stored = f"SELECT COUNT(*) FROM event WHERE tenant_id = {tenant_id}"
    with contextlib.suppress(TimeoutError):
        _until(lambda: count(stored) >= wanted, 120)
    held = f"SELECT COUNT(*) FROM suppression_entry WHERE tenant_id = {tenant_id} AND address LIKE 'held%%'"
    addresses = len(load.imports) * _ADDRESSES
    with contextlib.suppress(TimeoutError):
        _until(lambda: count(held) >= addresses, 120)
    counted, right = store.transaction(lambda c: (counters(c, tenant_id), recount(c, tenant_id)))
    found = [jobs.get(load.context, load.tenant, id) for id in load.imports]
    new = sum(job.result.get("counts", {}).get("new", 0) for job in found)
    results = [
        ("events and lines acknowledged", wanted, count(stored)),
        ("counters that differ from a recount", 0, 0 if counted == right else 1),
        ("imports done", len(found), sum(job.state == "done" for job in found)),
        ("addresses imported", addresses, count(held)),
        ("addresses that imports counted as new", addresses, new),
        ("answers other than 200, 429 and 503", 0, len(load.strange)),
    ]
    print("\n| | wanted | found |\n| --- | --- | --- |")
    for name, should, there in results:
        print(f"| {name} | {should:,} | {there:,} |", flush=True)
    for text in load.strange[:5]:
        print(text)
    return all(should == there for _, should, there in results)


def _until(what: Callable[[], bool], within: float) -> None:
    end = time.monotonic() + within
    while not what():
        if time.monotonic() > end:
            raise TimeoutError(f"not within {within:.0f} s")
        time.sleep(0.1)


if __name__ == "__main__":
    sys.exit(main())
