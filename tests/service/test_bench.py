"""Trays: catching by SMTP with the fixture that ships, waiting, difficult receivers, and what is kept of a message."""

import json
import os
import shutil
import smtplib
import socket
import ssl
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict
from datetime import timedelta
from email.message import EmailMessage
from pathlib import Path

import pytest

from rust_gauge.client import Client, InvalidInputError, NoMessageError, NotFoundError
from rust_gauge.client.testing import Tray
from rust_gauge.contract.bench import MadeTray, NewTray, ReceiverRule, TrayChange
from rust_gauge.contract.recipients import ErasureRequest
from rust_gauge.core.assay.learned import learn
from rust_gauge.gateways.bench_in import BenchIn
from rust_gauge.service.bench.examining import examine_next
from rust_gauge.service.bench.trays import find_tray, forget_old
from rust_gauge.store.audits import put_setting
from tests.conftest import TODAY, Office, another
from tests.core.test_learned import campaigns
from tests.rows import ndjson, row
from tests.vectors.assay_messages import message as sample


def mail(
    subject: str = "Your code", to: str = "kim@tidepost.example", text: str = "Your code is 482913."
) -> EmailMessage:
    made = EmailMessage()
    made["From"], made["To"], made["Subject"] = "Theatre <desk@glasswort.example>", to, subject
    made.set_content(text)
    return made


def numbers(client: Client, office: Office, name: str = "staging", **chosen: str) -> list[int]:
    return [each.id for each in client.trays.messages(office.slug, name, **chosen)]


def test_what_is_sent_is_caught_whoever_its_recipients_are(tray: Tray, office: Office, client: Client) -> None:
    assert tray.send(mail(), recipients=["kim@tidepost.example", "lee@kestrelbox.example"]) == {}
    caught = tray.wait(subject="code")
    assert (caught.via, caught.mail_from) == ("smtp", "test@example.test")
    assert caught.recipients == ["kim@tidepost.example", "lee@kestrelbox.example"]
    assert (caught.codes[0].code, caught.header_from, caught.tls) == ("482913", "desk@glasswort.example", "TLSv1.3")
    told = client.trays.conversation(office.slug, "staging", caught.id)
    said = [(step.side, step.text.split(" ")[0]) for step in told.steps]
    assert said[0] == ("server", "220")
    assert ("client", "STARTTLS") in said
    assert ("client", "DATA") in said
    assert said[-1] == ("server", "250")
    assert [step.at for step in told.steps] == sorted(step.at for step in told.steps)
    assert told.authenticated and told.cipher


def test_no_password_is_in_a_conversation(tray: Tray, office: Office, client: Client) -> None:
    there = client.trays.connection(office.slug, "staging")
    for mechanism in ("auth_plain", "auth_login"):
        with unencrypted(there.starttls_port, there.certificate) as session:
            session.user, session.password = there.smtp_user, tray.settings.password
            session.auth(mechanism[5:].upper(), getattr(session, mechanism))
            session.sendmail("a@b.example", ["c@d.example"], b"Subject: x\r\n\r\nx")
    for id in numbers(client, office):
        told = client.trays.conversation(office.slug, "staging", id).model_dump_json()
        assert "hidden" in told
        assert tray.settings.password not in told
        assert not any(len(word) > 30 for step in told.split('"') for word in step.split())


@contextmanager
def unencrypted(port: int, certificate: str) -> Iterator[smtplib.SMTP]:
    with smtplib.SMTP("localhost", port, timeout=20) as session:
        session.starttls(context=ssl.create_default_context(cadata=certificate))
        session.ehlo()
        yield session


def test_a_tray_takes_mail_over_tls_from_the_start(tray: Tray, office: Office, client: Client) -> None:
    there = client.trays.connection(office.slug, "staging")
    context = ssl.create_default_context(cadata=there.certificate)
    with smtplib.SMTP_SSL("localhost", there.tls_port, context=context, timeout=20) as session:
        session.login(there.smtp_user, tray.settings.password)
        session.send_message(mail())
    assert tray.wait().tls.startswith("TLSv1")


def test_nobody_signs_in_without_tls_or_with_another_password(
    office: Office, client: Client, made: MadeTray, bench: BenchIn
) -> None:
    there = client.trays.connection(office.slug, made.name)
    with smtplib.SMTP("localhost", there.starttls_port, timeout=20) as session:
        session.ehlo()
        assert not session.has_extn("auth")
        assert session.docmd("AUTH PLAIN AGEAYg==")[0] == 538
        session.mail("a@b.example")
        assert session.rcpt("kim@tidepost.example")[0] == 550
    with unencrypted(there.starttls_port, there.certificate) as session:
        for _ in range(2):
            with pytest.raises(smtplib.SMTPAuthenticationError):
                session.login(there.smtp_user, "rgb_wrong")
    rotated = client.trays.rotate_password(office.slug, made.name)
    with unencrypted(there.starttls_port, there.certificate) as session:
        with pytest.raises(smtplib.SMTPAuthenticationError):
            session.login(there.smtp_user, made.password)
        session.login(there.smtp_user, rotated.password)


def test_mail_from_outside_goes_to_the_tray_with_its_address(office: Office, client: Client, made: MadeTray) -> None:
    local, _, domain = made.address.partition("@")
    with smtplib.SMTP("localhost", client.trays.connection(office.slug, made.name).starttls_port) as session:
        session.ehlo("relay.example")
        session.sendmail("", [f"{local}+tag@{domain.upper()}"], b"Subject: from outside\r\n\r\nx")
        with pytest.raises(smtplib.SMTPRecipientsRefused):
            session.sendmail("a@b.example", [f"other@{domain}", f"{local}@elsewhere.example"], b"Subject: x\r\n\r\nx")
    (id,) = numbers(client, office)
    caught = client.trays.message(office.slug, made.name, id)
    assert (caught.via, caught.mail_from, caught.helo, caught.client_ip) == (
        "address", "", "relay.example", "127.0.0.1",
    )  # fmt: skip


def test_the_octets_are_those_that_were_sent(tray: Tray, office: Office, client: Client) -> None:
    raw = b"Subject: dots\r\n\r\n.\r\n..\r\n.a\r\n" + b"x" * 5000 + b"\r\n\xff\x00\r\n" + b"\r\n" * 3
    tray.send(raw, recipients=["a@b.example"])
    caught = tray.wait(subject="dots")
    assert b"".join(client.trays.source(office.slug, "staging", caught.id)) == raw
    assert caught.size == len(raw)


@pytest.mark.parametrize(
    "raw", [b"", b".", b"\r\n", b"no header", b"\x00\xff\r\n.\r\n" * 3, b"From: \xff@\xff\r\n\r\n"]
)
def test_whatever_comes_is_caught(tray: Tray, office: Office, client: Client, raw: bytes) -> None:
    tray.send(raw, recipients=["a@b.example"])
    (id,) = numbers(client, office)
    assert client.trays.message(office.slug, "staging", id).id == id
    while examine_next(office.world.context):
        pass
    assert client.trays.message(office.slug, "staging", id).state in ("examined", "failed")


# Difficult receivers


def rules(office: Office, client: Client, *receiver: ReceiverRule) -> None:
    client.trays.update(office.slug, "staging", TrayChange(receiver=[*receiver]))


def test_a_tray_refuses_chosen_recipients(tray: Tray, office: Office, client: Client) -> None:
    rules(
        office, client,
        ReceiverRule(recipients="gone*", action="refuse", reply="550 5.1.1 No such mailbox"),
        ReceiverRule(recipients="full@*", action="full"),
    )  # fmt: skip
    refused = tray.send(mail(), recipients=["gone1@a.example", "FULL@a.example", "kim@a.example"])
    assert {name: reply[0] for name, reply in refused.items()} == {"gone1@a.example": 550, "FULL@a.example": 452}
    assert tray.wait().recipients == ["kim@a.example"]
    rules(office, client, ReceiverRule(action="refuse", stage="data", reply="554 5.7.1 Not wanted"))
    with pytest.raises(smtplib.SMTPDataError) as told:
        tray.send(mail())
    assert told.value.smtp_code == 554
    assert len(numbers(client, office)) == 1


def test_a_greylisted_recipient_is_accepted_when_its_time_has_come(tray: Tray, office: Office, client: Client) -> None:
    rules(office, client, ReceiverRule(action="greylist", seconds=300))
    for _ in range(2):
        with pytest.raises(smtplib.SMTPRecipientsRefused) as told:
            tray.send(mail())
        assert [reply[0] for reply in told.value.recipients.values()] == [451]
    with office.world.clock.later(timedelta(minutes=5)):
        assert tray.send(mail()) == {}
        with pytest.raises(smtplib.SMTPRecipientsRefused):
            tray.send(mail(to="lee@tidepost.example"))


def test_a_slow_receiver_takes_its_time_and_loses_nothing(tray: Tray, office: Office, client: Client) -> None:
    rules(
        office, client, ReceiverRule(recipients="slow@*", action="slow", seconds=0.1),
        ReceiverRule(recipients="late@*", action="delay", seconds=0.2),
    )  # fmt: skip
    tray.send(mail("slow"), recipients=["slow@a.example"])
    tray.send(mail("late"), recipients=["late@a.example"])
    for subject, least in (("slow", 0.2), ("late", 0.2)):
        steps = client.trays.conversation(office.slug, "staging", tray.wait(subject=subject).id).steps
        asked = next(step.at for step in steps if step.text.startswith("RCPT"))
        assert steps[-1].at - asked >= least


@pytest.mark.parametrize(
    ("rule", "why"),
    [
        (ReceiverRule(action="refuse", reply="250 ok"), "250 ok"),
        (ReceiverRule(action="refuse", reply="550 ü"), "ASCII"),
        (ReceiverRule(action="delay", seconds=300), "from 0 to 120"),
        (ReceiverRule(action="greylist"), "greylist needs"),
    ],
)
def test_rules_that_cannot_work_are_refused(
    office: Office, client: Client, made: MadeTray, rule: ReceiverRule, why: str
) -> None:
    with pytest.raises(InvalidInputError, match=why):
        rules(office, client, rule)


# Limits


def test_a_message_beyond_the_limit_is_refused_and_the_session_goes_on(
    tray: Tray, office: Office, client: Client
) -> None:
    client.trays.update(office.slug, "staging", TrayChange(max_bytes=2000))
    with tray.smtp() as session:
        with pytest.raises((smtplib.SMTPSenderRefused, smtplib.SMTPRecipientsRefused)):
            session.sendmail("a@b.example", ["c@d.example"], b"Subject: x\r\n\r\n" + b"y" * 3000)
        session.mail("a@b.example")  # without saying how long it is
        session.rcpt("c@d.example")
        assert session.data(b"Subject: x\r\n\r\n" + b"y" * 3000)[0] == 552
        session.mail("a@b.example")
        session.rcpt("c@d.example")
        assert session.data(b"Subject: x\r\n\r\n" + b"y" * 1000)[0] == 250
    assert len(numbers(client, office)) == 1


def test_commands_that_come_at_once_are_answered_one_by_one(office: Office, client: Client, made: MadeTray) -> None:
    port = client.trays.connection(office.slug, made.name).starttls_port
    with socket.create_connection(("localhost", port), timeout=20) as plain:
        lines = f"EHLO a.example\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<{made.address}>\r\nDATA\r\n"
        plain.sendall(lines.encode() + b"Subject: one\r\n\r\nx\r\n.\r\n" + lines[16:].encode() + b".\r\nQUIT\r\n")
        answer = b"".join(iter(lambda: plain.recv(4096), b"")).decode()
    assert answer.count("250 2.0.0 Caught") == 2
    assert answer.splitlines()[-1].startswith("221")


def test_one_address_has_a_hundred_connections(office: Office, client: Client, made: MadeTray, bench: BenchIn) -> None:
    port = client.trays.connection(office.slug, made.name).starttls_port
    opened = [socket.create_connection(("localhost", port), timeout=20) for _ in range(101)]
    try:
        assert sorted(each.recv(3) for each in opened) == [b"220"] * 100 + [b"421"]
    finally:
        for each in opened:
            each.close()


def test_old_and_superfluous_messages_go(office: Office, client: Client, made: MadeTray) -> None:
    context = office.world.context
    client.trays.update(office.slug, made.name, TrayChange(keep_messages=3, keep_days=2))
    for number in range(5):
        client.trays.put(office.slug, made.name, b"Subject: %d\r\n\r\n" % number)
    forget_old(context)
    assert [each.subject for each in client.trays.messages(office.slug, made.name)] == ["4", "3", "2"]
    with office.world.clock.later(timedelta(days=3)):
        forget_old(context)
    assert numbers(client, office) == []


# Waiting and finding


def test_a_wait_ends_when_the_message_comes(tray: Tray, office: Office, client: Client) -> None:
    tray.send(mail("Another"))
    found: list[str] = []
    waiting = threading.Thread(target=lambda: found.append(tray.wait(subject="the one", timeout=30).subject))
    waiting.start()
    tray.send(mail("This is THE ONE"))
    waiting.join(30)
    assert found == ["This is THE ONE"]
    with pytest.raises(NoMessageError):
        tray.wait(subject="never sent", timeout=0.3)


def test_messages_are_found_by_recipient_field_and_position(tray: Tray, office: Office, client: Client) -> None:
    for name in ("kim", "lee", "kim"):
        made = mail(to=f"{name}@tidepost.example")
        made["X-Run"] = f"run-{name}"
        tray.send(made)
    first, second, third = numbers(client, office)[::-1]
    assert tray.wait(recipient="KIM@tidepost.example").id == first
    assert (
        tray.wait(recipient="kim@tidepost.example", after=client.trays.message(office.slug, "staging", first)).id
        == third
    )
    assert tray.wait(header="x-run: RUN-lee").id == second
    assert numbers(client, office, recipient="lee@tidepost.example") == [second]
    assert numbers(client, office, header_from="glasswort") == [third, second, first]
    assert numbers(client, office, subject="50%") == []


def test_attachments_links_and_parts_are_read(tray: Tray, office: Office, client: Client) -> None:
    made = mail()
    made.add_alternative('<p>See <a href="https://glasswort.example/t?a=1">tickets</a></p>', subtype="html")
    made.add_attachment(b"%PDF-1.7 x", maintype="application", subtype="pdf", filename="plan.pdf")
    tray.send(made)
    caught = tray.wait()
    (attachment,) = caught.attachments
    assert (attachment.file_name, attachment.type, attachment.size) == ("plan.pdf", "application/pdf", 10)
    assert [link.url for link in caught.links] == ["https://glasswort.example/t?a=1"]
    octets = b"".join(client.trays.part(office.slug, "staging", caught.id, attachment.number))
    assert octets == b"%PDF-1.7 x"
    tray.delete(caught)
    with pytest.raises(NotFoundError):
        client.trays.message(office.slug, "staging", caught.id)


# Assays


def test_workers_examine_each_message_once_and_the_assay_is_kept(tray: Tray, office: Office, client: Client) -> None:
    tray.send(sample(), recipients=["kim@tidepost.example"])
    caught = tray.wait()
    assert (caught.state, caught.mark) == ("waiting", None)
    while examine_next(office.world.context):
        pass
    (listed,) = client.trays.messages(office.slug, "staging")
    kept = client.trays.assay(office.slug, "staging", caught.id)
    assert (listed.state, listed.mark, listed.worst) == ("examined", kept.mark, kept.worst)
    later = client.trays.assay(office.slug, "staging", caught.id, again=True)
    assert later.model_dump(exclude={"authentication"}) == kept.model_dump(exclude={"authentication"})


def test_the_shipped_fixture_fails_a_test_with_its_reasons(tray: Tray) -> None:
    tray.send(mail())
    caught = tray.wait()
    with pytest.raises(pytest.fail.Exception, match="dkim-missing"):
        tray.check(caught, fail_on="risk")
    done = tray.check(caught, fail_on="fault", ignore=[each.rule for each in tray.assay(caught).findings])
    with pytest.raises(pytest.fail.Exception, match="less than"):
        tray.check(caught, fail_on="fault", least_mark=done.mark + 1, ignore=[each.rule for each in done.findings])


def test_messages_are_compared_with_the_first_as_they_were_found(tray: Tray, office: Office, client: Client) -> None:
    tray.send(sample(), recipients=["kim@tidepost.example"])
    tray.send(
        sample({"Subject": "WIN BIG NOW!!!"}), mail_from="other@example.test", recipients=["kim@tidepost.example"]
    )
    after, before = numbers(client, office)
    done = client.trays.compare(office.slug, "staging", [before, after])
    (compared,) = done.comparisons
    assert {change.kind for change in compared.changes} == {"header", "route"}
    assert round(sum(point.after - point.before for point in compared.points), 1) == round(
        compared.mark_before - compared.mark_after, 1
    )
    with pytest.raises(InvalidInputError, match="two to 6"):
        client.trays.compare(office.slug, "staging", [before, before])


def test_a_template_has_a_history_and_the_spread_of_its_marks(tray: Tray, office: Office, client: Client) -> None:
    for number in range(3):
        tray.send(sample({"Subject": f"Booking {number} confirmed"}), recipients=["kim@tidepost.example"])
    while examine_next(office.world.context):
        pass
    (summary,) = client.trays.series(office.slug, "staging")
    assert (summary.series, summary.count) == ("Booking … confirmed", 3)
    found = client.trays.history(office.slug, "staging", summary.series)
    assert (found.examined, found.least == found.most, found.share_of_path) == (3, True, None)
    assert [path.count for path in found.paths] == [3]


# Isolation


def test_a_tray_is_one_tenants_own(office: Office, client: Client, made: MadeTray) -> None:
    with another(office.world) as (other, stranger):
        with pytest.raises(NotFoundError):
            stranger.trays.get(office.slug, made.name)
        with pytest.raises(NotFoundError):
            stranger.trays.get(other.slug, made.name)
        stranger.trays.add(other.slug, NewTray(name=made.name))
        assert find_tray(office.world.context, other.tenant, made.name).tenant_id == other.tenant.id
        id = client.trays.put(office.slug, made.name, b"Subject: x\r\n\r\n").id
        with pytest.raises(NotFoundError):
            stranger.trays.message(other.slug, made.name, id)


# The text model


def test_a_text_model_learns_from_campaigns_that_went_well_or_badly(office: Office, client: Client) -> None:
    client.trays.add(office.slug, NewTray(name="campaigns", series_header="X-Campaign"))
    rows: list[dict[str, object]] = []
    for one in campaigns(12):
        made = mail("News", text=one.text)
        made["X-Campaign"] = one.campaign
        client.trays.put(office.slug, "campaigns", made.as_bytes())
    for name in sorted({one.campaign for one in campaigns(12)}):
        bad = int(name[1:]) % 2 == 1
        rows += [row(n, campaign=name, message_id=f"{name}-{n}") for n in range(210)]
        rows += [row(n, campaign=name, message_id=f"{name}-{n}", kind="complained") for n in range(12 if bad else 0)]
    client.events.load(office.slug, ndjson(*rows))
    before = client.assays.text_model(office.slug)
    assert not before.ready
    model = client.assays.text_model(office.slug, learn=True)
    assert not model.ready, "the lowest and the highest third of 24 campaigns are eight each"
    assert "there are 8 and 8" in model.reason


def test_a_model_that_is_ready_says_how_often_it_is_right(office: Office, client: Client) -> None:
    learned = learn(campaigns(14)).model
    assert learned is not None
    context = office.world.context
    document = {"at": TODAY.isoformat(), "reason": "", "low": 14, "high": 14, "messages": 84, "model": asdict(learned)}
    context.store.transaction(lambda c: put_setting(c, office.tenant.id, "text_model", document, TODAY))
    shown = client.assays.text_model(office.slug)
    assert (shown.ready, shown.right, shown.of) == (True, learned.right, 28)
    loud = mail("Hurry, last chance", text="Win free tickets, click now before the offer is gone for ever")
    done = client.assays.examine(office.slug, loud.as_bytes())
    assert done.learned is not None
    assert done.learned.likeness > 0.7
    assert "text-like-complained" in {each.rule for each in done.findings}
    calm = client.assays.examine(office.slug, mail("Season", text="The new season opens on Friday").as_bytes())
    assert "text-like-complained" not in {each.rule for each in calm.findings}


def test_a_persons_test_messages_are_found_and_erased(tray: Tray, office: Office, client: Client) -> None:
    tray.send(mail(to="kim@tidepost.example"))
    tray.send(mail("From Kim"), mail_from="kim@tidepost.example", recipients=["lee@tidepost.example"])
    tray.send(mail("Other", to="lee@tidepost.example"))
    assert len(client.recipients.data(office.slug, "KIM@tidepost.example").caught) == 2
    client.recipients.erase(office.slug, ErasureRequest(address="kim@tidepost.example", reason="asked"))
    assert [each.subject for each in client.trays.messages(office.slug, "staging")] == ["Other"]


def test_the_example_passes_and_fails_a_build_with_its_reason(
    office: Office, client: Client, made: MadeTray, tmp_path: Path
) -> None:
    rules(office, client, ReceiverRule(recipients="gone@*", action="refuse"))
    environment = {
        **os.environ, "RUSTGAUGE_URL": office.world.url, "RUSTGAUGE_TOKEN": office.token, "RUSTGAUGE_TENANT": office.slug,
        "RUSTGAUGE_TRAY": made.name, "BENCH_PASSWORD": made.password,
    }  # fmt: skip
    for name in ("conftest.py", "test_booking_mail.py"):
        shutil.copy(Path(__file__).parents[2] / "docs" / "examples" / name, tmp_path)
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "--bench-sarif", "mail.sarif"],
        cwd=tmp_path, env=environment, capture_output=True, text=True,
    )  # fmt: skip
    assert "1 failed, 2 passed" in done.stdout, done.stdout + done.stderr
    assert "A template variable was not filled in: {{first_name}}" in done.stdout
    (run,) = json.loads((tmp_path / "mail.sarif").read_text())["runs"]
    assert "template-variable" in {result["ruleId"] for result in run["results"]}
