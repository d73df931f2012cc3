"""What several tests of the service need."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from rust_gauge.client import Client
from rust_gauge.client.testing import BenchSettings
from rust_gauge.contract.bench import MadeTray, NewTray
from rust_gauge.gateways.bench_in import BenchIn
from rust_gauge.service.feeds.runner import Runner
from tests.conftest import Office
from tests.service.placing import outlet, provider, seeds

__all__ = ["outlet", "provider", "seeds"]


@pytest.fixture
def runner(office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Runner]:
    settings = office.world.context.settings
    monkeypatch.setattr(settings, "feed_folders", [tmp_path, Path("/var/log")])
    monkeypatch.setattr(settings, "feed_hosts", ["127.0.0.1"])
    made = Runner(office.world.context)
    yield made
    made.close()


@pytest.fixture
def made(office: Office, client: Client, bench: BenchIn) -> MadeTray:
    """A tray, with its password."""
    return client.trays.add(office.slug, NewTray(name="staging"))


@pytest.fixture
def bench_settings(office: Office, made: MadeTray) -> BenchSettings:
    """What the shipped fixture `tray` uses."""
    return BenchSettings(office.world.url, office.token, office.slug, made.name, made.password)
