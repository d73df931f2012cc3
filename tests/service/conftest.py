"""What several tests of the service need."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from rust_gauge.service.feeds.runner import Runner
from tests.conftest import Office


@pytest.fixture
def runner(office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Runner]:
    settings = office.world.context.settings
    monkeypatch.setattr(settings, "feed_folders", [tmp_path, Path("/var/log")])
    monkeypatch.setattr(settings, "feed_hosts", ["127.0.0.1"])
    made = Runner(office.world.context)
    yield made
    made.close()
