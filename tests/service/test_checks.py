"""Checks of addresses with DNS, history and a mail host; what is proposed once a day."""

import threading
from collections.abc import Iterator
from datetime import timedelta

import pytest

from rust_gauge.client import Client
from rust_gauge.contract.checks import AddressCheckRequest, AddressWords
from rust_gauge.contract.suppression import NewEntries
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.suppression import address_checks as checks
from rust_gauge.service.suppression import proposals
from rust_gauge.standins.mail_host import MailHost
from rust_gauge.store import checks as store_checks
from tests.conftest import TODAY, Office, forget_others
from tests.rows import bounce, ndjson, row


def verdicts(client: Client, office: Office, *addresses: str) -> list[tuple[str, str]]:
    """(verdict, first word that is not in favour) of each."""
    out = []
    for each in client.addresses.check(office.slug, addresses):
        words = [found.word for found in each.found if found.weight != "for"]
        out.append((each.verdict, words[0] if words else ""))
    return out


def test_form_domain_kind_list_and_history_each_have_their_word(office: Office, client: Client) -> None:
    office.world.zone("null.example", "@ IN MX 0 .\n")
    office.world.zone("parked.example", "@ IN MX 10 mx.parkplace.example.\n")
    office.world.zone("parkplace.example", "mx IN A 192.0.2.8\n")
    client.addresses.set_words(
        office.slug, AddressWords(throw_away=["once.example"], parked=["parkplace.example"], people=["info"])
    )
    client.events.load(office.slug, ndjson(bounce(1), row(2), *(row(n) for n in range(10, 18))))
    client.suppression.add(office.slug, NewEntries(addresses=["kim@tidepost.example"]))
    assert verdicts(
        client, office, "person2@tidepost.example", "new@tidepost.example", "nobody", "a@null.example",
        "a@nowhere-at-all.example", "a@parked.example", "abuse@tidepost.example", "info@tidepost.example",
        "kim@tidepost.example", "person1@tidepost.example", "a@tidepots.example",
    ) == [
        ("good", ""), ("good", ""), ("bad", "no_address"), ("bad", "null_mx"), ("bad", "no_domain"),
        ("bad", "parked"), ("doubtful", "role"), ("good", ""), ("bad", "held"), ("bad", "held"), ("bad", "no_domain"),
    ]  # fmt: skip
    (slip,) = client.addresses.check(office.slug, ["a@tidepots.example"])
    assert slip.suggestion == "a@tidepost.example"


def test_what_dns_says_is_kept_for_a_day(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, "@ IN MX 10 mx\nmx IN A 192.0.2.5\n")
    gone = {"takes_mail": False, "word": "no_domain", "detail": "it was not there yet", "hosts": []}
    an_hour_ago = TODAY - timedelta(hours=1)
    office.world.context.store.transaction(lambda c: store_checks.keep_facts(c, {name: gone}, an_hour_ago))
    assert verdicts(client, office, f"a@{name}") == [("bad", "no_domain")]
    with office.world.clock.later(timedelta(hours=25)):
        assert verdicts(client, office, f"a@{name}") == [("good", "")]


@pytest.fixture
def probing(office: Office) -> Iterator[tuple[Context, MailHost]]:
    """A context that may ask mail hosts, and the host that answers."""
    host = MailHost(0, refused=("gone",), later=("slow",), tls=False, keep=None)
    threading.Thread(target=host.serve_forever, daemon=True).start()
    settings = office.world.context.settings.model_copy(
        update={"reach": {"192.0.2.5": f"127.0.0.1:{host.server_address[1]}"}}
    )
    context = make_context(settings, office.world.clock)
    yield context, host
    context.close()
    host.shutdown()
    host.server_close()


def test_a_probe_is_made_only_where_it_is_allowed_so_often_and_is_honest(
    office: Office, client: Client, probing: tuple[Context, MailHost]
) -> None:
    context, _ = probing

    def asked(*addresses: str) -> list[str]:
        found = checks.check(context, office.tenant, AddressCheckRequest(addresses=[*addresses], probe=True))
        return [each.found[-1].word for each in found]

    assert asked("gone@tidepost.example") == ["mx"], "it is off unless somebody allows it"
    client.addresses.set_words(office.slug, AddressWords(probe=True, probes_a_minute=3))
    assert asked("gone@tidepost.example", "slow@tidepost.example", "kim@tidepost.example", "lee@tidepost.example") == [
        "refused", "no_answer", "catch_all", "not_probed",
    ]  # fmt: skip
    with office.world.clock.later(timedelta(minutes=2)):
        assert asked("lee@tidepost.example") == ["catch_all"]


def test_once_a_day_it_proposes_and_holds_nothing_before_somebody_agrees(office: Office, client: Client) -> None:
    forget_others(office)
    quiet, opens = "quiet@tidepost.example", "opens@tidepost.example"
    rows = []
    for number in range(13):
        at = (TODAY - timedelta(days=1 + 10 * number)).isoformat()
        rows += [row(number, recipient=each, time=at, message_id=f"{each}{number}") for each in (quiet, opens)]
    rows.append(row(1, recipient=opens, kind="opened", time=(TODAY - timedelta(days=30)).isoformat()))
    yesterday = (TODAY - timedelta(hours=20)).isoformat()
    rows.append(row(1, recipient="abuse@tidepost.example", time=yesterday))
    long_ago = (TODAY - timedelta(days=300)).isoformat()
    rows.append(bounce(1, recipient="dead@tidepost.example", time=long_ago, message_id="old"))
    rows.append(row(1, recipient="dead@tidepost.example", time=yesterday, message_id="new"))
    client.events.load(office.slug, ndjson(*rows))
    office.world.context.memory.pop("proposals", None)
    proposals.ask_for_due(office.world.context)
    office.world.work()
    found = {each.address: each for each in client.suppression.list(office.slug, state="proposed")}
    assert {address: each.reason for address, each in found.items()} == {
        quiet: "unresponsive", "abuse@tidepost.example": "role_address",
    }, "what is held already needs no proposal"  # fmt: skip
    assert "13 messages delivered since" in found[quiet].note
    assert client.suppression.clearance(office.slug, [quiet]).held == 0
    client.suppression.decide(office.slug, [found[quiet].id], confirm=True)
    client.suppression.decide(office.slug, [found["abuse@tidepost.example"].id], confirm=False, why="they asked for it")
    assert client.suppression.clearance(office.slug, [quiet, "abuse@tidepost.example"]).held == 1
    office.world.context.memory.pop("proposals", None)
    proposals.ask_for_due(office.world.context)
    office.world.work()
    assert list(client.suppression.list(office.slug, state="proposed")) == [], "said no once, it is not asked again"
