"""The installation itself: a disk that fills up, parts that keep ending, tokens used from elsewhere."""

import json
import subprocess
import sys
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from rust_gauge.client import Client
from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.contract.tokens import NewToken
from rust_gauge.service.accounts import tokens
from rust_gauge.service.feeds.runner import Runner
from rust_gauge.service.runtime import installation
from rust_gauge.service.runtime.installation import DiskUse, disk_use, restarts
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.worklist import installation_signs
from rust_gauge.store import accounts, tables
from rust_gauge.store.engine import StoreUnavailable
from tests.conftest import Office, World, another, assign
from tests.core.test_mtalog import LOG
from tests.rows import ndjson, row

Fill = Callable[[float], None]


@pytest.fixture
def fill(world: World, monkeypatch: pytest.MonkeyPatch) -> Fill:
    def fill(used: float) -> None:
        world.context.memory.pop("disk", None)
        for module in (installation, installation_signs):
            monkeypatch.setattr(module, "disk_use", lambda _: DiskUse(Path("/var"), used, 3 * 2**30))

    yield fill  # type: ignore[misc]
    world.context.memory.pop("disk", None)


@pytest.fixture(autouse=True)
def nobody_owns_the_installation(world: World) -> Iterator[None]:
    """Owners that earlier tests left would be the only ones to see these items."""
    store, account = world.context.store, tables.account
    owners = store.transaction(lambda c: list(c.scalars(select(account.c.id).where(account.c.is_owner))))
    ours = account.c.id.in_(owners)
    store.transaction(lambda c: c.execute(account.update().where(ours).values(is_owner=False)))
    yield
    store.transaction(lambda c: c.execute(account.update().where(ours).values(is_owner=True)))


def items(client: Client, office: Office) -> dict[str, str]:
    client.worklist.detect(office.slug)
    return {item.title: item.level for item in client.worklist.list(tenant=office.slug)}


@pytest.mark.parametrize(
    ("used", "expected"),
    [(0.84, {}), (0.85, {"The disk is 85% full": "fix"}), (0.951, {"The disk is 95% full": "stop"})],
)
def test_a_disk_that_fills_up_is_an_item(
    office: Office, client: Client, fill: Fill, used: float, expected: dict[str, str]
) -> None:
    fill(used)
    assert items(client, office) == expected


def test_intake_stops_before_the_disk_is_full_and_goes_on_afterwards(
    office: Office, client: Client, fill: Fill
) -> None:
    fill(0.95)
    answer = httpx.post(
        f"{office.world.url}/api/v1/tenants/{office.slug}/events", content=ndjson(row(1)),
        headers={"Authorization": f"Bearer {office.token}", "Content-Type": "application/x-ndjson"},
    )  # fmt: skip
    assert (answer.status_code, answer.headers["retry-after"]) == (503, "5")
    assert answer.json()["detail"] == "The disk of the service is 95% full"
    fill(0.9)
    assert client.events.load(office.slug, ndjson(row(1))).stored == 1


def test_a_log_is_not_read_past_what_could_not_be_stored(
    office: Office, client: Client, fill: Fill, tmp_path: Path
) -> None:
    world, log = office.world, tmp_path / "mail.log"
    log.touch()
    kept, world.context.settings.feed_folders = world.context.settings.feed_folders, [tmp_path]
    runner = Runner(world.context)
    try:
        assign(office, "folder", str(log))
        client.feeds.add(office.slug, NewFeed(name="mta", kind="log", source=FeedSource(path=str(log))))
        runner.step()
        log.write_text(LOG)
        fill(0.99)
        with pytest.raises(StoreUnavailable):
            runner.step()
        fill(0.5)
        while runner.step():
            pass
        assert client.feeds.get(office.slug, "mta").stored_today >= 1
    finally:
        runner.close()
        world.context.settings.feed_folders = kept


def note(home: Path, *lines: object) -> None:
    (home / "log").mkdir(exist_ok=True)
    text = "".join(f"{line if isinstance(line, str) else json.dumps(line)}\n" for line in lines)
    (home / "log" / "restarts.ndjson").write_text(text)


def test_restarts_are_items_for_an_hour(
    office: Office, client: Client, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(office.world.context.settings, "var_dir", tmp_path)
    now = office.world.clock()
    ago = [(now - timedelta(minutes=m)).isoformat(timespec="seconds") for m in (0, 5, 10, 61)]
    note(
        tmp_path,
        {"at": ago[3], "part": "gates", "failures": 1},
        {"at": ago[2], "part": "worker-1", "failures": 1},
        {"at": ago[1], "part": "feeds", "failures": 2},
        "cut of",
        {"at": ago[0], "part": "feeds", "failures": 3},
    )
    assert items(client, office) == {"feeds keeps ending": "fix", "worker-1 was restarted": "investigate"}


@settings(max_examples=50, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.binary(max_size=60), max_size=5))
def test_a_log_of_restarts_in_any_state_is_read(tmp_path: Path, lines: list[bytes]) -> None:
    (tmp_path / "log").mkdir(exist_ok=True)
    good = b'{"at": "2026-11-20T12:00:00+00:00", "part": "feeds", "failures": 1}'
    (tmp_path / "log" / "restarts.ndjson").write_bytes(b"\n".join([*lines, good]))
    found = restarts(Settings(var_dir=tmp_path), installation.datetime.fromisoformat("2026-11-20T00:00:00+00:00"))
    assert [restart.part for restart in found][-1:] == ["feeds"]


def test_clients_of_an_office_do_not_see_its_disk(office: Office, client: Client, fill: Fill) -> None:
    """The owner is a member of another tenant; without any owner among members, everybody sees it."""
    fill(0.9)
    assert items(client, office) != {}
    with another(office.world) as (owners, theirs):
        store = office.world.context.store

        def own(yes: bool) -> None:
            def work(connection: accounts.Connection) -> None:
                found = accounts.find_account(connection, owners.email)
                assert found is not None
                accounts.change_account(connection, found.id, is_owner=yes)

            store.transaction(work)

        own(True)
        try:
            assert not store.transaction(lambda c: accounts.is_of_an_owner(c, office.tenant.id))
            assert "The disk is 90% full" in items(theirs, owners)
        finally:
            own(False)


def test_a_token_that_is_used_from_elsewhere_is_an_item(office: Office, client: Client) -> None:
    context = office.world.context
    principal = context.store.transaction(lambda c: accounts.principal_of_email(c, office.email))
    assert principal is not None
    made = tokens.add_token(context, principal, NewToken(name="nightly import", networks=["192.0.2.0/24"]))
    with Client(office.world.url, token=made.secret) as elsewhere, pytest.raises(Exception, match="may not be used"):
        elsewhere.who()
    assert items(client, office) == {"The API token nightly import was used from elsewhere": "fix"}
    with office.world.clock.later(timedelta(hours=25)):
        assert items(client, office) == {}


def test_the_real_disk_is_measured(tmp_path: Path) -> None:
    found = disk_use(Settings(var_dir=tmp_path))
    assert 0 <= found.used <= 1
    assert found.free > 0
    assert disk_use(Settings(var_dir=tmp_path / "not there yet")).free > 0


def test_a_log_on_a_full_disk_ends_nobody() -> None:
    """/dev/full refuses every octet, as a full disk does."""
    script = (
        "import structlog; from rust_gauge.service.runtime.logs import configure_logs; configure_logs('info'); "
        "log = structlog.get_logger(); [log.error('no room', number=n) for n in range(3)]; print('went on')"
    )
    with Path("/dev/full").open("w") as full:
        done = subprocess.run([sys.executable, "-c", script], stdout=subprocess.PIPE, stderr=full, text=True)
    assert done.stdout == "went on\n"
