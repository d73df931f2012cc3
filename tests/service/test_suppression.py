"""The suppression list by events, by hand and at the same moment; clearance; what is reported of it."""

import contextlib
import csv
import io
import json
import threading
from datetime import timedelta
from hashlib import blake2b
from typing import Any

import httpx
import pytest
from sqlalchemy import Connection, select

from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.feeds import NewFeed
from rust_gauge.contract.suppression import (
    Lift,
    MatchingSettings,
    NewEntries,
    PolicyRule,
    SameMailbox,
    Sending,
    SuppressionPolicy,
)
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.clearance.clearance import withhold
from rust_gauge.service.suppression import editing
from rust_gauge.store.engine import StoreError
from rust_gauge.store.tables.base import metadata
from tests.conftest import Office
from tests.rows import START, bounce, ndjson, row


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
    assert (gone.address, gone.verdict, gone.reason) == ("Gone@TidePost.example", "held", "invalid_address")
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
        "554 5.7.1 rejected as spam",
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


@pytest.mark.parametrize("addresses", [[], ["x@y.example"] * 100_001, ["x" * 2001]])
def test_a_question_about_nobody_or_too_many_is_refused(office: Office, client: Client, addresses: list[str]) -> None:
    with pytest.raises(InvalidInputError) as caught:
        client.suppression.clearance(office.slug, addresses)
    assert caught.value.problem.errors[0].field.startswith("addresses")


# What holds, and what lets go


def entry(client: Client, office: Office, address: str, **query: Any) -> Any:
    (found,) = client.suppression.list(office.slug, address=address, **query)
    return found


def test_an_unsubscription_holds_its_stream_alone_and_others_are_told(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(row(1, kind="unsubscribed"), row(2, stream="receipts")))
    address = "person1@tidepost.example"

    def ask(**question: Any) -> Any:
        return client.suppression.clearance(office.slug, [address], **question).answers[0]

    assert (ask(stream="newsletter").verdict, ask(stream="newsletter").reason) == ("held", "unsubscribed")
    assert ask(stream="receipts").verdict == "clear"
    assert ask(stream="never heard of").verdict == "clear"
    plain = ask()
    assert plain.verdict == "clear"
    assert [(each.scope, each.scope_name) for each in plain.elsewhere] == [("stream", "newsletter")]


def test_a_domain_that_is_gone_is_held_whole_and_let_go_when_it_takes_mail(office: Office, client: Client) -> None:
    client.events.load(
        office.slug, ndjson(bounce(1, recipient="a@gone.example", diagnostic="550 5.1.2 no such domain"))
    )
    assert verdicts(client, office, "other@gone.example", "a@there.example") == ["held", "clear"]
    found = entry(client, office, "@gone.example")
    assert (found.reason, found.address) == ("domain_invalid", "@gone.example")
    assert found.until is not None
    late = row(2, recipient="third@gone.example", time=(START - timedelta(days=1)).isoformat())
    client.events.load(office.slug, ndjson(late))
    assert verdicts(client, office, "other@gone.example") == ["held"], "mail that was delivered before says nothing"
    client.events.load(office.slug, ndjson(row(2, recipient="third@gone.example")))
    assert verdicts(client, office, "other@gone.example") == ["clear"]
    status = client.suppression.status(office.slug, "@gone.example")
    assert [each.change for each in status.history] == ["made", "delivered"]


def test_a_bounce_and_a_delivery_of_one_load_decide_by_their_times(office: Office, client: Client) -> None:
    gone = {"diagnostic": "550 5.1.2 no such domain"}
    client.events.load(
        office.slug,
        ndjson(
            bounce(1, recipient="a@gone.example", **gone), row(5, recipient="b@gone.example"),
            row(1, recipient="b@away.example"), bounce(5, recipient="a@away.example", **gone),
        ),
    )  # fmt: skip
    assert verdicts(client, office, "c@gone.example", "c@away.example") == ["clear", "held"]


def full(day: int, **changes: Any) -> dict[str, Any]:
    reply = {"diagnostic": "452 4.2.2 mailbox full", "reply_code": 452, "message_id": f"full{day}"}
    return bounce(1, **{"time": f"2026-11-{day:02}T08:00:00Z", **reply, **changes})


@pytest.mark.parametrize("order", [(1, 5, 10), (10, 5, 1), (5, 10, 1)])
def test_a_full_mailbox_is_held_when_it_lasts_whatever_comes_first(
    office: Office, client: Client, order: tuple[int, ...]
) -> None:
    address = "person1@tidepost.example"
    for day in order[:2]:
        client.events.load(office.slug, ndjson(full(day)))
    (answer,) = client.suppression.clearance(office.slug, [address]).answers
    assert answer.verdict == "clear"
    client.events.load(office.slug, ndjson(full(order[2])))
    assert verdicts(client, office, address) == ["held"]
    found = entry(client, office, address)
    assert (found.reason, f"{found.since:%d}", f"{found.until:%Y-%m-%d}") == ("repeated_bounces", "01", "2026-11-24")
    client.events.load(office.slug, ndjson(row(1, time="2026-11-12T08:00:00Z", message_id="after")))
    assert verdicts(client, office, address) == ["clear"]


def test_a_late_delivery_between_the_bounces_lets_go(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(full(1), full(5), full(10)))
    client.events.load(office.slug, ndjson(row(1, time="2026-11-07T08:00:00Z", message_id="between")))
    assert verdicts(client, office, "person1@tidepost.example") == ["clear"]


def test_advice_to_wait_is_given_and_passes(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(full(20)))
    (answer,) = client.suppression.clearance(office.slug, ["person1@tidepost.example"]).answers
    assert answer.verdict == "clear"
    assert answer.not_before is not None
    with office.world.clock.later(timedelta(days=2)):
        (answer,) = client.suppression.clearance(office.slug, ["person1@tidepost.example"]).answers
        assert answer.not_before is None


def test_an_entry_ends_by_itself_comes_back_longer_and_all_of_it_is_told(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(full(1), full(5), full(10)))
    address = "person1@tidepost.example"
    with office.world.clock.later(timedelta(days=30)):
        assert verdicts(client, office, address) == ["clear"], "its time is over, written down or not"
        editing.end_overdue(office.world.context)
        ended = entry(client, office, address, state="ended", reason="repeated_bounces")
        assert ended.change == "ended"
        client.events.load(office.slug, ndjson(full(1, time="2026-12-18T08:00:00Z", message_id="again")))
        assert verdicts(client, office, address) == ["held"], "it still bounces, and nothing was delivered since"
        back = entry(client, office, address)
        assert (back.change, back.returns) == ("came_back", 1)
        assert back.until is not None
        assert (back.until - back.since).days > 50
        assert [e.address for e in client.suppression.list(office.slug, came_back=True)] == [address]
    status = client.suppression.status(office.slug, address)
    kept = [each.change for each in status.history if each.reason == "repeated_bounces"]
    assert kept == ["made", "ended", "came_back"]
    numbers = [each.number for each in status.history]
    assert numbers == sorted(set(numbers))


# By hand


def test_holding_by_hand_reaches_what_was_said_and_tells_what_is_no_address(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(row(1)))
    made = client.suppression.add(
        office.slug,
        NewEntries(addresses=["Kim@kbox.example", "nobody", "@all.example", "kim@KBOX.example"], note="asked by phone"),
    )
    assert (made.changed, made.standing, [each.row for each in made.rejected]) == (2, 1, [2])
    assert verdicts(client, office, "kim@kbox.example", "x@all.example", "x@kbox.example") == ["held", "held", "clear"]
    found = entry(client, office, "kim@kbox.example")
    assert (found.note, found.made_by, found.origin, found.reason) == ("asked by phone", office.email, "api", "manual")
    only = NewEntries(addresses=["lee@kbox.example"], scope="stream", scope_name="newsletter")
    client.suppression.add(office.slug, only)
    assert client.suppression.clearance(office.slug, ["lee@kbox.example"], stream="newsletter").held == 1
    assert client.suppression.clearance(office.slug, ["lee@kbox.example"]).held == 0
    with pytest.raises(NotFoundError, match="no stream"):
        client.suppression.add(office.slug, NewEntries(addresses=["x@y.example"], scope="stream", scope_name="other"))
    with pytest.raises(InvalidInputError, match="past"):
        client.suppression.add(office.slug, NewEntries(addresses=["x@y.example"], until=START))


def test_lifting_needs_a_reason_and_a_complaint_a_word_more(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1), row(2, kind="complained")))
    lifted = client.suppression.lift(office.slug, Lift(address="person1@tidepost.example", why="a typing mistake"))
    assert [(each.state, each.change, each.note) for each in lifted.entries] == [
        ("ended", "lifted", "a typing mistake")
    ]
    complaint = Lift(address="person2@tidepost.example", why="they wrote to us")
    with pytest.raises(AlreadyThereError, match="complaint"):
        client.suppression.lift(office.slug, complaint)
    assert verdicts(client, office, "person2@tidepost.example") == ["held"]
    client.suppression.lift(office.slug, complaint.model_copy(update={"despite_complaint": True}))
    assert verdicts(client, office, "person1@tidepost.example", "person2@tidepost.example") == ["clear", "clear"]
    with pytest.raises(NotFoundError):
        client.suppression.lift(office.slug, Lift(address="person1@tidepost.example", why="once more"))
    client.events.load(office.slug, ndjson(bounce(1, message_id="older", time="2026-11-18T08:00:00Z")))
    assert verdicts(client, office, "person1@tidepost.example") == ["clear"], "an older event undoes no lift"
    with office.world.clock.later(timedelta(days=1)):
        client.events.load(office.slug, ndjson(bounce(1, message_id="newer", time="2026-11-21T08:00:00Z")))
        assert verdicts(client, office, "person1@tidepost.example") == ["held"]


def test_a_policy_of_ones_own_decides_from_then_on(office: Office, client: Client) -> None:
    default = client.suppression.policy(office.slug)
    assert default.is_default
    spare = PolicyRule(name="our own people", act="nothing", kinds=["bounced"], providers=["tidepost.example"])
    propose = PolicyRule(name="look first", act="propose", kinds=["bounced"], reason="invalid_address")
    kept = client.suppression.set_policy(office.slug, SuppressionPolicy(rules=[spare, propose]))
    assert (kept.is_default, kept.changed_by) == (False, office.email)
    client.events.load(office.slug, ndjson(bounce(1), bounce(2, recipient="x@kbox.example")))
    assert verdicts(client, office, "person1@tidepost.example", "x@kbox.example") == ["clear", "clear"]
    (proposed,) = client.suppression.list(office.slug, state="proposed")
    client.suppression.decide(office.slug, [proposed.id], confirm=True)
    assert verdicts(client, office, "x@kbox.example") == ["held"]
    assert client.suppression.reset_policy(office.slug).is_default
    client.events.load(office.slug, ndjson(bounce(3)))
    assert verdicts(client, office, "person3@tidepost.example") == ["held"]


@pytest.mark.parametrize(
    "rule",
    [
        PolicyRule(name="a", act="hold", whole_domain=True, times=2),
        PolicyRule(name="a", act="hold").model_copy(update={"causes": ["no_such_cause"]}),
        PolicyRule(name="a", act="hold", times=2, over_days=90),
    ],
)
def test_a_policy_that_cannot_be_meant_is_refused(office: Office, client: Client, rule: PolicyRule) -> None:
    with pytest.raises(InvalidInputError, match=r"rules\.0"):
        client.suppression.set_policy(office.slug, SuppressionPolicy(rules=[rule]))


# Comparing


def test_the_list_can_be_rewritten_to_other_ways_of_comparing(office: Office, client: Client) -> None:
    client.events.load(
        office.slug, ndjson(bounce(1, recipient="Ann+a@kbox.example"), bounce(2, recipient="ann+b@kbox.example"))
    )
    settings = MatchingSettings(same=[SameMailbox(provider="kbox.example", tag_after="+")])
    assert client.suppression.set_matching(office.slug, settings).changing
    assert verdicts(client, office, "ann+a@kbox.example", "ann+c@kbox.example") == ["held", "clear"]
    office.world.work()
    assert not client.suppression.matching(office.slug).changing
    assert verdicts(client, office, "ann+a@kbox.example", "ann+c@kbox.example", "bob@kbox.example") == [
        "held",
        "held",
        "clear",
    ]
    found = entry(client, office, "ann@kbox.example")
    assert found.times == 2, "two entries became one"
    client.events.load(office.slug, ndjson(bounce(3, recipient="ann+d@kbox.example")))
    assert entry(client, office, "ann@kbox.example").times == 3


def test_a_rule_for_a_provider_reaches_all_domains_that_it_runs(office: Office, client: Client) -> None:
    office.world.zone("ours.example", "@ IN MX 10 mx.kbox.example.\n")
    office.world.zone("kbox.example", "@ IN MX 10 mx\nmx IN A 192.0.2.9\n")
    client.suppression.set_matching(
        office.slug, MatchingSettings(same=[SameMailbox(provider="kbox.example", tag_after="+")])
    )
    office.world.work()
    client.suppression.add(office.slug, NewEntries(addresses=["ann+a@ours.example"]))
    assert verdicts(client, office, "ann+b@ours.example", "ann@ours.example") == ["held", "held"]
    assert entry(client, office, "ann+c@ours.example").reason == "manual"
    assert client.suppression.status(office.slug, "ann+d@ours.example").verdict == "held"
    (check,) = client.addresses.check(office.slug, ["ann+e@ours.example"])
    assert "held" in [found.word for found in check.found]
    client.suppression.lift(office.slug, Lift(address="ann+f@ours.example", why="a mistake"))
    assert verdicts(client, office, "ann+a@ours.example") == ["clear"]


def found_anywhere(office: Office, text: str) -> list[str]:
    """Return the columns of all tables in which a text stands in a row of the tenant."""
    found = []
    with office.world.context.store.engine.connect() as connection:
        for table in metadata.sorted_tables:
            if "tenant_id" not in table.c:
                continue
            for row in connection.execute(select(table).where(table.c.tenant_id == office.tenant.id)).mappings():
                found += [f"{table.name}.{name}: {value!r}" for name, value in row.items() if text in str(value)]
    return found


def test_a_list_of_digests_works_without_any_address(office: Office, client: Client) -> None:
    client.events.load(
        office.slug, ndjson(bounce(1), bounce(2, recipient="a@gone.example", diagnostic="550 5.1.2 no such domain"))
    )
    old = NewEntries(addresses=["person9@tidepost.example"], reason="manual", note="as person9@tidepost.example wrote")
    client.suppression.add(office.slug, old)
    named = bounce(8, diagnostic="550 5.1.1 <person8@tidepost.example>: user unknown")
    client.events.load(office.slug, ndjson(named))
    whole = NewEntries(addresses=["@left.example"], reason="manual", note="person6@tidepost.example asked")
    client.suppression.add(office.slug, whole)
    feed = client.feeds.add(office.slug, NewFeed(name="old", kind="http"))
    rejected = ndjson(
        row(6), row(7, kind="posted by person7@tidepost.example", diagnostic='"person7@tidepost.example"')
    )
    headers = {"Authorization": f"Bearer {feed.token}", "Content-Type": "application/x-ndjson"}
    sent = httpx.post(f"{office.world.url}/api/v1/intake/{feed.key}", content=rejected, headers=headers)
    assert sent.json()["rejected"] == 1
    client.suppression.set_matching(office.slug, MatchingSettings(digests_only=True))
    office.world.work()
    client.events.load(
        office.slug, ndjson(bounce(3), row(4, kind="complained"), {**named, "recipient": "person7@tidepost.example"})
    )
    client.suppression.add(
        office.slug, NewEntries(addresses=["x@a.example"], reason="manual", note="for y@tidepost.example")
    )
    addresses = [f"person{n}@tidepost.example" for n in (1, 3, 4, 5)]
    assert verdicts(client, office, *addresses, "any@gone.example") == ["held", "held", "held", "clear", "held"]
    escaped = b'{"kind": "delivered", "recipient": "person14\\u0040tidepost.example"}'
    mail = b"From: person15@tidepost.example\n\nnot a row"
    for body in (ndjson(row(12, kind="person12@tidepost.example"), row(13, time="never")), escaped, mail):
        httpx.post(f"{office.world.url}/api/v1/intake/{feed.key}", content=body, headers=headers)
    client.events.load(office.slug, ndjson(row(16), row(16, kind="opened")))
    office.world.work()
    assert not found_anywhere(office, "person")
    seen = list(client.events.list(office.slug, recipient="person1@tidepost.example"))
    assert [each.kind for each in seen] == ["bounced"], "stored before the switch, and found by its address still"
    assert seen[0].recipient.startswith("#")
    assert seen[0].recipient.endswith("@tidepost.example")
    assert [each.problems[0].field for each in client.feeds.rejected_rows(office.slug, "old")][-1:] == ["kind"]
    view = client.suppression.matching(office.slug)
    key = blake2b(b"person3@tidepost.example", digest_size=16, key=bytes.fromhex(view.key)).hexdigest()
    assert entry(client, office, "person3@tidepost.example").address_key == key
    client.suppression.lift(office.slug, Lift(address="person1@tidepost.example", why="a mistake"))
    assert verdicts(client, office, *addresses) == ["clear", "held", "held", "clear"]
    with pytest.raises(InvalidInputError, match="digests"):
        client.suppression.set_matching(office.slug, MatchingSettings())


# Telling, exporting, counting


def test_changes_are_told_in_order_once_each_and_can_be_waited_for(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1), bounce(2), row(3, kind="complained")))
    first = client.suppression.changes(office.slug, limit=2)
    assert (len(first.items), first.more) == (2, True)
    rest = client.suppression.changes(office.slug, after=first.last)
    assert [item.address for item in first.items + rest.items] == [f"person{n}@tidepost.example" for n in (1, 2, 3)]
    client.suppression.lift(office.slug, Lift(address="person1@tidepost.example", why="a mistake"))
    (lifted,) = client.suppression.changes(office.slug, after=rest.last).items
    assert (lifted.change, lifted.address, lifted.state) == ("lifted", "person1@tidepost.example", "ended")
    everything = client.suppression.changes(office.slug).items
    assert [each.change for each in everything] == ["made", "made", "made", "lifted"], "the log keeps what stood before"
    found: list[Any] = []
    with office.client() as second:
        waiter = threading.Thread(
            target=lambda: found.append(second.suppression.changes(office.slug, after=lifted.number, wait=30))
        )
        waiter.start()
        client.events.load(office.slug, ndjson(bounce(9)))
        waiter.join(30)
    assert [item.address for item in found[0].items] == ["person9@tidepost.example"]
    assert client.suppression.changes(office.slug, after=found[0].last, wait=0.1).items == []


def test_an_export_is_the_whole_list_and_carries_no_formula(office: Office, client: Client) -> None:
    client.suppression.add(office.slug, NewEntries(addresses=["=1+1@a.example", "plain@a.example"], note="+cmd"))
    text = b"".join(client.suppression.export(office.slug)).decode()
    lines = list(csv.DictReader(io.StringIO(text)))
    assert {line["address"] for line in lines} == {"'=1+1@a.example", "plain@a.example"}
    assert {line["note"] for line in lines} == {"'+cmd"}
    client.events.load(office.slug, ndjson(*(bounce(n) for n in range(30))))
    lines = b"".join(client.suppression.export(office.slug, form="ndjson", reason="invalid_address")).splitlines()
    assert {json.loads(line)["address"] for line in lines} == {f"person{n}@tidepost.example" for n in range(30)}


def test_the_list_is_searched_as_one_types(office: Office, client: Client) -> None:
    rows = [bounce(1, recipient=each) for each in ("anna@tidepost.example", "andrew@kbox.example", "bo_b@kbox.example")]
    client.events.load(office.slug, ndjson(*rows))

    def found(text: str) -> set[str]:
        return {each.address.partition("@")[0] for each in client.suppression.list(office.slug, text=text)}

    assert (found("an"), found("ANNA"), found("@kbox"), found("bo_"), found("b%")) == (
        {"anna", "andrew"}, {"anna"}, {"andrew", "bo_b"}, {"bo_b"}, set(),
    )  # fmt: skip
    assert client.suppression.count(office.slug).count == 3
    assert client.suppression.count(office.slug, provider="kestrelbox.example").count == 2


def test_what_is_withheld_is_counted_and_what_it_would_have_done(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1), *(row(n) for n in range(2, 12))))
    asked = [f"person{n}@tidepost.example" for n in (1, 2)]
    sending = Sending(domain="news.d.example", campaign="spring")
    client.suppression.clearance(office.slug, asked)
    assert client.suppression.growth(office.slug).saved.withheld == 0, "a question alone withholds nothing"
    client.suppression.clearance(office.slug, asked, stream="newsletter", sending=sending)
    growth = client.suppression.growth(office.slug)
    saved = growth.saved
    assert (saved.sent, saved.bounced, saved.withheld, saved.withheld_bad) == (11, 1, 1, 1)
    assert (saved.bounce_rate, saved.bounce_rate_without) == (pytest.approx(1 / 11), pytest.approx(2 / 12))
    assert [(part.name, part.active, part.withheld) for part in growth.reasons] == [("invalid_address", 1, 1)]
    (event,) = client.events.list(office.slug, kinds=["withheld"])
    assert (event.recipient, event.campaign) == ("person1@tidepost.example", "spring")


def test_a_repeated_question_counts_only_what_is_new(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1), bounce(2)))
    sending = Sending(domain="news.d.example", message_id="m1@news.d.example")
    for numbers in ([1], [1, 2], [2, 1]):  # as after a time-out: the same mail, with more recipients
        asked = [f"person{n}@tidepost.example" for n in numbers]
        client.suppression.clearance(office.slug, asked, stream="newsletter", sending=sending)
    (reason,) = client.suppression.growth(office.slug).reasons
    assert len([*client.events.list(office.slug, kinds=["withheld"])]) == reason.withheld == 2


def test_withheld_mail_and_its_counts_are_stored_together_or_not_at_all(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))
    context, tenant_id = office.world.context, office.tenant.id
    held = [("person1@tidepost.example", "invalid_address", "m1@news.d.example")]

    def fail(connection: Connection, counts: object) -> None:
        raise StoreError("The counts could not be written", why="a test", remedy="none")

    with monkeypatch.context() as patched, pytest.raises(StoreError):
        patched.setattr("rust_gauge.store.suppression_numbers.add_counts", fail)
        withhold(context, tenant_id, held, Question(), "news.d.example")
    assert not [*client.events.list(office.slug, kinds=["withheld"])]
    assert withhold(context, tenant_id, held, Question(), "news.d.example") == 1, "so it can be told again"
    assert client.suppression.growth(office.slug).saved.withheld == 1


def test_a_stream_of_addresses_is_answered_line_by_line_in_any_form(office: Office, client: Client) -> None:
    client.events.load(office.slug, ndjson(bounce(1)))
    lines = b'"person1@tidepost.example"\n{"address": "person2@tidepost.example", "more": 1}\n\nnobody\n' * 20
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/clearance/stream"
    headers = {"Authorization": f"Bearer {office.token}"}
    response = httpx.post(url, content=(lines[n : n + 7] for n in range(0, len(lines), 7)), headers=headers)
    answers = [json.loads(line) for line in response.content.splitlines()]
    assert [answer["verdict"] for answer in answers] == ["held", "clear", "held"] * 20
    assert answers[2]["reason"] == "no_address"
    wrong = httpx.post(url, content=b'person1@tidepost.example\n{"name": 1}\n', headers=headers)
    assert (wrong.status_code, wrong.json()["detail"]) == (422, "Line 2 has no address")
    held = httpx.post(url, params={"only_held": True}, content=lines, headers=headers).content.splitlines()
    assert len(held) == 40


# At the same moment


def test_an_event_a_lift_and_hands_at_the_same_moment_leave_one_right_state(office: Office) -> None:
    addresses = [f"person{n}@tidepost.example" for n in range(20)]

    def load() -> None:
        with office.client() as client:
            client.events.load(office.slug, ndjson(*(bounce(n) for n in range(20))))

    def hold() -> None:
        with office.client() as client:
            client.suppression.add(office.slug, NewEntries(addresses=addresses, reason="invalid_address"))

    def lift() -> None:
        with office.client() as client:
            for address in addresses:
                with contextlib.suppress(NotFoundError):
                    client.suppression.lift(office.slug, Lift(address=address, why="at the same time"))

    threads = [threading.Thread(target=work) for work in (load, hold, lift, hold, lift)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    with office.client() as client:
        changes = client.suppression.changes(office.slug).items
        assert [change.number for change in changes] == list(range(1, len(changes) + 1)), (
            "no number twice, none missing"
        )
        last = {change.address: change.state for change in changes}
        shown = {each.address: each.state for each in client.suppression.list(office.slug, state=["held", "ended"])}
        assert shown == last
        held = {address for address in addresses if last[address] == "held"}
        answers = client.suppression.clearance(office.slug, addresses).answers
        assert {answer.address for answer in answers if answer.verdict == "held"} == held
        for address in addresses:  # made and lifted take turns: nothing was lifted twice or made while it stood
            states = [change.state for change in changes if change.address == address]
            assert states == ["held", "ended"] * (len(states) // 2) + ["held"] * (len(states) % 2)
        growth = client.suppression.growth(office.slug)
        assert growth.days[-1].active == len(held)
