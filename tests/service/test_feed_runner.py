"""Feeds that fetch: logs with rotation, mailboxes, mail by SMTP; real Postfix, RabbitMQ and Dovecot."""

import json
import os
import random
import smtplib
import threading
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pika
import pytest

from rust_gauge.client import Client, InvalidInputError, NotFoundError
from rust_gauge.contract.bench import NewTray
from rust_gauge.contract.feeds import FeedChange, FeedDefaults, FeedSource, NewFeed
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.feeds.runner import Runner
from rust_gauge.standins.mail_host import MailHost
from tests import waiting
from tests.conftest import Office, assign
from tests.core.test_mtalog import LOG
from tests.gateways.servers import dovecot, postfix, rabbitmq
from tests.reports import DOMAIN as REPORTED
from tests.reports import report_mail
from tests.rows import bounce, row
from tests.service.test_feeds import MAPPING, letter
from tests.service.test_intake import counts, right
from tests.vectors import notices as v
from tests.vectors.bad_mails import BAD_MAILS

LONG_AGO = datetime(2020, 1, 1, tzinfo=UTC)  # Postfix's clock is not the tests'
NEEDS_ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="Postfix and Dovecot are started as root")


def run_until(what: Callable[[], object], runner: Runner) -> None:
    """Run feeds until something is so."""
    waiting.until(lambda: what() or (runner.step() and what()))


def settle(runner: Runner) -> None:
    while runner.step():
        pass


WHOLE = {"accepted": 3, "delivered": 2, "delayed": 1, "bounced": 1}


def test_a_log_is_followed_over_rotation_and_a_restart(
    office: Office, client: Client, runner: Runner, tmp_path: Path
) -> None:
    log = tmp_path / "mail.log"
    lines = LOG.splitlines(keepends=True)
    log.write_text("".join(lines[:5]))
    assign(office, "folder", str(log))
    client.feeds.add(office.slug, NewFeed(name="mta1", kind="log", source=FeedSource(path=str(log))))
    settle(runner)
    with log.open("a") as file:
        file.write(lines[5][:40])  # half a line
    settle(runner)
    with log.open("a") as file:
        file.write(lines[5][40:] + lines[6])
    log.rename(tmp_path / "mail.log.1")
    log.write_text("".join(lines[7:]))
    again = Runner(office.world.context)  # as after a restart: all it knows is in the store
    settle(again)
    settle(again)
    assert counts(office) == WHOLE
    right(office)
    (feed,) = client.feeds.list(office.slug)
    assert feed.position == f"octet {log.stat().st_size:,}"
    log.write_text("rubbish\n" * 3)  # cut, and written again
    settle(again)
    assert counts(office) == WHOLE
    again.close()


def test_a_log_that_is_away_says_so_and_holds_up_no_other(
    office: Office, client: Client, runner: Runner, tmp_path: Path
) -> None:
    assign(office, "folder", str(tmp_path))
    client.feeds.add(office.slug, NewFeed(name="away", kind="log", source=FeedSource(path=str(tmp_path / "none.log"))))
    log = tmp_path / "mail.log"
    log.write_text(LOG)
    client.feeds.add(office.slug, NewFeed(name="there", kind="log", source=FeedSource(path=str(log))))
    settle(runner)
    away, there = client.feeds.list(office.slug)
    assert "No such file" in away.error
    assert away.summary == away.error
    assert there.stored_today > 0
    client.feeds.update(office.slug, "there", FeedChange(paused=True))
    with log.open("a") as file:
        file.write(LOG.replace("4F1AB2C3D4", "4F1AB2C3D5"))
    settle(runner)
    assert counts(office) == WHOLE


def test_a_maildir_and_an_mbox_give_the_same_as_the_messages_handed_in(
    office: Office, client: Client, runner: Runner, tmp_path: Path
) -> None:
    messages = [v.DSN, v.COMPLAINT, v.PLAIN, v.VACATION, v.PERSON]
    maildir = tmp_path / "Maildir"
    for name in ("new", "cur", "tmp"):
        (maildir / name).mkdir(parents=True)
    for number, raw in enumerate(messages):
        (maildir / "new" / f"{number}.host").write_bytes(raw)
    defaults = FeedDefaults(stream="newsletter", relay="office-1", domain="news.d.example")
    assign(office, "folder", str(maildir))
    client.feeds.add(
        office.slug, NewFeed(name="returns", kind="mailbox", source=FeedSource(path=str(maildir)), defaults=defaults)
    )
    settle(runner)
    wanted = {"bounced": 2, "delayed": 1, "complained": 1}
    assert counts(office) == wanted
    assert list((maildir / "new").iterdir()) == []
    mbox = tmp_path / "mbox"
    mbox.write_bytes(
        b"".join(b"From x Thu Nov 19 08:00:00 2026\n" + raw.replace(b"\r\n", b"\n") + b"\n" for raw in messages)
    )
    os.utime(mbox, (1, 1))  # nobody writes to it any more
    assign(office, "folder", str(mbox))
    client.feeds.add(
        office.slug, NewFeed(name="mbox", kind="mailbox", source=FeedSource(path=str(mbox)), defaults=defaults)
    )
    settle(runner)
    client.feeds.add(office.slug, NewFeed(name="hand", kind="http", defaults=defaults))
    for raw in messages:
        client.feeds.send_to(office.slug, "hand", raw, "message/rfc822")
    assert counts(office) == wanted  # each told three times, counted once
    right(office)


def test_mail_is_taken_by_smtp_for_our_addresses_only(
    office: Office, client: Client, runner: Runner, monkeypatch: pytest.MonkeyPatch
) -> None:
    port = free_port()
    monkeypatch.setattr(office.world.context.settings, "smtp_port", port)
    assign(office, "mail", f"bounce@{office.slug}.example", f"@fbl.{office.slug}.example")
    client.feeds.add(
        office.slug,
        NewFeed(name="returns", kind="mail", source=FeedSource(addresses=[f"bounce@{office.slug}.example", f"@fbl.{office.slug}.example"]),
                defaults=FeedDefaults(domain="news.d.example")),
    )  # fmt: skip
    assert runner.start_mail() == port
    with smtplib.SMTP("127.0.0.1", port, timeout=20) as session:
        session.sendmail("", [f"bounce+kim.x=orchard.example@{office.slug}.example"], v.DSN_BARE)
        session.sendmail("", [f"any@fbl.{office.slug}.example"], v.COMPLAINT)
        with pytest.raises(smtplib.SMTPRecipientsRefused):
            session.sendmail("", [f"kim@{office.slug}.example"], v.DSN)
    found = {event.kind: event.recipient for event in client.events.list(office.slug)}
    assert found == {"bounced": "kim.x@orchard.example", "complained": "kim@kestrelbox.example"}


@NEEDS_ROOT
def test_an_imap_mailbox_is_read_from_where_it_was_left(  # over a real Dovecot
    office: Office, client: Client, runner: Runner, tmp_path: Path
) -> None:
    with dovecot(tmp_path / "unused", "wrong") as _:
        pass
    home = Path("/tmp") / f"rust-gauge-mail-{office.slug}"
    maildir = home / "Maildir"
    for name in ("new", "cur", "tmp"):
        (maildir / name).mkdir(parents=True)
    (maildir / "new" / "1.host").write_bytes(v.DSN)
    for path in (home, maildir, *maildir.rglob("*")):
        os.chown(path, 65534, 65534)
    try:
        with dovecot(maildir, "secret") as port:
            source = FeedSource(host="127.0.0.1", port=port, tls=False, user="returns")
            assign(office, "host", "127.0.0.1")
            client.feeds.add(office.slug, NewFeed(name="imap", kind="mailbox", source=source, password="wrong"))
            settle(runner)
            assert "127.0.0.1" in client.feeds.get(office.slug, "imap").error
            client.feeds.update(office.slug, "imap", FeedChange(password="secret"))
            again = Runner(office.world.context)
            settle(again)
            assert counts(office) == {"bounced": 1, "delayed": 1}
            assert client.feeds.get(office.slug, "imap").position.startswith("message ")
            (maildir / "new" / "2.host").write_bytes(v.COMPLAINT)
            os.chown(maildir / "new" / "2.host", 65534, 65534)
            third = Runner(office.world.context)
            settle(third)
            assert counts(office)["complained"] == 1
            bad = [*BAD_MAILS.values(), *(random.Random(n).randbytes(300) for n in range(20))]
            for number, raw in enumerate([*bad, v.DSN.replace(b"n1@", b"behind@").replace(b"a1@", b"behind@")]):
                (maildir / "new" / f"3.{number:02}").write_bytes(raw)
                os.chown(maildir / "new" / f"3.{number:02}", 65534, 65534)
            fourth = Runner(office.world.context)
            settle(fourth)
            assert any(event.message_id.startswith("behind@") for event in client.events.list(office.slug))
    finally:
        for path in sorted(home.rglob("*"), reverse=True):
            path.unlink() if path.is_file() else path.rmdir()
        home.rmdir()


@NEEDS_ROOT
def test_reports_of_receivers_are_taken_from_an_imap_mailbox(  # over a real Dovecot
    office: Office, client: Client, runner: Runner, tmp_path: Path
) -> None:
    client.domains.add(office.slug, REPORTED)
    home = Path("/tmp") / f"rust-gauge-reports-{office.slug}"
    maildir = home / "Maildir"
    for name in ("new", "cur", "tmp"):
        (maildir / name).mkdir(parents=True)
    for number, octets in enumerate(
        [report_mail("a"), b"Subject: holiday\r\n\r\nAway until Monday\r\n", report_mail("b")]
    ):
        (maildir / "new" / f"{number}.host").write_bytes(octets)
    for path in (home, maildir, *maildir.rglob("*")):
        os.chown(path, 65534, 65534)
    try:
        with dovecot(maildir, "secret") as port:
            source = FeedSource(host="127.0.0.1", port=port, tls=False, user="reports")
            assign(office, "host", "127.0.0.1")
            client.feeds.add(office.slug, NewFeed(name="dmarc", kind="reports", source=source, password="secret"))
            settle(runner)
            assert {each.report_id for each in client.reports.list(office.slug)} == {"a", "b"}
            assert [each.problem for each in client.reports.rejected(office.slug)] == ["No report found"]
            feed = client.feeds.get(office.slug, "dmarc")
            assert (feed.stored_today, feed.rejected, feed.error) == (2, 1, "")
            settle(Runner(office.world.context))
            assert len(list(client.reports.list(office.slug))) == 2, "read on from where it was left"
    finally:
        for path in sorted(home.rglob("*"), reverse=True):
            path.unlink() if path.is_file() else path.rmdir()
        home.rmdir()


def test_a_queue_is_consumed_in_batches_and_dead_letters_are_set_aside(
    office: Office, client: Client, runner: Runner
) -> None:  # over a real RabbitMQ
    with rabbitmq() as port:
        connection = pika.BlockingConnection(pika.ConnectionParameters("127.0.0.1", port))
        channel = connection.channel()
        channel.queue_declare("events.dead")
        channel.queue_declare(
            "events", durable=True, arguments={"x-dead-letter-exchange": "", "x-dead-letter-routing-key": "events.dead"}
        )
        for number in range(700):
            channel.basic_publish("", "events", json.dumps(row(number)).encode())
        channel.basic_publish("", "events", b"no json")
        channel.basic_publish("", "events", json.dumps([bounce(701), row(702, kind="posted")]).encode())
        source = FeedSource(host="127.0.0.1", port=port, tls=False, user="guest", queue="events")
        assign(office, "host", "127.0.0.1")
        client.feeds.add(office.slug, NewFeed(name="queue", kind="queue", source=source, password="guest"))
        run_until(lambda: counts(office) == {"delivered": 700, "bounced": 1}, runner)
        run_until(lambda: channel.queue_declare("events.dead", passive=True).method.message_count == 1, runner)
        assert client.feeds.get(office.slug, "queue").rejected == 1  # JSON, but no event
        client.feeds.update(office.slug, "queue", FeedChange(mapping=MAPPING))
        channel.basic_publish("", "events", json.dumps(letter(box="late@tidepost.example")).encode())
        run_until(lambda: counts(office).get("bounced") == 2, runner)
        for number in range(20):
            channel.basic_publish("", "events", random.Random(number).randbytes(300))
        channel.basic_publish("", "events", json.dumps(letter(box="behind@tidepost.example")).encode())
        run_until(lambda: counts(office).get("bounced") == 3, runner)
        assert channel.queue_declare("events", passive=True).method.message_count == 0
        right(office)
        connection.close()
    run_until(lambda: "127.0.0.1" in client.feeds.get(office.slug, "queue").error, runner)


@NEEDS_ROOT
def test_a_real_postfix_shows_up_from_its_log(office: Office, client: Client, runner: Runner) -> None:
    provider = MailHost(
        0, refused=("nobody",), later=("busy",), tls=False, keep=Path("/tmp") / f"rust-gauge-kept-{office.slug}"
    )
    threading.Thread(target=provider.serve_forever, daemon=True).start()
    kept = provider.keep
    assert kept is not None
    try:
        with postfix(provider.server_address[1]) as mta:  # type: ignore[arg-type]
            with smtplib.SMTP("127.0.0.1", mta.port, timeout=20) as session:
                text = b"From: news@news.d.example\r\nMessage-ID: <p1@news.d.example>\r\nSubject: x\r\n\r\nx\r\n"
                session.sendmail(
                    "bounce@news.d.example", [f"{who}@tidepost.example" for who in ("kim", "nobody", "busy")], text
                )
            assign(office, "folder", str(mta.log))
            client.feeds.add(
                office.slug,
                NewFeed(
                    name="mta1",
                    kind="log",
                    source=FeedSource(path=str(mta.log)),
                    defaults=FeedDefaults(relay="office-1"),
                ),
            )
            run_until(lambda: counts(office).get("delayed_again", 0) >= 1, runner)
            seen = counts(office)
            assert (seen["accepted"], seen["delivered"], seen["bounced"], seen["delayed"]) == (3, 1, 1, 1)
            events = {
                (event.kind, event.recipient.partition("@")[0]): event
                for event in client.events.list(office.slug, since=LONG_AGO)
            }
            bounced = events["bounced", "nobody"]
            assert (bounced.cause, bounced.message_id, bounced.relay) == (
                "no_such_mailbox",
                "p1@news.d.example",
                "office-1",
            )
            assert "no such mailbox here" in bounced.diagnostic
            assert events["delayed", "busy"].reply_code == 451
            assert events["delivered", "kim"].seconds_taken is not None
            right(office)
    finally:
        provider.shutdown()
        provider.server_close()
        for path in kept.glob("*"):
            path.unlink()
        if kept.is_dir():
            kept.rmdir()


def test_a_maildir_fills_a_tray(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    maildir = tmp_path / "Maildir"
    for name in ("new", "cur", "tmp"):
        (maildir / name).mkdir(parents=True)
    for number, raw in enumerate(
        (b"Subject: one\r\nTo: kim@tidepost.example\r\n\r\n", b"Subject: big\r\n\r\n" + b"x" * 5000)
    ):
        (maildir / "new" / f"{number}.host").write_bytes(raw)
    assign(office, "folder", str(maildir))
    client.trays.add(office.slug, NewTray(name="staging", max_bytes=2000))
    new = NewFeed(
        name="copies", kind="mailbox", source=FeedSource(path=str(maildir)), defaults=FeedDefaults(tray="staging")
    )
    with pytest.raises(NotFoundError, match="no tray stagin"):
        client.feeds.add(office.slug, new.model_copy(update={"defaults": FeedDefaults(tray="stagin")}))
    with pytest.raises(InvalidInputError, match="no messages"):
        client.feeds.add(office.slug, new.model_copy(update={"kind": "http"}))
    client.feeds.add(office.slug, new)
    settle(runner)
    (caught,) = client.trays.messages(office.slug, "staging")
    assert (caught.via, caught.subject, caught.recipients) == ("feed", "one", ["kim@tidepost.example"])
    (rejected,) = client.feeds.rejected_rows(office.slug, "copies")
    assert "5,016 octets" in rejected.problems[0].what
    assert list(client.events.list(office.slug)) == []
