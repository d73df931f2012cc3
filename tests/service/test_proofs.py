"""Proving domains and sender addresses: by a record that is looked at again, by a code, by a link."""

import io
import re
import threading
from collections.abc import Iterator
from datetime import timedelta
from email import message_from_bytes, policy
from pathlib import Path

import httpx
import pytest
from sqlalchemy import text

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client, InvalidInputError, NotFoundError, ProblemResponse, UnavailableError
from rust_gauge.contract.domains import DomainChange, StreamPath
from rust_gauge.service.domains import proofs as service_proofs
from rust_gauge.standins.dns_world import Behaviour
from rust_gauge.standins.mail_host import MailHost
from tests.conftest import Office
from tests.rows import ndjson, row


@pytest.fixture
def mailbox(office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """A mailbox provider that keeps what it takes; the service hands its messages over there."""
    host = MailHost(0, refused=("nobody",), tls=False, keep=tmp_path / "mail")
    thread = threading.Thread(target=host.serve_forever, daemon=True)
    thread.start()
    monkeypatch.setattr(
        office.world.context.settings, "mail_relays", {"office-1": f"127.0.0.1:{host.server_address[1]}"}
    )
    yield tmp_path / "mail"
    host.shutdown()
    host.server_close()


def received(folder: Path) -> tuple[str, str, str]:
    """(recipient, code, path of the link) of the newest message."""
    newest = max(folder.glob("*.eml"))
    message = message_from_bytes(newest.read_bytes(), policy=policy.default)
    body = message.get_content().replace("\r\n", "\n")
    code, link = re.search(r"^    (\w{8})$", body, re.M), re.search(r"(/confirm/\S+)", body)
    assert code and link
    return str(message["To"]), code[1], link[1]


def test_a_domain_is_proven_by_its_record_and_lost_with_it(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, "")
    client.domains.add(office.slug, name)
    proof = client.proofs.start(office.slug, name.upper())
    assert (proof.state, proof.record_name, proof.subject) == ("waiting", f"_rustgauge.{name}", name)
    assert client.proofs.start(office.slug, name).record == proof.record  # the same one as long as it is asked for
    assert proof.record in [record.value for record in client.plans.get(office.slug, name).records]
    assert client.proofs.recheck(office.slug, proof.id).state == "waiting"
    office.world.zone(name, f'_rustgauge IN TXT "{proof.record}"\n')
    assert client.proofs.recheck(office.slug, proof.id).state == "verified"
    _a_day_later(office)
    office.world.dns.behave(name, Behaviour(fail="servfail"))
    service_proofs.look_at_due(office.world.context)
    assert client.proofs.list(office.slug)[0].state == "verified"  # no answer proves nothing
    office.world.dns.behave(name, Behaviour())
    office.world.zone(name, "")
    _a_day_later(office)
    service_proofs.look_at_due(office.world.context)
    assert client.proofs.list(office.slug)[0].state == "lost"
    titles = [each.title for each in client.audits.history(office.slug, name) if each.kind == "proof"]
    assert titles == [f"{name} is no longer verified: its record is gone", f"{name} is verified"]


def _a_day_later(office: Office) -> None:
    older = text("UPDATE proof SET checked_at = checked_at - INTERVAL 2 DAY WHERE tenant_id = :id")
    office.world.context.store.transaction(lambda c: c.execute(older, {"id": office.tenant.id}))


def test_a_record_of_another_tenant_proves_nothing(office: Office, client: Client) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, '_rustgauge IN TXT "rustgauge-proof=00000000000000000000000000000000"\n')
    proof = client.proofs.start(office.slug, name)
    assert client.proofs.recheck(office.slug, proof.id).state == "waiting"


def test_an_address_is_proven_by_the_code(office: Office, client: Client, mailbox: Path) -> None:
    proof = client.proofs.start(office.slug, f"boxoffice@{office.slug}.example", "mail")
    to, code, _ = received(mailbox)
    assert (to, proof.sent_to, proof.state) == (f"boxoffice@{office.slug}.example",) * 2 + ("waiting",)
    with pytest.raises(InvalidInputError, match="4 attempts left"):
        client.proofs.confirm(office.slug, proof.id, "WRONGONE")
    assert client.proofs.confirm(office.slug, proof.id, f" {code[:4].lower()}-{code[4:]} ").state == "verified"


def test_a_code_allows_five_tries(office: Office, client: Client, mailbox: Path) -> None:
    proof = client.proofs.start(office.slug, f"a@{office.slug}.example", "mail")
    for left in (4, 3, 2, 1, 0):
        with pytest.raises(InvalidInputError, match=f"{left} attempt"):
            client.proofs.confirm(office.slug, proof.id, "WRONGONE")
    with pytest.raises(InvalidInputError, match="Too many"):
        client.proofs.confirm(office.slug, proof.id, received(mailbox)[1])
    assert client.proofs.list(office.slug)[0].state == "expired"


def test_a_code_holds_for_a_day(office: Office, client: Client, mailbox: Path) -> None:
    proof = client.proofs.start(office.slug, f"{office.slug}.example", "postmaster")
    to, code, link = received(mailbox)
    assert to == f"postmaster@{office.slug}.example"
    with office.world.clock.later(timedelta(hours=25)):
        with pytest.raises(InvalidInputError, match="24 hours"):
            client.proofs.confirm(office.slug, proof.id, code)
        assert httpx.post(office.world.url + link).status_code == 404
    assert client.proofs.confirm(office.slug, proof.id, code).state == "verified"


def test_opening_the_link_proves_nothing_and_its_button_does(office: Office, client: Client, mailbox: Path) -> None:
    client.proofs.start(office.slug, f"boxoffice@{office.slug}.example", "mail")
    _, _, link = received(mailbox)
    page = httpx.get(office.world.url + link)
    assert (page.status_code, "<form" in page.text) == (200, True)
    assert client.proofs.list(office.slug)[0].state == "waiting"
    assert "is verified" in httpx.post(office.world.url + link).text
    assert client.proofs.list(office.slug)[0].state == "verified"
    assert httpx.post(office.world.url + link).status_code == 404
    assert httpx.get(office.world.url + "/confirm/" + "x" * 43).status_code == 404


def test_messages_are_limited(office: Office, client: Client, mailbox: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    address = f"a@{office.slug}.example"
    client.proofs.start(office.slug, address, "mail")
    with pytest.raises(UnavailableError, match="less than a minute"):
        client.proofs.start(office.slug, address, "mail")
    with office.world.clock.later(timedelta(minutes=2)):
        first = received(mailbox)[1]
        proof = client.proofs.start(office.slug, address, "mail")
        with pytest.raises(InvalidInputError):
            client.proofs.confirm(office.slug, proof.id, first)  # the newer code counts
    monkeypatch.setattr(service_proofs, "A_DAY", 2)
    with pytest.raises(UnavailableError, match="today"):
        client.proofs.start(office.slug, f"b@{office.slug}.example", "mail")


def test_a_message_that_is_not_taken_is_told(office: Office, client: Client, mailbox: Path) -> None:
    with pytest.raises(ProblemResponse, match="no such mailbox"):
        client.proofs.start(office.slug, f"nobody@{office.slug}.example", "mail")
    with pytest.raises(InvalidInputError, match="not a configured mail relay"):
        client.proofs.start(office.slug, f"a@{office.slug}.example", "mail", relay="elsewhere")
    for subject, method in (("not an address", "mail"), ("a@b", "record"), ("-", "postmaster")):
        with pytest.raises(InvalidInputError):
            client.proofs.start(office.slug, subject, method)
    with pytest.raises(NotFoundError):
        client.proofs.confirm(office.slug, 999_999, "ABCDEFGH")


def test_codes_are_kept_as_digests_only(office: Office, client: Client, mailbox: Path) -> None:
    client.proofs.start(office.slug, f"a@{office.slug}.example", "mail")
    _, code, link = received(mailbox)
    rows = office.world.context.store.transaction(lambda c: c.execute(text("SELECT * FROM proof")).all())
    assert code.encode() not in repr(rows).encode()
    assert link.rpartition("/")[2] not in repr(rows)


def test_senders_say_what_is_missing(office: Office, client: Client) -> None:
    zone = f"{office.slug}.example"
    office.world.zone(zone, "")
    client.domains.add(office.slug, f"news.{zone}")
    client.domains.update(
        office.slug, f"news.{zone}", DomainChange(streams=[StreamPath(name="offers", relay="driftline")])
    )
    assert client.domains.get(office.slug, f"news.{zone}").verified is False
    (sender,) = client.proofs.senders(office.slug)
    assert (sender.verified, sender.aligned, sender.relays) == (False, None, ["driftline"])
    client.audits.run(office.slug, f"news.{zone}")
    (sender,) = client.proofs.senders(office.slug)
    assert sender.aligned is not True
    proof = client.proofs.start(office.slug, zone)
    office.world.zone(zone, f'_rustgauge IN TXT "{proof.record}"\n')
    client.proofs.recheck(office.slug, proof.id)
    assert client.domains.get(office.slug, f"news.{zone}").verified
    assert client.proofs.senders(office.slug)[0].verified  # the proof of a domain covers what is below it


def test_streams_that_are_not_proven_or_aligned_say_so_where_they_appear(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    name = f"news.{office.slug}.example"
    office.world.zone(f"{office.slug}.example", '_dmarc IN TXT "v=DMARC1; p=none"\n')
    client.domains.add(office.slug, name)
    client.domains.update(office.slug, name, DomainChange(streams=[StreamPath(name="offers", relay="driftline")]))
    client.audits.run(office.slug, name)
    client.events.load(office.slug, ndjson(row(1, domain=name, stream="offers"), row(2, domain=name, stream="other")))
    (stream,) = client.audits.newest(office.slug, name).streams
    assert stream.verified is False
    first, second = sorted(client.events.list(office.slug), key=lambda event: event.stream)
    assert first.sender_lacks.startswith("not verified: publish its record")
    assert "not aligned" in first.sender_lacks
    assert second.sender_lacks.startswith("not verified")  # a stream that nobody described
    assert "aligned" not in second.sender_lacks
    (on_wall,) = client.readings.wall(tenant=office.slug).rows
    (lack,) = on_wall.lacks
    assert (lack.stream, lack.verified, lack.aligned, lack.text) == ("offers", False, False, first.sender_lacks)
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    where = ["--url", office.world.url, "--tenant", office.slug]
    for words, said in (
        (["trail", "--message", "<m1>"], f"offers of {name}: not verified"),
        (["audit", "show", name], f"{name} is not verified"),
    ):
        out, err = io.StringIO(), io.StringIO()
        main([*words, *where], Output(out, err))
        assert said in out.getvalue() + err.getvalue()


def test_proofs_from_the_command_line(
    office: Office, client: Client, mailbox: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("RUSTGAUGE_URL", office.world.url)
    monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
    name = f"{office.slug}.example"
    office.world.zone(name, "")

    def command(*words: str) -> tuple[int, str]:
        out = io.StringIO()
        return main(list(words), Output(out, io.StringIO())), out.getvalue()

    status, said = command("proof", "start", name)
    record = re.search(r'"(rustgauge-proof=\w+)"', said)
    assert status == 3
    assert record
    office.world.zone(name, f'_rustgauge IN TXT "{record[1]}"\n')
    assert command("proof", "recheck", name) == (0, f"{name}: verified\n")
    assert command("proof", "start", f"a@{name}")[0] == 3
    assert command("proof", "confirm", f"a@{name}", received(mailbox)[1]) == (0, f"a@{name}: verified\n")
    assert command("proof", "confirm", f"b@{name}", "ABCDEFGH")[0] == 2
    assert "verified" in command("proof", "list")[1]
    client.domains.add(office.slug, name)
    assert command("proof", "senders")[0] == 0
