"""Views come from a replica as long as it is not too far behind; who has just written sees it at once."""

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pymysql
import pytest
import uvicorn
from pydantic import SecretStr

from rust_gauge.contract.tokens import NewToken
from rust_gauge.core.roles import Role
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import PrivateMariaDb
from rust_gauge.service.accounts import tokens
from rust_gauge.service.app import create_app
from rust_gauge.service.runtime.context import Context, make_context, utc_now
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store.replica import Replica
from tests.conftest import running
from tests.rows import ndjson, row
from tests.waiting import until


class Pair:
    """A database and its asynchronous replica."""

    def __init__(self, home: Path) -> None:
        self.main = PrivateMariaDb(home / "main", "64M", durable=False, binary_log=True,
                                   more_rights="REPLICATION SLAVE")  # fmt: skip
        self.copy = PrivateMariaDb(home / "copy", "64M", durable=False, server_id=2,
                                   more_rights="REPLICATION SLAVE ADMIN, REPLICA MONITOR")  # fmt: skip
        self.main.start()
        self.copy.start()
        self.ask(
            f"CHANGE MASTER TO MASTER_HOST='127.0.0.1', MASTER_PORT={self.main.port}, MASTER_USER='rust_gauge', "
            f"MASTER_PASSWORD='{self.main.password}', MASTER_USE_GTID=slave_pos"
        )
        self.ask("START SLAVE")

    def ask(self, sql: str) -> None:
        connection = pymysql.connect(
            host="127.0.0.1", port=self.copy.port, user="rust_gauge", password=self.copy.password
        )
        with connection, connection.cursor() as cursor:
            cursor.execute(sql)

    def stop(self) -> None:
        self.copy.stop()
        self.main.stop()


@pytest.fixture(scope="module")
def pair() -> Iterator[Pair]:
    home = Path(tempfile.mkdtemp(prefix="rust-gauge-replica-"))
    home.chmod(0o711)
    made = Pair(home)
    try:
        prepare(made.main.url)
        yield made
    finally:
        made.stop()
        shutil.rmtree(home, ignore_errors=True)


@pytest.fixture
def context(pair: Pair, tmp_path: Path) -> Iterator[Context]:
    settings = Settings(
        database_url=SecretStr(pair.main.url), database_read_url=SecretStr(pair.copy.url), database_read_lag=2,
        var_dir=tmp_path, dns_servers=["127.0.0.1:9"], dns_timeout=0.05,
    )  # fmt: skip
    made = make_context(settings)
    yield made
    made.close()


def reader_of(context: Context) -> Replica:
    reader = context.store.reader
    assert isinstance(reader, Replica)
    return reader


def is_behind(context: Context) -> bool:
    reader_of(context).measure()
    return not reader_of(context).is_usable


def test_views_come_from_the_replica_until_it_is_behind(pair: Pair, context: Context) -> None:
    reader = reader_of(context)
    assert reader.describe() == "primary; replica=away"  # nothing is known yet
    until(lambda: not is_behind(context))
    assert reader.describe().startswith("replica; lag=0.")
    port = f"{pair.copy.port}"
    assert str(context.store.read(lambda c: c.exec_driver_sql("SELECT @@port").scalar())) == port
    pair.ask("STOP SLAVE SQL_THREAD")
    until(lambda: is_behind(context))
    assert reader.describe().startswith("primary; lag=")
    assert str(context.store.read(lambda c: c.exec_driver_sql("SELECT @@port").scalar())) == f"{pair.main.port}"
    pair.ask("START SLAVE SQL_THREAD")
    until(lambda: not is_behind(context))


def test_who_has_just_written_sees_it(pair: Pair, context: Context) -> None:
    now, store = utc_now(), context.store
    account = store.transaction(lambda c: store_accounts.add_account(c, "a@office.example", "A", "x", now))
    tenant = store.transaction(lambda c: store_accounts.add_tenant(c, "office", "Office", now))
    store.transaction(lambda c: store_accounts.grant(c, account, tenant, Role.ADMIN))
    principal = store.transaction(lambda c: store_accounts.principal_of_email(c, "a@office.example"))
    assert principal is not None
    token = tokens.add_token(context, principal, NewToken(name="t")).secret
    headers = {"Authorization": f"Bearer {token}"}
    reader_of(context).start()
    until(lambda: reader_of(context).is_usable)
    server = uvicorn.Server(
        uvicorn.Config(create_app(context), host="127.0.0.1", port=0, log_level="error", lifespan="off")
    )
    thread = running(server)
    address = f"http://127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}"
    client, other = (httpx.Client(base_url=address, headers=headers, timeout=30) for _ in range(2))
    events = "/api/v1/tenants/office/events"
    until(lambda: client.get(events).headers["Views-From"].startswith("replica; lag="))
    pair.ask("STOP SLAVE SQL_THREAD")
    try:
        recent = row(1, time=now.replace(microsecond=0).isoformat())
        answer = client.post(events, content=ndjson(recent), headers={"Content-Type": "application/x-ndjson"})
        assert answer.json()["stored"] == 1
        assert "rust_gauge_wrote=1; Max-Age=4" in answer.headers["Set-Cookie"]
        assert len(client.get(events).json()["items"]) == 1
        answer = other.get(events)  # of the replica, as somebody else sees it, until that is known to be behind
        assert answer.headers["Views-From"].startswith("primary") or answer.json()["items"] == []
    finally:
        pair.ask("START SLAVE SQL_THREAD")
    until(lambda: len(other.get(events).json()["items"]) == 1)
    server.should_exit = True
    thread.join(20)


def test_a_replica_that_is_away_is_not_missed(pair: Pair, tmp_path: Path) -> None:
    settings = Settings(
        database_url=SecretStr(pair.main.url), database_read_url=SecretStr("mysql+pymysql://u:p@127.0.0.1:9/x"),
        var_dir=tmp_path, dns_servers=["127.0.0.1:9"],
    )  # fmt: skip
    context = make_context(settings)
    reader_of(context).measure()
    assert context.store.read(lambda c: c.exec_driver_sql("SELECT 1").scalar()) == 1
    assert reader_of(context).describe() == "primary; replica=away"
    context.close()
