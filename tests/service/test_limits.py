"""Sending limits: used, remaining, hit, held back, and what a relay says is not proven."""

from datetime import datetime, timedelta
from typing import Any

import pytest

from rust_gauge.client import Client, NotFoundError
from rust_gauge.contract.relays import LimitUse, RelayDescription, RelayLimit
from rust_gauge.contract.suppression import Sending
from rust_gauge.contract.worklist import AlertSettings
from rust_gauge.service.clearance.answers import Question
from rust_gauge.service.clearance.clearance import Stream
from rust_gauge.service.worklist import items
from tests.conftest import Office
from tests.rows import ndjson, row

RATE_LIMITED = "421 4.7.0 Too many messages from your address: limit 40 messages per hour"


def describe(office: Office, client: Client, *limits: RelayLimit, name: str = "driftline") -> None:
    client.relays.set(office.slug, name, RelayDescription(include="spf.driftline.example", limits=list(limits)))


def load(office: Office, client: Client, n: int, at: datetime, first: int = 0, **changes: Any) -> None:
    rows = [
        row(first + k, time=(at + timedelta(seconds=k)).isoformat(), relay="driftline", **changes) for k in range(n)
    ]
    done = client.events.load(office.slug, ndjson(*rows))
    assert done.stored == n


def uses(office: Office, client: Client) -> dict[tuple[str, str], LimitUse]:
    found = client.relays.usage(office.slug, "driftline")
    return {(state.region, use.per): use for state in found.limits for use in state.uses}


def test_what_is_used_and_remains_and_when_it_is_reached(office: Office, client: Client) -> None:
    now = office.world.clock.now  # at noon
    describe(
        office, client, RelayLimit(region="north", per_second=5, per_hour=100, per_day=1000),
        RelayLimit(region="south", per_day=50, streams=["receipts"], restricted=True),
    )  # fmt: skip
    load(office, client, 40, now - timedelta(minutes=50))
    load(office, client, 50, now - timedelta(hours=5), first=100, stream="receipts")
    found = uses(office, client)
    north = found["north", "hour"]
    assert (north.used, north.remaining) == (40, 60)
    assert (found["north", "day"].used, found["north", "second"].used) == (90, 0)
    south = found["south", "day"]
    assert (south.used, south.remaining) == (50, 0)
    assert south.free_at is not None and south.free_at > now
    assert (north.free_at, found["north", "day"].reached_at) == (None, None)  # 960 a day at this pace
    describe(office, client, RelayLimit(per_day=170))
    assert uses(office, client)["", "day"].reached_at == now + timedelta(hours=2)
    with pytest.raises(NotFoundError, match="has no relay driftlin"):
        client.relays.usage(office.slug, "driftlin")


def test_a_relay_that_tells_what_it_accepted_is_counted_by_that_and_nothing_twice(
    office: Office, client: Client
) -> None:
    now = office.world.clock.now
    describe(office, client, RelayLimit(per_hour=100))
    load(office, client, 30, now - timedelta(minutes=30), kind="accepted")
    load(office, client, 25, now - timedelta(minutes=29), kind="delivered")
    assert uses(office, client)["", "hour"].used == 30


def test_the_busiest_second_is_seen(office: Office, client: Client) -> None:
    now = office.world.clock.now
    describe(office, client, RelayLimit(per_second=14))
    rows = [row(n, time=(now - timedelta(minutes=2)).isoformat(), relay="driftline") for n in range(9)]
    client.events.load(office.slug, ndjson(*rows))
    second = uses(office, client)["", "second"]
    assert (second.used, second.remaining, second.reached_at) == (9, 5, None)


def test_hits_have_their_reply_what_it_states_and_the_mail_of_that_hour(office: Office, client: Client) -> None:
    now = office.world.clock.now
    describe(office, client)
    load(office, client, 30, now - timedelta(hours=5))
    load(office, client, 60, now - timedelta(hours=2), first=100)
    load(
        office, client, 7, now - timedelta(hours=2), first=160, kind="delayed", reply_code=421, diagnostic=RATE_LIMITED,
        remote_host="mx1.tidepost.example",
    )  # fmt: skip
    load(
        office, client, 3, now - timedelta(hours=1), first=200, recipient="kim@kbox.example", kind="bounced",
        reply_code=454, diagnostic="454 Throttling: daily sending quota of 200 exceeded",
        remote_host="api.driftline.example",
    )  # fmt: skip
    tide, relay = client.relays.usage(office.slug, "driftline").hits
    assert (tide.provider, tide.replies, tide.by_relay, tide.reply) == ("tidepost.example", 7, False, RATE_LIMITED)
    assert (tide.stated, tide.stated_per, tide.mail_then, tide.most_without) == (40, "hour", 60, 30)
    assert (tide.first_at, tide.last_at) == (now - timedelta(hours=2), now - timedelta(hours=2))
    assert (relay.by_relay, relay.stated, relay.stated_per) == (True, 200, "day")
    assert tide.use is not None and (tide.use.limit, tide.use.used, tide.use.remaining) == (40, 0, 40)
    assert relay.use is not None and (relay.use.used, relay.use.remaining) == (3, 197)


def test_a_sender_that_is_not_proven_says_what_to_prove(office: Office, client: Client) -> None:
    now = office.world.clock.now
    describe(office, client, RelayLimit(region="north", restricted=True))
    load(
        office, client, 2, now - timedelta(hours=1), kind="bounced", reply_code=554,
        diagnostic="554 5.7.1 Message rejected: address is not verified in region north: news@news.d.example",
    )  # fmt: skip
    (found,) = client.relays.usage(office.slug, "driftline").unproven
    assert (found.address, found.region, found.replies) == ("news@news.d.example", "north", 2)
    assert found.remedy.startswith("Prove news@news.d.example at the relay in its region north")
    items.detect(office.world.context, office.tenant)
    (item,) = (each for each in client.worklist.list(tenant=office.slug) if each.kind == "unproven")
    assert item.title == "driftline says that news@news.d.example is not proven in its region north"


def test_a_limit_that_is_nearly_used_is_an_item_and_a_used_one_is_worse(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, AlertSettings(wait_minutes=0))
    now = office.world.clock.now
    describe(office, client, RelayLimit(region="north", per_day=100))
    load(office, client, 85, now - timedelta(hours=3))

    def found() -> tuple[str, str]:
        items.detect(office.world.context, office.tenant)
        (item,) = (each for each in client.worklist.list(tenant=office.slug) if each.kind == "limit")
        return item.level, item.title

    assert found() == ("investigate", "driftline, region north is near its limit of 100 a day")
    load(office, client, 15, now - timedelta(hours=2), first=500)
    assert found() == ("fix", "driftline, region north has used up its limit of 100 a day")


def ask(client: Client, office: Office, n: int, *, sending: bool = False, first: int = 0) -> list[str]:
    addresses = [f"p{first + k}@tidepost.example" for k in range(n)]
    purpose = Sending(domain="news.d.example") if sending else None
    result = client.suppression.clearance(
        office.slug, addresses, stream="newsletter", relay="driftline", sending=purpose
    )
    verdicts = [answer.verdict for answer in result.answers]
    assert (result.clear, result.later) == (verdicts.count("clear"), verdicts.count("later"))
    return [str(verdict) for verdict in verdicts]


def test_clearance_says_later_only_where_a_limit_is_to_hold_mail_back(office: Office, client: Client) -> None:
    now = office.world.clock.now
    describe(office, client, RelayLimit(per_hour=10))
    load(office, client, 8, now - timedelta(minutes=20))
    assert ask(client, office, 5) == ["clear"] * 5
    describe(office, client, RelayLimit(per_hour=10, hold_back=True), RelayLimit(per_day=1000, hold_back=True))
    assert ask(client, office, 5) == ["clear"] * 2 + ["later"] * 3
    assert ask(client, office, 5) == ["clear"] * 2 + ["later"] * 3  # asking alone uses nothing up
    answer = client.suppression.clearance(
        office.slug, ["a@tidepost.example"] * 3, stream="newsletter", relay="driftline"
    ).answers[2]
    assert (answer.reason, answer.verdict) == ("limit", "later")
    assert answer.not_before == now + timedelta(minutes=10)  # a sixth of the eight lies more than an hour back then
    assert answer.why == "driftline takes 10 messages an hour, and that many went out or were cleared"


def test_what_is_cleared_for_sending_counts_at_once_and_not_twice(office: Office, client: Client) -> None:
    now = office.world.clock.now
    describe(office, client, RelayLimit(per_hour=10, hold_back=True))
    assert ask(client, office, 6, sending=True) == ["clear"] * 6
    assert ask(client, office, 6, sending=True, first=50) == ["clear"] * 4 + ["later"] * 2
    assert uses(office, client)["", "hour"].used == 10
    load(office, client, 10, now - timedelta(minutes=1), first=500)  # the events of the same mail arrive
    assert uses(office, client)["", "hour"].used == 10
    with office.world.clock.later(timedelta(hours=2)):
        assert ask(client, office, 3) == ["clear"] * 3


def test_a_limit_of_other_streams_holds_nothing_back(office: Office, client: Client) -> None:
    describe(office, client, RelayLimit(per_hour=0, streams=["receipts"], hold_back=True))
    assert ask(client, office, 2) == ["clear"] * 2
    describe(office, client, RelayLimit(per_hour=0, streams=["newsletter"], hold_back=True))
    assert ask(client, office, 2) == ["later"] * 2


def test_a_stream_of_addresses_shares_what_remains_among_its_pieces(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    from rust_gauge.service.clearance import clearance

    monkeypatch.setattr(clearance, "_STREAM_PIECE", 4)
    describe(office, client, RelayLimit(per_hour=6, hold_back=True))
    stream = Stream(office.world.context, office.tenant, Question("newsletter", None, "driftline"))
    stream.feed(b"".join(b"p%d@tidepost.example\n" % n for n in range(10)))
    stream.end()
    answers = stream.file.read().decode().splitlines()
    assert [("later" in answer) for answer in answers] == [False] * 6 + [True] * 4


def test_held_addresses_use_nothing_up(office: Office, client: Client) -> None:
    from rust_gauge.contract.suppression import NewEntries

    describe(office, client, RelayLimit(per_hour=2, hold_back=True))
    client.suppression.add(office.slug, NewEntries(addresses=["p0@tidepost.example", "p1@tidepost.example"]))
    assert ask(client, office, 4, sending=True) == ["held", "held", "clear", "clear"]


def test_a_refusal_for_a_sender_that_is_not_proven_blames_neither_address_nor_provider(
    office: Office, client: Client
) -> None:
    """No provider has seen the message, so it is no refusal of a provider, and the address stays."""
    now = office.world.clock.now
    for number in range(4):
        load(
            office, client, 1, now - timedelta(days=number, hours=1), first=number, kind="bounced", reply_code=554,
            recipient="kim@tidepost.example", diagnostic="554 5.7.1 address is not verified: news@news.d.example",
        )  # fmt: skip
    assert {event.cause for event in client.events.list(office.slug)} == {"sender_unproven"}
    assert client.suppression.clearance(office.slug, ["kim@tidepost.example"]).clear == 1
