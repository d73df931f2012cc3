"""Relays, record plans and keys over the service, and from the command line."""

import io
import json
from datetime import timedelta

import pytest

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.plans import PlanSettings
from rust_gauge.contract.relays import RelayDescription, RelayHost, RelayKey, RelayLimit, RelayRecord
from tests.conftest import Office
from tests.core.test_tag_lists import RSA_2048

OFFICE = RelayDescription(own=True, hosts=[RelayHost(ip="192.0.2.41", helo="mta1.skerry.example")])
CONTRACTED = RelayDescription(
    include="Spf.Driftline.example.",
    dkim=[RelayKey(selector="df1", value="df1.{dashed}.keys.driftline.example")],
    return_path=RelayRecord(label="bounce", type="MX", value="returns.driftline.example"),
    limits=[RelayLimit(region="north", per_hour=500, per_day=4000, restricted=True)],
)


@pytest.fixture
def name(office: Office, client: Client) -> str:
    """A domain with a stream over each of two relays, in a zone that is served."""
    name = f"news.{office.slug}.example"
    office.world.zone(f"{office.slug}.example", "")
    office.world.zone(
        "driftline.example",
        'spf IN TXT "v=spf1 ip4:198.51.100.16/28 ~all"\nreturns IN A 198.51.100.20\nin IN A 198.51.100.21\ntrack IN A 198.51.100.30\n'
        + f'df1.{name.replace(".", "-")}.keys IN TXT "v=DKIM1; p={RSA_2048[:200]}" "{RSA_2048[200:]}"\n',
    )
    client.domains.add(office.slug, name)
    client.relays.set(office.slug, "office-1", OFFICE)
    client.relays.set(office.slug, "driftline", CONTRACTED)
    streams = [
        StreamPath(name="bookings", relay="office-1", selector="g1"),
        StreamPath(name="offers", relays=["driftline"]),
    ]
    client.domains.update(office.slug, name, DomainChange(streams=streams))
    return name


def test_relays_are_described_listed_and_forgotten(office: Office, client: Client, name: str) -> None:
    relays = {relay.name: relay for relay in client.relays.list(office.slug)}
    assert relays["driftline"].include == "spf.driftline.example"
    assert (relays["driftline"].limits[0].restricted, relays["driftline"].domains) == (True, [name])
    assert relays["office-1"].own
    client.relays.delete(office.slug, "office-1")
    assert [(r.name, r.described) for r in client.relays.list(office.slug)] == [
        ("driftline", True),
        ("office-1", False),
    ]
    with pytest.raises(NotFoundError):
        client.relays.delete(office.slug, "office-1")


@pytest.mark.parametrize(
    "wrong",
    [
        RelayDescription(hosts=[RelayHost(ip="192.0.2")]),
        RelayDescription(networks=["192.0.2.0/99"]),
        RelayDescription(include="not a name"),
        RelayDescription(dkim=[RelayKey(selector="df1", value="")]),
        RelayDescription(dkim=[RelayKey(selector="df1.-x", type="TXT")]),
        RelayDescription(dkim=[RelayKey(selector="a..b", type="TXT")]),
        RelayDescription(
            dkim=[RelayKey(selector="df1", value="a.example"), RelayKey(selector="DF1", value="b.example")]
        ),
        RelayDescription(hosts=[RelayHost(ip="192.0.2.1", helo="-")]),
    ],
)
def test_a_description_that_cannot_be_is_refused(office: Office, client: Client, wrong: RelayDescription) -> None:
    with pytest.raises(InvalidInputError):
        client.relays.set(office.slug, "r", wrong)


def test_a_domain_goes_from_nothing_to_all_published(office: Office, client: Client, name: str) -> None:
    slug, zone = office.slug, f"{office.slug}.example"
    client.plans.set_settings(slug, name, PlanSettings(reports_to=f"dmarc@{zone}", stage="quarantine"))
    made = client.plans.add_key(slug, name, "g1")
    assert "PRIVATE KEY" in made.private_key
    plan = client.plans.check(slug, name)
    assert (plan.zone, plan.right, plan.checked_at is not None) == (zone, 0, True)
    ours = [record for record in plan.records if not record.elsewhere]
    assert {(r.check.state, r.waits_for) for r in ours if r.check} == {("missing", "")}
    lines = [record.forms.zone_line for record in ours]
    assert any("PRIVATE" in line for line in lines) is False
    office.world.zone(zone, "\n".join(lines) + "\n")
    plan = client.plans.check(slug, name)
    assert (plan.right, plan.total) == (len(ours), len(ours)), [(r.key, r.check) for r in plan.records]
    wrong = [line.replace(f"_dmarc.{name}.", f"dmarc.{name}.").replace('"v=spf1', '" v=spf1') for line in lines]
    office.world.zone(zone, "\n".join(wrong) + "\n")
    states = {r.key.split()[0]: r.check for r in client.plans.check(slug, name).records if r.check}
    assert states["dmarc"].state == "misplaced"
    assert states["dmarc"].found_at == f"dmarc.{name}"
    assert [cause.key for cause in states["spf"].causes] == ["leading-blank"]


def test_selectors_of_relays_and_of_keys_made_here_are_audited(office: Office, client: Client, name: str) -> None:
    made = client.plans.add_key(office.slug, name, "g9")
    zone = f"{office.slug}.example"
    office.world.zone(zone, f'g9._domainkey.{name}. IN TXT "{made.record[:200]}" "{made.record[200:]}"\n'
                      f'df1._domainkey.{name}. IN TXT "{made.record[:200]}" "{made.record[200:]}"\n')  # fmt: skip
    keys = {key.selector: key.source for key in client.audits.run(office.slug, name).keys}
    assert (keys["g9"], keys["df1"]) == ("plan", "relay")


def test_a_private_key_is_given_once(office: Office, client: Client, name: str) -> None:
    made = client.plans.add_key(office.slug, name, "g1", "ed25519")
    again = client.plans.get(office.slug, name)
    assert made.record in [record.value for record in again.records]
    assert "PRIVATE" not in again.model_dump_json()
    with pytest.raises(AlreadyThereError):
        client.plans.add_key(office.slug, name, "g1")
    assert made.record in [record.value for record in client.plans.get(office.slug, name).records], "nothing was lost"
    assert client.plans.add_key(office.slug, name, "g1", replace=True).record != made.record


def test_the_id_of_a_transport_policy_changes_with_its_mode(office: Office, client: Client, name: str) -> None:
    def id_of(mode: str) -> str:
        settings = PlanSettings(mta_sts=mode, mta_sts_host="sts.skerry.example")  # type: ignore[arg-type]
        with office.world.clock.later(timedelta(seconds=5 if mode == "enforce" else 0)):
            plan = client.plans.set_settings(office.slug, name, settings)
        return next(r.value for r in plan.records if r.name == f"_mta-sts.{name}")

    first = id_of("testing")
    assert id_of("testing") == first
    assert id_of("enforce") != first


def test_plans_from_the_command_line(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("RUSTGAUGE_URL", office.world.url)
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    zone = f"{office.slug}.example"
    name = f"news.{zone}"
    office.world.zone(zone, "")

    def command(*words: str) -> tuple[int, str]:
        out = io.StringIO()
        return main(list(words), Output(out, io.StringIO())), out.getvalue()

    command("domain", "add", name)
    assert command("relay", "set", "office-1", "--own", "--host", "192.0.2.41=mta1.skerry.example")[0] == 0
    assert command("relay", "set", "driftline", "--include", "spf.driftline.example", "--dkim", "df1=df1.keys.driftline.example",
                   "--return-path", "bounce=mx:returns.driftline.example", "--tracking", "click=track.driftline.example",
                   "--inbound", "10:in.driftline.example")[0] == 0  # fmt: skip
    assert "office-1" in command("relay", "list")[1]
    assert (
        command("stream", "set", name, "offers", "--relay", "driftline", "--relay", "office-1", "--selector", "g1")[0]
        == 0
    )
    status, text = command("plan", "set", name, "--stage", "reject", "--reports-to", f"d@{zone}")
    assert status == 3
    assert "missing  _dmarc.news  TXT" in text
    assert f"v=DMARC1; p=reject; rua=mailto:d@{zone}" in text
    assert "BEGIN PRIVATE KEY" in command("plan", "add-key", name, "g1")[1]
    fragment = command("plan", name, "--no-check", "--format", "zone")[1]
    office.world.zone(zone, fragment.replace("; PRIVATE", ""))
    status, text = command("plan", name)
    assert (status, "published as planned" in text) == (0, True), text
    rows = json.loads(command("plan", name, "--format", "json")[1])["records"]
    assert {row["check"]["state"] for row in rows if not row["elsewhere"]} == {"matches"}
    assert command("plan", name, "--format", "csv", "--no-check")[1].startswith("purpose,host,type,priority,ttl,value")
    assert command("plan", "set", name, "--spf", "nonsense")[0] == 2
    assert command("relay", "show", "nobody")[0] == 2
    assert command("stream", "remove", name, "offers", "--yes")[0] == 0
    assert command("stream", "list", name, "--format", "json")[1] == "[]\n"
