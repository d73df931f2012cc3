"""What people look at: flow per provider for any part of the mail, causes, reply patterns, two parts beside each other."""

import io
from datetime import UTC, datetime, timedelta

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client, InvalidInputError, NotFoundError
from tests.conftest import TODAY, Office
from tests.rows import bounce, ndjson, row

DAYS = {"first": TODAY.date() - timedelta(days=6), "last": TODAY.date()}


@pytest.fixture
def loaded(office: Office, client: Client) -> Office:
    rows = [
        row(n, seconds_taken=2.0 if n % 10 else 600.0, campaign="a", tags=["blue"], sending_ip="192.0.2.1")
        for n in range(400)
    ]
    rows += [row(n, campaign="b", recipient=f"person{n}@kbox.example", relay="office-2") for n in range(400, 800)]
    rows += [bounce(n, campaign="b", relay="office-2") for n in range(800, 860)]
    rows += [bounce(n, campaign="a", diagnostic=f"550 harbour closed {n}", stream="offers") for n in range(860, 865)]
    client.events.load(office.slug, ndjson(*rows))
    return office


def test_any_part_of_the_mail_is_shown_with_its_times(loaded: Office, client: Client) -> None:
    whole = client.flow.show(loaded.slug, **DAYS)
    assert (whole.total.counts.delivered, whole.total.counts.bounced_permanent) == (800, 65)
    part = client.flow.show(loaded.slug, relay="office-1", **DAYS)
    assert (part.total.counts.delivered, part.total.counts.bounced_permanent) == (400, 5)
    assert part.total.seconds_p50 == pytest.approx(2, rel=0.2)
    assert part.total.seconds_p95 == pytest.approx(600, rel=0.2)
    for query, delivered in (
        ({"campaign": "b"}, 400), ({"tag": "blue"}, 400), ({"ip": "192.0.2.1", "domain": "news.d.example"}, 400), ({"stream": "offers"}, 0),
    ):  # fmt: skip
        assert client.flow.show(loaded.slug, **query, **DAYS).total.counts.delivered == delivered
    with pytest.raises(NotFoundError):
        client.flow.show(loaded.slug, campaign="none")
    with pytest.raises(InvalidInputError, match="cannot be combined"):
        client.flow.show(loaded.slug, campaign="a", relay="office-1")
    names = client.flow.names(loaded.slug)
    assert (names.campaigns, names.tags, names.ips) == (["b", "a"], ["blue"], ["192.0.2.1"])


def test_causes_day_by_day_say_what_is_new(loaded: Office, client: Client) -> None:
    found = client.flow.causes(loaded.slug, **DAYS)
    first, second = found.rows
    assert (first.cause, first.bounced, first.is_new, sum(first.days)) == ("no_such_mailbox", 60, True, 60)
    assert (second.cause, second.bounced) == ("unclassified", 5)
    assert "harbour closed" in second.example
    later = {"first": TODAY.date() + timedelta(days=1), "last": TODAY.date() + timedelta(days=7)}
    with loaded.world.clock.later(timedelta(days=5)):
        time = (TODAY + timedelta(days=3)).isoformat()
        client.events.load(
            loaded.slug, ndjson(bounce(900, time=time), bounce(901, time=time, diagnostic="552 5.2.2 full"))
        )
        again = {each.cause: each for each in client.flow.causes(loaded.slug, **later).rows}
    assert (again["no_such_mailbox"].is_new, again["no_such_mailbox"].before) == (False, 60)
    assert again["mailbox_full"].is_new


def test_replies_are_grouped_by_their_fixed_part(loaded: Office, client: Client) -> None:
    (unknown,) = client.flow.reply_patterns(loaded.slug, cause="unclassified", **DAYS)
    assert (unknown.pattern, unknown.count) == ("550 harbour closed #", 5)
    assert len(client.flow.reply_patterns(loaded.slug, **DAYS)) == 2


def test_two_variants_are_compared_with_their_interval(loaded: Office, client: Client) -> None:
    told = [
        row(n, kind="complained", campaign=name, recipient=f"person{n}@{box}")
        for n, name, box in ((1, "a", "tidepost.example"), (401, "b", "kbox.example"))
    ]
    client.events.load(loaded.slug, ndjson(*told))  # so both providers report complaints
    found = client.flow.compare(loaded.slug, campaign="a", other_campaign="b", **DAYS)
    rates = {rate.name: rate for rate in found.rates}
    bounces = rates["permanent bounces"]
    assert (found.first, found.second, bounces.summary) == ("a", "b", "a is better")
    assert bounces.low is not None
    assert bounces.low > 0
    assert rates["complaints"].summary == "not enough mail to decide"
    assert set(found.providers) >= {"tidepost.example", "kestrelbox.example"}


def test_events_are_searched_by_reply_cause_and_provider(loaded: Office, client: Client) -> None:
    def search(**query: object) -> int:
        return len(list(client.events.list(loaded.slug, **query)))  # type: ignore[arg-type]

    assert search(reply="harbour closed") == 5
    assert search(reply="harbour closed 861") == 1
    assert search(reply="100%") == 0
    assert search(causes=["no_such_mailbox"]) == 60
    assert search(provider="kestrelbox.example") == 400
    with pytest.raises(NotFoundError, match=r"no mailbox provider nowhere\.example"):
        search(provider="nowhere.example")


def test_the_commands(loaded: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTGAUGE_TOKEN", loaded.token)

    def run(*words: str) -> str:
        out = io.StringIO()
        assert main([*words, "--url", loaded.world.url, "--tenant", loaded.slug], Output(out, out)) == 0
        return out.getvalue()

    days = str((datetime.now(UTC) - TODAY).days + 9)
    assert " min  " in run("flow", "--relay", "office-1", "--days", days)
    assert "a is better" in run("flow", "compare", "--campaign", "a", "--with", "campaign=b", "--days", days)
    assert "harbour closed" in run("flow", "causes", "--days", days)
    assert "550 harbour closed #" in run("flow", "replies", "--cause", "unclassified", "--days", days)
    assert "harbour closed" in run("trail", "--reply", "harbour closed")
