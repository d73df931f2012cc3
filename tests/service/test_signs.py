"""Problems that need no reading: proofs, feeds, keys, new replies, changed records; outages; readings that fall."""

from datetime import timedelta
from typing import Any

import httpx
import pytest
from sqlalchemy import text

from rust_gauge.client import Client
from rust_gauge.contract.domains import DomainChange
from rust_gauge.contract.feeds import FeedChange, NewFeed
from rust_gauge.contract.relays import RelayDescription, RelayLines
from rust_gauge.contract.worklist import AlertSettings, WorkAct, WorkItem
from rust_gauge.service.domains import proofs
from rust_gauge.service.readings import computation
from rust_gauge.service.worklist import items as worklist
from tests.conftest import TODAY, Office
from tests.core.test_tag_lists import RSA_2048
from tests.rows import bounce, ndjson, row

SOON = AlertSettings(wait_minutes=0, resolve_hours=0)


@pytest.fixture(autouse=True)
def at_once(office: Office, client: Client) -> None:
    client.worklist.set_settings(office.slug, SOON)


def found(office: Office, client: Client, *kinds: str) -> list[WorkItem]:
    """What lives of these kinds after two looks: the second tells."""
    worklist.detect(office.world.context, office.tenant)
    worklist.detect(office.world.context, office.tenant)
    return [item for item in client.worklist.list(tenant=office.slug) if not kinds or item.kind in kinds]


def send(office: Office, client: Client, days: int, each: int = 100, last: Any = None, **base: Any) -> None:
    """`each` messages a day up to today; `last` replaces the rows of the last day."""
    rows = []
    for back in range(days):
        at = (office.world.clock() - timedelta(days=back, hours=1)).isoformat()
        make = last if last is not None and back == 0 else row
        rows += [make(n, **{"time": at, "message_id": f"{office.world.clock():%d}.{back}.{n}.{base.get('domain', '')}", **base})
                 for n in range(each)]  # fmt: skip
    client.events.load(office.slug, ndjson(*rows))
    office.world.work()


def test_a_proof_that_is_lost_is_an_item_until_its_record_is_there_again(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, "")
    client.domains.add(office.slug, name)
    proof = client.proofs.start(office.slug, name)
    record = f'_rustgauge IN TXT "{proof.record}"\n'
    office.world.zone(name, record)
    client.proofs.recheck(office.slug, proof.id)
    assert found(office, client, "proof") == []

    def two_days_pass() -> None:
        older = text("UPDATE proof SET checked_at = checked_at - INTERVAL 2 DAY WHERE tenant_id = :id")
        office.world.context.store.transaction(lambda c: c.execute(older, {"id": office.tenant.id}))

    office.world.zone(name, "")
    two_days_pass()
    proofs.look_at_due(office.world.context)
    (item,) = found(office, client, "proof")
    assert (item.name, item.level, item.recheck) == (name, "fix", "proof")
    assert f"rustgauge proof recheck {name}" in item.remedy
    assert client.worklist.act(office.slug, item.id, WorkAct(act="recheck")).state == "open"
    office.world.zone(name, record)
    two_days_pass()
    assert client.worklist.act(office.slug, item.id, WorkAct(act="recheck")).state == "resolved"


def test_a_feed_that_went_silent_is_an_item_until_it_speaks_again(office: Office, client: Client) -> None:
    feed = client.feeds.add(office.slug, NewFeed(name="driftline", kind="http"))
    headers = {"Authorization": f"Bearer {feed.token}", "Content-Type": "application/x-ndjson"}
    address = f"{office.world.url}/api/v1/intake/{feed.key}"
    assert found(office, client, "feed") == [], "it never spoke: nobody waits for it"
    httpx.post(address, content=ndjson(row(1)), headers=headers)
    with office.world.clock.later(timedelta(hours=25)):
        assert found(office, client, "feed") == []
    with office.world.clock.later(timedelta(hours=27)):
        (item,) = found(office, client, "feed")
        assert (item.name, item.title) == ("driftline", "The feed driftline is silent")
        assert "No events for 27 hours" in item.text
        client.feeds.update(office.slug, "driftline", FeedChange(paused=True))
        assert found(office, client, "feed") == [], "whoever pauses a feed knows"
        client.feeds.update(office.slug, "driftline", FeedChange(paused=False))
        assert found(office, client, "feed")[0].returns == 1
        httpx.post(address, content=ndjson(row(2)), headers=headers)
        assert found(office, client, "feed") == []


def test_a_key_that_is_published_for_more_than_a_year_is_old(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, f's1._domainkey IN TXT "v=DKIM1; p={RSA_2048[:200]}" "{RSA_2048[200:]}"\n')
    client.domains.add(office.slug, name)
    client.domains.update(office.slug, name, DomainChange(selectors=["s1"]))
    client.audits.run(office.slug, name)
    assert found(office, client, "key") == []
    with office.world.clock.later(timedelta(days=366)):
        client.audits.run(office.slug, name)
        (item,) = found(office, client, "key")
        assert item.title == f"The DKIM key s1 of {name} is old"
        assert "revoke s1" in item.remedy
        assert item.since.date() == TODAY.date()
        office.world.zone(name, "")
        client.audits.run(office.slug, name)
    with office.world.clock.later(timedelta(days=374)):
        assert found(office, client, "key") == [], "it was withdrawn a week ago"


def test_a_refusal_that_was_never_seen_is_told_once_it_came_ten_times(office: Office, client: Client) -> None:
    words = {"reply_code": 550, "diagnostic": "550 5.7.1 the harbour master wants no mail of this kind"}

    def refused(n: int, **base: Any) -> dict[str, Any]:
        return bounce(n, **base, **words) if n < few else row(n, **base)

    few = 9
    send(office, client, 1, each=2000, last=refused)
    assert found(office, client, "reply") == []
    few = 15
    send(office, client, 1, each=2000, last=refused, stream="receipts", relay="office-2")
    (item,) = found(office, client, "reply")
    assert item.title.startswith("New refusal: 550 5.7.1 the harbour master")
    assert "times since" in item.text
    with office.world.clock.later(timedelta(hours=25)):
        assert found(office, client, "reply") == [], "it was news for a day"
        assert client.worklist.get(office.slug, item.id).steps[-1].text == "Reported for a day"


def test_a_new_refusal_belongs_to_the_pull_of_its_cause(office: Office, client: Client) -> None:
    words = {"reply_code": 550, "diagnostic": "550 5.7.1 blocked: poor reputation of the sender, says the harbour"}

    def refused(n: int, **base: Any) -> dict[str, Any]:
        return bounce(n, **base, **words) if n < 40 else row(n, **base)

    send(office, client, 12, last=refused)
    (item,) = found(office, client)
    assert (item.kind, "refusals" in item.title.lower()) == ("pull", True)
    assert any(line.startswith("New refusal: 550 5.7.1 blocked") for line in item.evidence)


def test_a_providers_outage_is_told_as_nobodys_fault(office: Office, client: Client) -> None:
    provider = f"{office.slug}-box.example"
    office.world.zone(provider, "@ IN MX 10 mx\nmx IN A 192.0.2.9\n")
    rows = []
    for sender in range(4):
        for back in range(20):
            at = (TODAY - timedelta(days=back, hours=1)).isoformat()
            for n in range(40):
                base = {"domain": f"s{sender}.{office.slug}.example", "recipient": f"p{n}@{provider}", "time": at,
                        "message_id": f"{sender}.{back}.{n}"}  # fmt: skip
                rows += [row(n, **base, kind="delayed", cause="rate_limited")] if back == 0 and n < 32 else []
                rows.append(row(n, **base))
    client.events.load(office.slug, ndjson(*rows))
    office.world.work()
    computation.look_at_providers(office.world.context)
    office.world.work()
    (item,) = found(office, client)
    assert (item.kind, item.level, item.subject) == ("outage", "info", "provider")
    assert item.remedy.startswith("Nothing to fix")
    with office.world.clock.later(timedelta(days=1)):
        assert found(office, client) == []


def test_each_of_many_small_things_is_reported_by_its_own_cause_and_the_fall_is_not_said_twice(
    office: Office, client: Client
) -> None:
    def worse(n: int, **base: Any) -> dict[str, Any]:
        if n < 20:
            return bounce(n, **base)
        if n < 28:
            return bounce(n, **base, reply_code=550, diagnostic="550 5.7.26 mail is not authenticated")
        if n < 44:
            return row(n, **base, kind="bounced", reply_code=550, diagnostic="550 5.7.1 message looks like spam")
        return row(n, **base)

    send(office, client, 20, each=400, last=worse)
    items = found(office, client, "fell", "pull")
    series = client.readings.series(office.slug, "news.d.example").readings
    before, now = series[-8], series[-1]
    assert (before.value or 0) > (now.value or 100), "the reading itself moves slowly"
    assert {item.title for item in items} == {
        f"{what} at tidepost.example: news.d.example"
        for what in ("Bounces from invalid addresses", "Failed authentication", "Refusals")
    }
    refusals = next(item for item in items if item.title.startswith("Refusals"))
    assert "4.00 % since 20 Nov (16 of 400 messages), 0.00 % before" in refusals.text


@pytest.mark.parametrize(
    ("watch", "stop", "crossed"), [(0.001, 0.003, "stop"), (0.003, 0.02, "watch"), (0.05, 0.2, "")]
)
def test_complaints_are_held_against_the_relays_own_lines(
    office: Office, client: Client, watch: float, stop: float, crossed: str
) -> None:
    def some_complain(n: int, **base: Any) -> dict[str, Any]:
        return row(n, **base)

    send(office, client, 8, each=500, last=some_complain)
    at = (TODAY - timedelta(minutes=30)).isoformat()
    complaints = [row(n, kind="complained", time=at, message_id=f"{TODAY:%d}.0.{n}.") for n in range(16)]
    client.events.load(office.slug, ndjson(*complaints))
    office.world.work()
    client.relays.set(
        office.slug, "office-1", RelayDescription(lines=RelayLines(complaint_watch=watch, complaint_stop=stop))
    )
    lines = {(line.subject, line.rate): line for line in client.worklist.lines(office.slug)}
    mine = lines["relay", "complaints"]
    assert (mine.crossed, mine.own) == (crossed, (watch, stop) != (0.001, 0.003))
    assert lines["stream", "complaints"].crossed == "stop", "a stream has the usual lines"
    assert lines["provider", "complaints"].events == lines["domain", "complaints"].events


def test_mail_at_providers_that_send_no_reports_says_nothing_of_complaints(office: Office, client: Client) -> None:
    provider = f"{office.slug}-quiet.example"
    office.world.zone(provider, "@ IN MX 10 mx\nmx IN A 192.0.2.9\n")
    send(office, client, 3, recipient=f"kim@{provider}")
    assert {line.rate for line in client.worklist.lines(office.slug)} == {"bounces"}


def test_lines_crossed_by_two_domains_for_reasons_of_their_own_are_two_incidents(
    office: Office, client: Client
) -> None:
    locked = {"reply_code": 552, "diagnostic": "552 5.3.4 message too big"}

    def refused(n: int, **base: Any) -> dict[str, Any]:
        return bounce(n, **base, **locked) if n < 60 else row(n, **base)

    send(office, client, 20, each=300, last=refused)
    send(office, client, 20, each=300, last=refused, domain="plain.example", stream="", relay="")
    items = found(office, client)
    assert sorted((item.kind, item.subject, item.name) for item in items) == [
        ("line", "domain", "plain.example"), ("line", "stream", "newsletter"),
    ]  # fmt: skip
    (stream,) = [item for item in items if item.subject == "stream"]
    assert any("Bounces of domain news.d.example are above" in line for line in stream.evidence)
    assert any("Bounces of relay office-1 are above" in line for line in stream.evidence)
