"""Search: names by a part, recipients and messages whole, and nothing of other tenants."""

from datetime import timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rust_gauge.client import Client
from rust_gauge.contract.suppression import NewEntries
from rust_gauge.core.roles import Role
from tests.conftest import TODAY, Office, World, make_office
from tests.rows import bounce, ndjson, row

DOMAIN = "news.d.example"


@pytest.fixture
def loaded(office: Office, client: Client) -> Client:
    at = (TODAY - timedelta(hours=3)).isoformat()
    client.events.load(office.slug, ndjson(*(row(n, time=at) for n in range(50)), *(bounce(90 + n) for n in range(30))))
    client.events.load(
        office.slug,
        ndjson(
            row(500, recipient="kim@tidepost.example", message_id="abc.1@news.d.example", stream="timetable alerts")
        ),
    )
    client.suppression.add(office.slug, NewEntries(addresses=["kim@tidepost.example"], reason="manual", note="asked"))
    office.world.work()
    client.worklist.detect(office.slug)
    return client


def kinds(client: Client, text: str) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for item in client.search(text).items:
        found.setdefault(item.kind, []).append(item.name)
    return found


def test_names_are_found_by_a_part_whatever_their_case(loaded: Client) -> None:
    assert kinds(loaded, "NEWS.D")["domain"] == [DOMAIN]
    assert kinds(loaded, "timetable")["stream"] == ["timetable alerts"]
    assert kinds(loaded, "tidep")["provider"] == ["tidepost.example"]
    assert kinds(loaded, "x") == {}, "one character fits everything"
    assert "domain" not in kinds(loaded, "%"), "a sign of LIKE is a character like any other"


def test_recipients_and_messages_are_found_whole_and_only_where_there_are_any(loaded: Client, office: Office) -> None:
    items = {item.kind: item for item in loaded.search("kim@tidepost.example").items}
    assert {"recipient", "suppressed"} <= set(items)
    assert items["recipient"].path == f"/flow?tenant={office.slug}&view=trails&find=kim%40tidepost.example"
    assert items["suppressed"].text.startswith("held since ")
    assert kinds(loaded, "<abc.1@news.d.example>")["message"] == ["abc.1@news.d.example"]
    assert kinds(loaded, "nobody@tidepost.example") == {}


def test_replies_and_items_are_found_by_words(loaded: Client) -> None:
    assert kinds(loaded, "mailbox")["reply"]
    titles = [item.title for item in loaded.worklist.list()]
    assert titles
    word = titles[0].split()[0]
    assert titles[0] in kinds(loaded, word)["item"]


def test_only_the_best_of_a_kind_are_listed_and_it_says_that_there_are_more(office: Office, client: Client) -> None:
    for number in range(4):
        client.domains.add(office.slug, f"shop{number}.skerry.example")
    client.domains.add(office.slug, "myshop.skerry.example")
    found = client.search("shop", each=3)
    assert [item.name for item in found.items] == [f"shop{n}.skerry.example" for n in range(3)]
    assert found.more == ["domain"]
    assert client.search("myshop").more == []


def test_nobody_finds_what_belongs_to_others(loaded: Client, world: World) -> None:
    stranger = make_office(world, Role.ADMIN)
    with Client(world.url, token=stranger.token) as theirs:
        for text in (DOMAIN, "kim@tidepost.example", "<abc.1@news.d.example>", "timetable", "mailbox"):
            assert theirs.search(text).items == []


@settings(max_examples=60, deadline=None)
@given(text=st.text(max_size=60) | st.from_regex(r"[+\-><()~*\"@'\\%_ a-z]{2,30}", fullmatch=True))
def test_any_text_is_answered(world: World, text: str) -> None:
    office = make_office(world, Role.VIEWER)
    with Client(world.url, token=office.token) as client:
        client.search(text)
