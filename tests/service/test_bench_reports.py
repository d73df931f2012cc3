"""A report by return mail: answered to authenticated senders only, never to automatic mail, and without loops."""

import email
import smtplib
import threading
from collections.abc import Iterator
from datetime import timedelta
from email.message import EmailMessage
from email.policy import default
from pathlib import Path

import pytest

from rust_gauge.client import Client
from rust_gauge.contract.bench import MadeTray
from rust_gauge.gateways.bench_in import BenchIn
from rust_gauge.standins.mail_host import MailHost
from tests.conftest import Office

REPORT = "report@bench.skerry.example"


@pytest.fixture
def answered(bench: BenchIn, office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """Where the reports are that were sent."""
    folder = tmp_path / "answers"
    folder.mkdir()
    with MailHost(0, keep=folder) as host:
        threading.Thread(target=host.serve_forever, daemon=True).start()
        settings = office.world.context.settings
        monkeypatch.setattr(settings, "mail_relays", {"office-1": f"127.0.0.1:{host.server_address[1]}"})
        office.world.zone(f"{office.slug}.example", '@ IN TXT "v=spf1 ip4:127.0.0.1 -all"\n')
        yield folder
        host.shutdown()


def send(office: Office, to: str = REPORT, mail_from: str | None = None, **fields: str) -> tuple[int, str]:
    """Send a message to the bench from outside; return the reply to it."""
    sender = f"kim@{office.slug}.example" if mail_from is None else mail_from
    made = EmailMessage()
    for name, value in {
        "From": sender or "kim@a.example",
        "To": to,
        "Subject": "Tickets from Friday",
        **fields,
    }.items():
        made[name.replace("_", "-")] = value
    made.set_content("Hello")
    with smtplib.SMTP("localhost", office.world.context.settings.bench_port, timeout=30) as session:
        session.ehlo("mx.glasswort.example")
        session.mail(sender)
        code, said = session.rcpt(to)
        if code != 250:
            return code, said.decode()
        code, said = session.data(made.as_bytes())
        return code, said.decode()


def reports(folder: Path) -> list[EmailMessage]:
    return [email.message_from_bytes(path.read_bytes(), policy=default) for path in sorted(folder.glob("*.eml"))]  # type: ignore[misc]


def test_a_message_is_answered_with_its_whole_assay(office: Office, answered: Path) -> None:
    assert send(office, Message_ID="<one@glasswort.example>") == (250, "2.0.0 Answered")
    (report,) = reports(answered)
    assert report["To"] == f"kim@{office.slug}.example"
    assert report["Auto-Submitted"] == "auto-replied"
    assert report["In-Reply-To"] == "<one@glasswort.example>"
    assert str(report["Subject"]).startswith("Mark ")
    text = report.get_body(("plain",)).get_content()  # type: ignore[union-attr]
    html = report.get_body(("html",)).get_content()  # type: ignore[union-attr]
    for shown in (text, html):
        assert "No DKIM signature" in shown or "DKIM" in shown
        assert f"spf=pass (sender IP is 127.0.0.1) smtp.mailfrom=kim@{office.slug}.example" in shown
        assert "Tickets from Friday" in shown


def test_what_the_sender_wrote_is_text_in_the_report(office: Office, answered: Path) -> None:
    send(office, Subject="<script>alert(1)</script>\u202e")
    (report,) = reports(answered)
    assert "<script>" not in report.get_body(("html",)).get_content()  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("mail_from", "fields", "why"),
    [
        ("", {}, "null return path"),
        ("kim@bench.skerry.example", {}, "bench itself"),
        (None, {"Auto_Submitted": "auto-replied"}, "automatic"),
        (None, {"X_Loop": REPORT}, "answered before"),
        ("kim@nowhere-to-be-found.example", {}, "neither SPF nor DKIM"),
    ],
)
def test_nobody_else_is_answered(
    office: Office, answered: Path, mail_from: str | None, fields: dict[str, str], why: str
) -> None:
    code, said = send(office, mail_from=mail_from, **fields)
    assert code == 550
    assert why in said
    assert reports(answered) == []


def test_a_report_that_comes_back_is_not_answered(office: Office, answered: Path) -> None:
    send(office)
    (report,) = reports(answered)
    with (
        smtplib.SMTP("localhost", office.world.context.settings.bench_port, timeout=30) as session,
        pytest.raises(smtplib.SMTPDataError, match="automatic"),
    ):
        session.sendmail(f"kim@{office.slug}.example", [REPORT], report.as_bytes())
    assert len(reports(answered)) == 1


def test_a_sender_has_twenty_reports_in_an_hour(office: Office, answered: Path) -> None:
    assert {send(office)[0] for _ in range(20)} == {250}
    assert send(office)[0] == 450
    with office.world.clock.later(timedelta(hours=1)):
        assert send(office)[0] == 250
    assert len(reports(answered)) == 21


def test_with_a_trays_key_the_message_is_caught_as_well(
    office: Office, client: Client, answered: Path, made: MadeTray
) -> None:
    key = made.address.partition("@")[0]
    assert send(office, to=f"report+{key}@bench.skerry.example") == (250, "2.0.0 Answered, and caught in staging")
    assert len(reports(answered)) == 1
    (caught,) = client.trays.messages(office.slug, "staging")
    assert caught.subject == "Tickets from Friday"
    assert send(office, to="report+other@bench.skerry.example")[0] == 550


def test_a_report_that_cannot_be_sent_is_asked_for_again(
    office: Office, answered: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(office.world.context.settings, "mail_relays", {})
    assert send(office)[0] == 451
