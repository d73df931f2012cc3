"""Suppression entries made by events, and clearance."""

import threading

import pytest

from rust_gauge.client import Client, InvalidInputError
from tests.conftest import Office
from tests.rows import bounce, ndjson, row


def verdicts(client: Client, office: Office, *addresses: str) -> list[str]:
    return [answer.verdict for answer in client.suppression.clearance(office.slug, addresses).answers]


def test_a_bad_address_and_a_complaint_are_held_at_once_with_their_evidence(office: Office, client: Client) -> None:
    client.events.load(
        office.slug,
        ndjson(
            bounce(1, recipient="gone@tidepost.example"),
            row(2, kind="complained", recipient="cross@kbox.example"),
            row(3, recipient="fine@tidepost.example"),
        ),
    )
    result = client.suppression.clearance(
        office.slug, ["Gone@TidePost.example", '"C" <cross@kbox.example>', "fine@tidepost.example", "nobody"]
    )
    assert (result.clear, result.held) == (1, 3)
    gone, cross, fine, nobody = result.answers
    assert (gone.address, gone.verdict, gone.reason) == ("Gone@TidePost.example", "held", "bad_address")
    assert "no such mailbox" in gone.why
    assert gone.since is not None
    assert (cross.verdict, cross.reason) == ("held", "complaint")
    assert (fine.verdict, fine.reason) == ("clear", "")
    assert (nobody.verdict, nobody.reason) == ("held", "no_address")
    (entry,) = client.suppression.list(office.slug, address="gone@tidepost.example")
    assert (entry.made_by, entry.times, entry.evidence[0].message_id) == ("event", 1, "m1")


@pytest.mark.parametrize(
    "diagnostic",
    [
        "550 5.1.1 rejected, 192.0.2.1 is on a blocklist",
        "550 5.7.26 mail is not authenticated",
        "554 5.7.1 refused as spam",
        "552 5.2.2 mailbox full",
        "450 4.1.1 no such mailbox just now",
    ],
)
def test_a_refusal_that_is_about_us_or_passes_never_holds_an_address(
    office: Office, client: Client, diagnostic: str
) -> None:
    code = int(diagnostic[:3])
    client.events.load(office.slug, ndjson(bounce(1, reply_code=code, diagnostic=diagnostic)))
    assert verdicts(client, office, "person1@tidepost.example") == ["clear"]


def test_an_entry_counts_how_often_it_was_asked_for_but_not_repeats(office: Office, client: Client) -> None:
    address = "gone@tidepost.example"
    for number in (1, 1, 2):
        client.events.load(office.slug, ndjson(bounce(number, recipient=address)))
    (entry,) = client.suppression.list(office.slug, address=address)
    assert entry.times == 2
    assert [each.message_id for each in entry.evidence] == ["m1", "m2"]


def test_two_loads_that_hold_the_same_address_at_once_make_one_entry(office: Office) -> None:
    def load(number: int) -> None:
        with office.client() as client:
            client.events.load(office.slug, ndjson(bounce(number, recipient="gone@tidepost.example")))

    threads = [threading.Thread(target=load, args=(number,)) for number in range(8)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    with office.client() as client:
        (entry,) = client.suppression.list(office.slug)
    assert entry.times == 8


def test_the_list_comes_in_pages_newest_first(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(*(bounce(n) for n in range(150))))
    entries = list(client.suppression.list(office.slug))
    assert [entry.address for entry in entries] == [f"person{n}@tidepost.example" for n in reversed(range(150))]


@pytest.mark.parametrize("addresses", [[], ["x@y.example"] * 10_001, ["x" * 2001]])
def test_a_question_about_nobody_or_too_many_is_refused(office: Office, client: Client, addresses: list[str]) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.suppression.clearance(office.slug, addresses)
    assert caught.value.problem.errors[0].field.startswith("addresses")
