"""A made-up mailbox provider with seeds, and an outlet to it, for tests of placement."""

from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import pytest

from rust_gauge.client import Client
from rust_gauge.contract.placement import NewOutlet, NewSeed, Outlet, PlacementRun, Seed, SeedFolder
from rust_gauge.standins.seed_host import Box, SeedHost
from tests.conftest import Office

FOLDERS = [SeedFolder(folder="INBOX", means="inbox"), SeedFolder(folder="Spam", means="spam")]
TRUST = {"one@tidepost.example": "INBOX", "two@tidepost.example": "Spam", "lost@kbox.example": None}


@pytest.fixture
def provider(office: Office, monkeypatch: pytest.MonkeyPatch) -> Iterator[SeedHost]:
    """A host of mailboxes; it files as TRUST says, and everything else into the inbox."""
    monkeypatch.setattr(office.world.context.settings, "placement_hosts", ["127.0.0.1", "localhost"])
    names = [*TRUST, *(f"{name}@tidepost.example" for name in ("full", "third", "locked", "stripped", "bare"))]
    boxes = [
        Box(
            name, "secret", 1.0 if name.startswith("full") else 0.1, name.startswith("locked"),
            {"stripped": ("Placement-Mark",), "bare": ("Placement-Mark", "Message-ID")}.get(name.partition("@")[0], ()),
        )
        for name in names
    ]  # fmt: skip
    with SeedHost(
        "mx.tidepost.example", boxes, lambda box, _: TRUST.get(box.address, "INBOX"), clock=office.world.clock
    ) as host:
        yield host


def new_seed(host: SeedHost, address: str = "one@tidepost.example", **more: Any) -> NewSeed:
    values = {"password": "secret", "folders": FOLDERS, **more}
    return NewSeed(address=address, host="127.0.0.1", port=host.imap_port, security="none", **values)


def new_outlet(host: SeedHost, **more: Any) -> NewOutlet:
    values = {
        "host": "127.0.0.1",
        "port": host.smtp_port,
        "security": "none",
        "mail_from": "b@news.glasswort.example",
        **more,
    }
    return NewOutlet(name="office", **values)


@pytest.fixture
def seeds(office: Office, client: Client, provider: SeedHost) -> list[Seed]:
    return [client.placement.add_seed(office.slug, new_seed(provider, address, lists=["weekly"])) for address in TRUST]


@pytest.fixture
def outlet(office: Office, client: Client, provider: SeedHost) -> Outlet:
    return client.placement.add_outlet(office.slug, new_outlet(provider))


def outcomes(run: PlacementRun) -> dict[str, str]:
    return {copy.address: copy.outcome for copy in run.results}


def settled(office: Office, client: Client, run: PlacementRun, hours: float = 0) -> PlacementRun:
    """The run after the workers have sent and looked, and again so many hours later."""
    for later in (0, 10 / 3600, hours):
        with office.world.clock.later(timedelta(hours=later)):
            office.world.work()
    return client.placement.run(office.slug, run.id)
