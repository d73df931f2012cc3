"""Refusals are found by words of their replies over everything that is kept."""

from datetime import datetime, timedelta

import httpx
import pytest

from rust_gauge.client import Client
from rust_gauge.store import events as store_events
from rust_gauge.store.events import search_words
from tests.conftest import Office
from tests.rows import START, bounce, ndjson, row

LONG_AGO = (START - timedelta(days=150)).isoformat()


@pytest.fixture(autouse=True)
def loaded(office: Office, client: Client) -> None:
    rows = [
        bounce(1, time=LONG_AGO, diagnostic="550 5.2.2 Mailbox full (queue 4bXk9), try the harbour office"),
        bounce(2, diagnostic="550 5.2.2 Mailbox full (queue 7cYm2), try the harbour office"),
        bounce(3, time=LONG_AGO, diagnostic="550 5.7.1 The harbour is closed: this list is known for it"),
        *(bounce(n, time=(START - timedelta(days=n % 80)).isoformat(), message_id=f"o{n}",
                 diagnostic=f"452 4.2.2 over quota{' today' * (n % 2)}") for n in range(10, 90)),
        row(4, diagnostic="250 2.0.0 taken by the harbour master"),
        row(5, time=LONG_AGO, diagnostic="250 2.0.0 taken by the harbour master"),
    ]  # fmt: skip
    assert client.events.load(office.slug, ndjson(*rows)).rejected == 0


@pytest.mark.parametrize(
    ("reply", "found"),
    [
        ("mailbox full", ["m2", "m1"]),  # whatever the case
        ("Mailbox full (queue 4bXk9)", ["m1"]),  # what differs from reply to reply is looked for in the replies
        ("harbour office", ["m2", "m1"]),
        ("the harbour is", ["m3"]),  # short and frequent words are no words of the index
        ("7cYm2", ["m2"]),  # no word of a pattern: the last forty days
        ("taken by", ["m4"]),
        ("nobody wrote this", []),
        ("%", []),
    ],
)
def test_replies_are_found_by_their_words(office: Office, client: Client, reply: str, found: list[str]) -> None:
    assert [each.message_id for each in client.events.list(office.slug, reply=reply)] == found


@pytest.mark.parametrize("few", [0, 8])
def test_pages_of_frequent_replies_are_whole(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch, few: int
) -> None:
    monkeypatch.setattr(store_events, "_AT_ONCE", 7)
    monkeypatch.setattr(store_events, "_FEW", few)
    times = paged(office, reply="over quota")
    assert len(times) == 80
    assert times == sorted(times, reverse=True)
    since = (START - timedelta(days=20)).isoformat()
    late = paged(office, reply="over quota", since=since)
    assert late == [time for time in times if datetime.fromisoformat(time) >= datetime.fromisoformat(since)]


def paged(office: Office, **query: str) -> list[str]:
    """Return the times of all events that are found, nine at a time."""
    address, headers = (
        f"{office.world.url}/api/v1/tenants/{office.slug}/events",
        {"Authorization": f"Bearer {office.token}"},
    )
    times: list[str] = []
    cursor = ""
    while True:
        page = httpx.get(
            address, params={**query, "limit": "9", **({"cursor": cursor} if cursor else {})}, headers=headers
        ).json()
        times += [each["time"] for each in page["items"]]
        cursor = page["next"]
        if not cursor:
            return times


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("Mailbox full (queue 4bXk9)", ["mailbox", "full", "queue"]),
        ("user-unknown at mx.tidepost.example", ["user", "unknown"]),
        ("kim@tidepost.example 5.1.1", []),
        ("boîte pleine", ["boîte", "pleine"]),
        ('the +mailbox* "is" >full', ["mailbox", "full"]),
    ],
)
def test_words_of_patterns_are_told_from_what_differs(text: str, words: list[str]) -> None:
    assert search_words(text) == words
