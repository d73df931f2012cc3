"""Real parts for the whole run: one disposable MariaDB, the stand-in DNS, and the service on loopback."""

import asyncio
import functools
import os
import shutil
import tempfile
import threading
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
import uvicorn
from hypothesis import settings
from sqlalchemy import Connection, select

from rust_gauge.client import Client
from rust_gauge.contract.tokens import NewToken
from rust_gauge.core.roles import Role
from rust_gauge.gateways.bench_in import BenchIn
from rust_gauge.gateways.issuer import IssuerClient
from rust_gauge.gateways.pages import PageFetcher
from rust_gauge.gateways.resolver import Resolver
from rust_gauge.gateways.webhook import HookCaller
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import PrivateMariaDb, free_port
from rust_gauge.service.accounts import ownership, tokens
from rust_gauge.service.accounts.passwords import hash_password
from rust_gauge.service.app import create_app
from rust_gauge.service.bench.certificate import tls_context
from rust_gauge.service.bench.listener import Desk
from rust_gauge.service.feeds import runner as feed_runner
from rust_gauge.service.placement import outlets as placement_outlets
from rust_gauge.service.placement import seeds as placement_seeds
from rust_gauge.service.plans import publishing
from rust_gauge.service.runtime import installation, mail
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.logs import configure_logs
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.worker import work_once
from rust_gauge.service.worklist import installation_signs
from rust_gauge.standins.dns_world import DnsWorld, serve
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import assignments, tables
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import in_transaction
from tests.gateways.primary import Primary, primary

# How long an example takes depends on what else the machine does; figures are for `make bench`.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")

pytest_plugins = ["rust_gauge.client.testing"]
PASSWORD = "correct horse battery"
TODAY = datetime(2026, 11, 20, 12, tzinfo=UTC)
HEAD = "$TTL 300\n@ IN SOA ns. host. 1 3600 600 86400 60\n@ IN NS ns.\n"


# Files with few and long tests: they begin first, so that no process is left with one while the others are done.
_LONG = (
    "launch/", "console/", "service/test_promises", "service/test_schema", "service/test_generated_clients",
    "core/test_worlds", "core/test_demo_story", "core/test_audit_of_anything", "service/test_steady",
)  # fmt: skip


@pytest.hookimpl(trylast=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: not any(part in item.nodeid for part in _LONG))  # stable: all else stays in its order


class Clock:
    """A clock that a test can turn."""

    def __init__(self) -> None:
        self.now = TODAY

    def __call__(self) -> datetime:
        return self.now

    @contextmanager
    def later(self, by: timedelta) -> Iterator[None]:
        self.now += by
        try:
            yield
        finally:
            self.now -= by


def running(server: uvicorn.Server) -> threading.Thread:
    """Serve from a thread, and wait until it listens."""
    thread = threading.Thread(target=server.run, daemon=True)
    began = threading.Event()
    startup = server.startup

    async def started(*arguments: object, **named: object) -> None:
        await startup(*arguments, **named)  # type: ignore[arg-type]
        began.set()

    server.startup = started  # type: ignore[method-assign]
    thread.start()
    assert began.wait(20)
    return thread


@dataclass
class World:
    """The running product."""

    url: str
    context: Context
    clock: Clock
    dns: DnsWorld
    zones: Path
    database: PrivateMariaDb

    def zone(self, name: str, text: str) -> None:
        """Serve a zone from now on; what was answered before is forgotten, whichever test asked."""
        (self.zones / f"{name}.zone").write_text(HEAD + text)
        self.dns.reload()
        self.context.resolver._cache.clear()

    def work(self) -> int:
        """Do all jobs that wait; returns how many there were."""
        count = 0
        while work_once(self.context):
            count += 1
        return count


@dataclass
class Office:
    """A tenant of its own with an account and a token."""

    world: World
    tenant: TenantAccess
    email: str
    token: str

    @property
    def slug(self) -> str:
        return self.tenant.slug

    def client(self) -> Client:
        return Client(self.world.url, token=self.token)


_OUTSIDE: tuple[tuple[Any, str], ...] = (
    (Resolver, "answer_all"),
    (Resolver, "look"),
    (Resolver, "run"),
    (Resolver, "run_many"),
    (HookCaller, "post"),
    (PageFetcher, "fetch"),
    (mail, "send"),
    (publishing, "send_update"),
    (feed_runner, "read_imap"),
    (IssuerClient, "_json"),
    (placement_seeds, "seed_mailbox"),
    (placement_outlets, "outlet_session"),
)


@pytest.fixture(scope="session", autouse=True)
def nothing_outside_is_waited_for_in_a_transaction() -> Iterator[None]:
    """Every test holds the rule that DNS, HTTP, SMTP and IMAP are asked before a transaction opens or after it ends.

    What a name is imported as counts, too: `send` is wrapped wherever it is used.
    """
    with pytest.MonkeyPatch.context() as patch:
        for owner, name in _OUTSIDE:
            plain = getattr(owner, name)

            @functools.wraps(plain)
            def checked(*arguments: Any, plain: Any = plain, **named: Any) -> Any:
                assert not in_transaction(), f"{plain.__qualname__} was called inside a transaction"
                return plain(*arguments, **named)

            patch.setattr(owner, name, checked)
        yield


@pytest.fixture(scope="session", autouse=True)
def room_on_the_disk() -> Iterator[None]:
    """How full this machine's disk is decides nothing; `tests/service/test_installation.py` fills it."""
    with pytest.MonkeyPatch.context() as patch:
        for module in (installation, installation_signs):
            patch.setattr(module, "disk_use", lambda _: installation.DiskUse(Path("/var"), 0.5, 2**40))
        yield


@pytest.fixture(scope="session")
def database() -> Iterator[PrivateMariaDb]:
    # Under /tmp, which the server's own user can reach wherever the checkout lies.
    directory = Path(tempfile.mkdtemp(prefix="rust-gauge-test-"))
    private = PrivateMariaDb(directory / "mariadb", memory="128M", durable=False)
    directory.chmod(0o711)
    try:
        private.start()
        yield private
    finally:
        private.stop()
        shutil.rmtree(directory, ignore_errors=True)


@pytest.fixture(scope="session")
def dns_world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[DnsWorld]:
    world = DnsWorld(tmp_path_factory.mktemp("zones"))
    loop = asyncio.new_event_loop()
    ready = threading.Event()
    task = loop.create_task(serve(world, "127.0.0.1", 0, ready, [(0, 0), (0, 240)]))

    def run() -> None:
        try:
            loop.run_until_complete(task)
        except asyncio.CancelledError:
            pass
        finally:
            loop.close()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    assert ready.wait(10)
    yield world
    loop.call_soon_threadsafe(task.cancel)
    thread.join(10)


def _worker() -> int:
    """Return the number of this process of the tests: ports are chosen long before anybody listens there.

    They lie below those that the system gives to connections (32768 on), or one of these may have it by then.
    """
    return int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))


@pytest.fixture(scope="session")
def update_port() -> int:
    """Where the tests' BIND takes dynamic updates."""
    return free_port(31_990 + _worker())


@pytest.fixture(scope="session")
def bind(tmp_path_factory: pytest.TempPathFactory, update_port: int) -> Iterator[Primary]:
    with primary(tmp_path_factory.mktemp("primary"), update_port) as made:
        yield made


@pytest.fixture(scope="session")
def webhook_port() -> int:
    """Where the tests' receiver of webhooks listens."""
    return free_port(31_900 + _worker())


@pytest.fixture(scope="session")
def world(database: PrivateMariaDb, dns_world: DnsWorld, update_port: int, webhook_port: int) -> Iterator[World]:
    configure_logs("error")
    prepare(database.url)
    clock = Clock()
    chosen = Settings(
        database_url=database.url,  # type: ignore[arg-type]
        dns_servers=[f"127.0.0.1:{dns_world.port}"],
        dns_timeout=2,  # beside other work; what is silent on purpose costs this much
        secret_key="only for tests",  # type: ignore[arg-type]
        update_servers=[f"127.0.0.1:{update_port}"],
        webhook_hosts=[f"127.0.0.1:{webhook_port}"],
        watch_resolvers=[
            f"{name}=127.0.0.1:{port}" for name, port in zip(("near", "far"), dns_world.resolver_ports, strict=True)
        ],
        max_body_bytes=2_000_000,
        max_event_rows=12_000,
    )
    context = make_context(chosen, clock)
    server = uvicorn.Server(uvicorn.Config(create_app(context), host="127.0.0.1", port=0, log_level="error"))
    thread = running(server)
    port = server.servers[0].sockets[0].getsockname()[1]
    made = World(f"http://127.0.0.1:{port}", context, clock, dns_world, dns_world.directory, database)
    made.zone("tidepost.example", "@ IN MX 10 mx1\nmx1 IN A 192.0.2.5\n")
    made.zone("kbox.example", "@ IN MX 10 mx.kestrelbox.example.\n")
    yield made
    server.should_exit = True
    thread.join(20)


@functools.cache
def hashed_password() -> str:
    """Made once: an argon2 hash takes longer than most tests."""
    return hash_password(PASSWORD)


def make_office(world: World, role: Role = Role.ADMIN) -> Office:
    """A tenant of its own, with an account of this role in it."""
    slug = "t" + uuid.uuid4().hex[:10]
    email = f"{slug}@office.example"
    now = world.clock()
    store = world.context.store
    account = store.transaction(lambda c: store_accounts.add_account(c, email, "Isla Mackay", hashed_password(), now))
    tenant = store.transaction(lambda c: store_accounts.add_tenant(c, slug, f"Office {slug}", now))
    store.transaction(lambda c: store_accounts.grant(c, account, tenant, role))
    principal = store.transaction(lambda c: store_accounts.principal_of_email(c, email))
    assert principal is not None
    token = tokens.add_token(world.context, principal, NewToken(name="test", expires_in_days=None)).secret
    return Office(world, TenantAccess(tenant, slug, f"Office {slug}", role), email, token)


def make_owner(office: Office) -> None:
    """Make the account of an office an owner of the installation."""
    store = office.world.context.store
    found = store.transaction(lambda c: store_accounts.find_account(c, office.email))
    assert found is not None
    store.transaction(lambda c: store_accounts.change_account(c, found.id, is_owner=True))


def assign(office: Office, kind: str, *values: str) -> None:
    """Assign what feeds read to a tenant, as the owner of the installation does."""
    now = office.world.clock()

    def write(connection: Connection) -> None:
        for value in values:
            normal = ownership.normal(kind, value)
            assignments.delete_assignment(connection, kind, normal)  # of a tenant of an earlier test
            assignments.add_assignment(connection, kind, normal, office.tenant.id, now, "owner")

    office.world.context.store.transaction(write)


@contextmanager
def another(world: World) -> Iterator[tuple[Office, Client]]:
    """Give another tenant, with a client of its own."""
    made = make_office(world)
    with made.client() as client:
        yield made, client


def close_office(office: Office) -> None:
    """Delete a tenant and its work, so that no later test has to do it when it looks ahead."""
    office.world.context.store.transaction(lambda c: forget_tenant(c, office.tenant.id))


def forget_tenant(connection: Connection, tenant_id: int) -> None:
    """Delete a tenant and its jobs."""
    connection.execute(tables.job.delete().where(tables.job.c.tenant_id == tenant_id))
    connection.execute(tables.tenant.delete().where(tables.tenant.c.id == tenant_id))


def forget_others(office: Office) -> None:
    """What other tests left behind goes, so that looking ahead and the work after it are about this tenant."""

    def forget(connection: Connection) -> None:
        t = tables.tenant.c
        for id in connection.execute(select(t.id).where(t.id != office.tenant.id)).scalars().all():
            forget_tenant(connection, id)

    office.world.context.store.transaction(forget)


@pytest.fixture
def office(world: World) -> Iterator[Office]:
    """A tenant that no other test sees."""
    made = make_office(world)
    yield made
    close_office(made)


@pytest.fixture
def client(office: Office) -> Iterator[Client]:
    with office.client() as made:
        yield made


@pytest.fixture
def bench(office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[BenchIn]:
    """The listeners of the bench, with a certificate of their own."""
    context = office.world.context
    for name, value in (
        ("var_dir", tmp_path), ("bench_port", free_port()), ("bench_tls_port", free_port()),
        ("bench_domain", "bench.skerry.example"),
    ):  # fmt: skip
        monkeypatch.setattr(context.settings, name, value)
    settings = context.settings
    listeners = BenchIn(
        settings.bench_host, settings.bench_port, settings.bench_tls_port, settings.bench_name, Desk(context),
        tls_context(context),
    )  # fmt: skip
    listeners.start()
    yield listeners
    listeners.stop()
