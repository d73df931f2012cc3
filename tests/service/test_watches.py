"""Watches of propagation over the service, with the stand-in's resolvers: one at once, one that lags four minutes."""

import io
from datetime import timedelta

import pytest
from sqlalchemy import text

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client, InvalidInputError, NotFoundError, ProblemResponse
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.relays import RelayDescription, RelayHost
from rust_gauge.contract.watches import Watch, WatchResolver, WatchSettings
from rust_gauge.launch.mariadb import free_port
from rust_gauge.store import watches as store_watches
from tests.conftest import Office


@pytest.fixture
def name(office: Office, client: Client) -> str:
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 mx -all"\n')
    client.domains.add(office.slug, name)
    client.relays.set(office.slug, "office-1", RelayDescription(own=True, hosts=[RelayHost(ip="192.0.2.41")]))
    client.domains.update(office.slug, name, DomainChange(streams=[StreamPath(name="bookings", relay="office-1")]))
    return name


def held(watch: Watch) -> dict[tuple[str, str], str]:
    return {(sighting.server, sighting.key.split()[0]): sighting.holds for sighting in watch.sightings}


def test_a_watch_tells_who_has_it_and_ends_when_all_do(office: Office, client: Client, name: str) -> None:
    watch = client.watches.start(office.slug, name)
    assert (watch.state, watch.summary) == ("running", "Not checked yet")
    office.world.work()
    watch = client.watches.get(office.slug, watch.id)
    assert set(held(watch).values()) == {"old", "nothing"}
    assert watch.next_at is not None
    plan = client.plans.get(office.slug, name)
    lines = [record.forms.zone_line for record in plan.records if not record.elsewhere]
    office.world.zone(name, "\n".join(lines) + "\n")
    assert client.watches.recheck(office.slug, watch.id).rounds == 1  # it has just looked
    with office.world.clock.later(timedelta(seconds=6)):
        watch = client.watches.recheck(office.slug, watch.id)
    assert held(watch)["near", "spf"] == "new"
    assert held(watch)["far", "spf"] == "old"
    assert watch.summary.startswith("1 of 2 servers have all 2 records; the last will in 4 minutes")
    assert watch.all_by is not None
    assert watch.looked_at is not None
    assert timedelta(minutes=3) < watch.all_by - watch.looked_at <= timedelta(minutes=4)
    assert {record.seen_by for record in watch.records} == {1}
    _time_passes(office, name)
    with office.world.clock.later(timedelta(minutes=11)):
        office.world.work()
    watch = client.watches.get(office.slug, watch.id)
    assert (watch.state, watch.summary) == ("agreed", "2 of 2 servers have all 2 records")
    (entry,) = [row for row in client.audits.history(office.slug, name) if row.kind == "watch"]
    assert "seen by all 2 servers" in entry.title


def test_a_server_that_never_answers_is_named(office: Office, client: Client, name: str) -> None:
    watch = client.watches.start(office.slug, name)
    plan = client.plans.get(office.slug, name)
    lines = [record.forms.zone_line for record in plan.records if not record.elsewhere]
    office.world.zone(name, "\n".join(lines) + "\n")
    store = office.world.context.store
    row = store.transaction(lambda c: store_watches.get_watch(c, watch.id))
    assert row is not None
    dead = {"address": f"127.0.0.1:{free_port()}"}
    servers = [server | dead if server["label"] == "far" else server for server in row.servers]
    store.transaction(lambda c: store_watches.change_watch(c, watch.id, servers=servers))
    states = []
    for minutes in range(0, 50, 10):
        with office.world.clock.later(timedelta(minutes=minutes)):
            watch = client.watches.recheck(office.slug, watch.id)
        states.append(watch.state)
    assert states == ["running"] * 4 + ["incomplete"]
    assert watch.summary == "1 of 2 servers have all 2 records; no answer from far"
    assert watch.all_by is None
    (entry,) = [row for row in client.audits.history(office.slug, name) if row.kind == "watch"]
    assert "1 of 2 servers did not answer: far" in entry.title


def _time_passes(office: Office, name: str) -> None:
    """The lagging resolver lets go of what it held."""
    for origin, zone in list(office.world.dns.zones.items()):
        if origin.to_text(omit_final_dot=True) == name:
            office.world.dns.zone_of(origin)  # what waits is served now
            zone.was.clear()


def test_a_watch_gives_up_and_says_so(office: Office, client: Client, name: str) -> None:
    watch = client.watches.start(office.slug, name, hours=1)
    with office.world.clock.later(timedelta(hours=2)):
        assert client.watches.recheck(office.slug, watch.id).state == "gave_up"
    assert client.watches.recheck(office.slug, watch.id).rounds == 1


def test_a_watch_is_stopped_and_asks_no_more(office: Office, client: Client, name: str) -> None:
    watch = client.watches.start(office.slug, name, keys=[f"spf {name} TXT"])
    assert [record.key for record in watch.records] == [f"spf {name} TXT"]
    assert client.watches.cancel(office.slug, watch.id).state == "cancelled"
    office.world.work()
    assert client.watches.get(office.slug, watch.id).rounds == 0
    count = text("SELECT COUNT(*) FROM job WHERE kind = 'watch' AND subject = :id")
    assert office.world.context.store.transaction(lambda c: c.execute(count, {"id": watch.id}).scalar()) == 0


def test_a_round_has_a_limit(office: Office, client: Client, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("rust_gauge.service.plans.propagation._MAX_QUESTIONS", 3)
    with pytest.raises(ProblemResponse, match="exceed 3 queries"):
        client.watches.start(office.slug, name)
    monkeypatch.setattr("rust_gauge.service.plans.plans._MAX_RECORDS", 1)
    with pytest.raises(ProblemResponse, match="the limit is 1"):
        client.plans.get(office.slug, name)


def test_what_cannot_be_watched_is_refused(office: Office, client: Client, name: str) -> None:
    with pytest.raises(InvalidInputError, match="no record"):
        client.watches.start(office.slug, name, keys=["spf other.example TXT"])
    with pytest.raises(NotFoundError):
        client.watches.get(office.slug, 999_999)


@pytest.mark.parametrize("address", ["127.0.0.1", "10.0.0.1:53", "169.254.1.1", "nonsense", "[::1]:53"])
def test_a_tenant_cannot_have_private_addresses_asked(office: Office, client: Client, address: str) -> None:
    with pytest.raises(InvalidInputError):
        client.watches.set_settings(office.slug, WatchSettings(resolvers=[WatchResolver(label="in", address=address)]))


def test_a_tenant_chooses_resolvers_of_its_own(office: Office, client: Client) -> None:
    assert client.watches.settings(office.slug).given == ["near", "far"]
    chosen = WatchSettings(resolvers=[WatchResolver(label="public", address="8.8.4.253:53")])
    assert client.watches.set_settings(office.slug, chosen).resolvers == chosen.resolvers


def test_a_watch_from_the_command_line(
    office: Office, client: Client, name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("RUSTGAUGE_URL", office.world.url)
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)

    def command(*words: str) -> tuple[int, str]:
        out = io.StringIO()
        return main(list(words), Output(out, io.StringIO())), out.getvalue()

    status, said = command("watch", name)
    assert status == 3
    assert "0 of 2 servers have all 2 records" in said
    assert "near" in said
    plan = client.plans.get(office.slug, name)
    lines = [record.forms.zone_line for record in plan.records if not record.elsewhere]
    office.world.zone(name, "\n".join(lines) + "\n")
    _time_passes(office, name)
    with office.world.clock.later(timedelta(seconds=6)):
        status, said = command("watch", name)
    assert (status, "2 of 2 servers have all 2 records" in said) == (0, True)
    assert "agreed" in command("watch", "list", name)[1]
    id = client.watches.list(office.slug, name)[0].id
    assert command("watch", "show", str(id), "--wait")[0] == 0
    assert command("watch", "cancel", str(id))[0] == 0
