"""Publishing by dynamic update (RFC 2136) with TSIG at a real BIND 9: show, apply, verify, roll back."""

import base64
import io
from datetime import timedelta
from pathlib import Path

import pytest
from pydantic import SecretStr

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import AlreadyThereError, Client, InvalidInputError, NotFoundError, ProblemResponse
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.contract.publishing import NewUpdateServer
from rust_gauge.contract.relays import RelayDescription, RelayHost
from tests.conftest import Office
from tests.gateways.primary import SECRET, Primary


def server(bind: Primary, **more: str) -> NewUpdateServer:
    words = {"address": f"127.0.0.1:{bind.port}", "key_name": "gauge.example", "secret": SECRET} | more
    return NewUpdateServer(address=words["address"], key_name=words["key_name"], secret=SecretStr(words["secret"]))


@pytest.fixture
def zone(bind: Primary, office: Office, client: Client) -> str:
    """A zone at the BIND, known to the stand-in by its SOA, with a domain that has a plan."""
    zone = bind.zones.pop()
    office.world.zone(zone, "")
    client.domains.add(office.slug, zone)
    client.relays.set(office.slug, "office-1", RelayDescription(own=True, hosts=[RelayHost(ip="192.0.2.41")]))
    client.domains.update(office.slug, zone, DomainChange(streams=[StreamPath(name="bookings", relay="office-1")]))
    client.publishing.set_server(office.slug, zone, server(bind))
    return zone


def test_a_plan_is_shown_applied_verified_and_taken_back(
    bind: Primary, office: Office, client: Client, zone: str
) -> None:
    shown = client.publishing.preview(office.slug, zone)
    changes = {(change.name, change.type): change for change in shown.changes}
    spf = changes[zone, "TXT"]
    assert set(spf.before) == {'"v=spf1 mx -all"', '"some-service=12345"'}
    assert set(spf.after) == {'"v=spf1 ip4:192.0.2.41 ~all"', '"some-service=12345"'}
    assert changes[f"_dmarc.{zone}", "TXT"].before == []
    assert bind.texts(zone) == set(spf.before)  # nothing was changed yet
    done = client.publishing.apply(office.slug, zone, shown.digest)
    assert (done.state, done.verified, done.made_by) == ("applied", True, office.email)
    assert bind.texts(zone) == set(spf.after)
    assert client.publishing.preview(office.slug, zone).changes == []
    back = client.publishing.roll_back(office.slug, done.id)
    assert back.state == "rolled_back"
    assert bind.texts(zone) == set(spf.before)
    assert bind.texts(f"_dmarc.{zone}") == set()
    with pytest.raises(AlreadyThereError):
        client.publishing.roll_back(office.slug, done.id)
    assert [row.state for row in client.publishing.list(office.slug, zone)] == ["rolled_back"]
    assert len([row for row in client.audits.history(office.slug, zone) if row.kind == "published"]) == 2


def test_only_the_change_that_was_shown_is_made(bind: Primary, office: Office, client: Client, zone: str) -> None:
    shown = client.publishing.preview(office.slug, zone)
    with pytest.raises(AlreadyThereError, match="differ from the preview"):
        client.publishing.apply(office.slug, zone, "0" * 32)
    one = client.publishing.apply(office.slug, zone, client.publishing.preview(office.slug, zone, [f"dmarc _dmarc.{zone} TXT"]).digest,
                                  [f"dmarc _dmarc.{zone} TXT"])  # fmt: skip
    assert [change.name for change in one.changes] == [f"_dmarc.{zone}"]
    with pytest.raises(AlreadyThereError):
        client.publishing.apply(office.slug, zone, shown.digest)


def test_what_somebody_changed_since_is_not_overwritten_by_a_roll_back(
    bind: Primary, office: Office, client: Client, zone: str
) -> None:
    done = client.publishing.apply(office.slug, zone, client.publishing.preview(office.slug, zone).digest)
    again = client.domains.update(office.slug, zone, DomainChange(streams=[], sends=False))
    assert again.sends is False
    client.publishing.apply(office.slug, zone, client.publishing.preview(office.slug, zone).digest)
    with pytest.raises(ProblemResponse, match="not as it was"):
        client.publishing.roll_back(office.slug, done.id)
    assert '"v=spf1 -all"' in bind.texts(zone)


def test_a_wrong_key_changes_nothing_and_says_why(bind: Primary, office: Office, client: Client, zone: str) -> None:
    client.publishing.set_server(office.slug, zone, server(bind, secret=base64.b64encode(b"x" * 32).decode()))
    digest = client.publishing.preview(office.slug, zone).digest
    with pytest.raises(ProblemResponse, match="does not take the key") as refused:
        client.publishing.apply(office.slug, zone, digest)
    assert "secret of the key" in refused.value.problem.remedy
    assert bind.texts(zone) == {'"v=spf1 mx -all"', '"some-service=12345"'}


def test_a_key_is_replaced_before_the_name_server_knows_the_new_one(
    bind: Primary, office: Office, client: Client, zone: str
) -> None:
    new = server(bind, key_name="next.gauge.example").model_copy(update={"overlap_hours": 2})
    shown = client.publishing.set_server(office.slug, zone, new)
    assert shown.key_name == "next.gauge.example"
    assert shown.previous_until == office.world.clock() + timedelta(hours=2)
    done = client.publishing.apply(office.slug, zone, client.publishing.preview(office.slug, zone).digest)
    assert done.verified
    with office.world.clock.later(timedelta(hours=3)), pytest.raises(ProblemResponse, match="does not take the key"):
        client.publishing.roll_back(office.slug, done.id)


def test_the_secret_is_kept_encrypted_and_never_shown(bind: Primary, office: Office, client: Client, zone: str) -> None:
    assert SECRET not in client.publishing.servers(office.slug)[0].model_dump_json()
    from sqlalchemy import text

    kept = office.world.context.store.transaction(
        lambda c: c.execute(
            text("SELECT document FROM tenant_setting WHERE tenant_id = :id"), {"id": office.tenant.id}
        ).all()
    )
    assert SECRET not in str(kept)
    assert "gauge.example" in str(kept)
    client.publishing.delete_server(office.slug, zone)
    with pytest.raises(NotFoundError, match="no update server"):
        client.publishing.preview(office.slug, zone)


@pytest.mark.parametrize("address", ["127.0.0.1:1", "10.1.2.3", "169.254.169.254", "[::1]:53", "nonsense"])
def test_a_server_that_nobody_allowed_is_not_contacted(
    bind: Primary, office: Office, client: Client, address: str
) -> None:
    with pytest.raises(InvalidInputError):
        client.publishing.set_server(office.slug, "d.example", server(bind, address=address))


def test_publishing_from_the_command_line(
    bind: Primary, office: Office, zone: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setenv("RUSTGAUGE_URL", office.world.url)
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)

    def command(*words: str) -> tuple[int, str]:
        out = io.StringIO()
        return main(list(words), Output(out, io.StringIO())), out.getvalue()

    (tmp_path / "secret").write_text(SECRET + "\n")
    status, said = command("plan", "set-server", zone, "--address", f"127.0.0.1:{bind.port}", "--key-name", "gauge.example",
                           "--secret-file", str(tmp_path / "secret"))  # fmt: skip
    assert (status, SECRET in said) == (0, False)
    assert zone in command("plan", "servers")[1]
    assert command("plan", "publish", zone)[0] == 2  # nobody is there to confirm
    status, said = command("plan", "publish", zone, "--yes")
    assert status == 0
    assert '- 300 "v=spf1 mx -all"' in said
    assert '+ 3600 "v=spf1 ip4:192.0.2.41 ~all"' in said
    assert "published and verified" in said
    id = said.rpartition("rollback ")[2].strip()
    assert command("plan", "publish", zone)[0] == 0
    assert "applied" in command("plan", "publications", zone)[1]
    assert "rolled back" in command("plan", "rollback", id, "--yes")[1]
    assert command("plan", "remove-server", zone, "--yes")[0] == 0
    assert zone not in command("plan", "servers")[1]
