"""One bad input spoils only itself, whatever it does to whatever reads it: the others are stored, and feeds go on."""

import contextlib
import gzip
import json
import mailbox
import smtplib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from rust_gauge.client import Client, ClientError, UnavailableError
from rust_gauge.contract.feeds import FeedDefaults, FeedSource, NewFeed
from rust_gauge.contract.jobs import ImportRequest
from rust_gauge.core.mtalog import LogReader
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.feeds import receiving
from rust_gauge.service.feeds.runner import Runner
from rust_gauge.store.intake import Load
from tests.conftest import Office, assign
from tests.core.test_mtalog import LOG
from tests.rows import ndjson, row
from tests.service.test_feed_runner import WHOLE, settle
from tests.service.test_feeds import MAPPING, letter
from tests.service.test_intake import counts, right
from tests.vectors import notices
from tests.vectors.bad_mails import BAD_MAILS

DOMAIN = FeedDefaults(domain="news.d.example", stream="newsletter", relay="office-1")


def good(number: int) -> bytes:
    """A bounce that has to arrive, behind and before the bad mail."""
    return notices.DSN.replace(b"n1@", b"good%d@" % number).replace(b"a1@", b"mail%d@" % number)


def _arrived(office: Office) -> int:
    """How many of the good mails were stored."""
    with office.client() as client:
        ids = {event.message_id for event in client.events.list(office.slug, kinds=["bounced"])}
    return len({id for id in ids if id.startswith("mail")})


@pytest.mark.parametrize("name", BAD_MAILS)
def test_a_bad_mail_spoils_no_other_by_any_door(
    office: Office,
    client: Client,
    runner: Runner,
    tmp_path: Path,
    name: str,
) -> None:
    bad = BAD_MAILS[name]
    maildir = mailbox.Maildir(tmp_path / "in")
    for raw in (good(1), bad, good(2)):
        maildir.add(raw)
    source = FeedSource(path=str(tmp_path / "in"))
    assign(office, "folder", source.path)
    client.feeds.add(office.slug, NewFeed(name="folder", kind="mailbox", source=source, defaults=DOMAIN))
    settle(runner)
    assert _arrived(office) == 2
    client.feeds.add(office.slug, NewFeed(name="web", kind="http", defaults=DOMAIN))
    for raw in (good(3), bad, good(4)):
        client.feeds.send_to(office.slug, "web", raw, "message/rfc822")
    assert _arrived(office) == 4
    whole = b"\n".join(b"From x\n" + raw.replace(b"\r\n", b"\n") + b"\n" for raw in (good(5), bad, good(6)))
    client.feeds.send_to(office.slug, "web", whole, "application/mbox")
    assert _arrived(office) == 6
    right(office)


def test_a_bad_mail_by_smtp_is_taken_once_and_the_listener_goes_on(
    office: Office,
    client: Client,
    runner: Runner,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    config = office.world.context.settings
    monkeypatch.setattr(config, "smtp_port", free_port())
    port = runner.start_mail()
    source = FeedSource(addresses=[f"@bounce.{office.slug}.example"])
    assign(office, "mail", *source.addresses)
    client.feeds.add(office.slug, NewFeed(name="returns", kind="mail", source=source, defaults=DOMAIN))
    with smtplib.SMTP("127.0.0.1", port) as out:
        for raw in (*BAD_MAILS.values(), good(1)):
            with contextlib.suppress(smtplib.SMTPDataError):  # a line that is too long is refused for good
                out.sendmail("", [f"x@bounce.{office.slug}.example"], raw or b"\r\n")
    assert _arrived(office) == 1


def test_an_exception_that_nobody_foresaw_sets_one_item_aside(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A parser and a mapping: each fails for one item in a way that no test covers yet."""
    client.feeds.add(office.slug, NewFeed(name="web", kind="http", defaults=DOMAIN))
    read = receiving.rows_of_notice

    def fragile(raw: bytes, *rest: Any) -> Any:
        if b"poison" in raw:
            raise IndexError("string index out of range")
        return read(raw, *rest)

    monkeypatch.setattr(receiving, "rows_of_notice", fragile)
    mbox = b"\n\n".join(
        b"From x\n" + raw.replace(b"\r\n", b"\n") for raw in (good(1), b"Subject: poison\n\nx\n", good(2))
    )
    client.feeds.send_to(office.slug, "web", mbox, "application/mbox")
    assert _arrived(office) == 2
    (kept,) = client.feeds.rejected_rows(office.slug, "web")
    assert "poison" in kept.item
    assert "(IndexError)" in kept.problems[0].what
    monkeypatch.undo()

    client.feeds.add(office.slug, NewFeed(name="mapped", kind="http", mapping=MAPPING))
    from rust_gauge.core.mailflow.mapping import Mapping

    apply = Mapping.apply

    def failing(self: Mapping, document: Any) -> Any:
        if "poison" in json.dumps(document):
            raise ZeroDivisionError("division by zero")
        return apply(self, document)

    monkeypatch.setattr(Mapping, "apply", failing)
    documents = [letter(), {"poison": 1}, letter(box="jo@tidepost.example")]
    client.feeds.send_to(office.slug, "mapped", json.dumps(documents).encode(), "application/json")
    (kept,) = client.feeds.rejected_rows(office.slug, "mapped")
    assert "ZeroDivisionError" in kept.problems[0].what


def test_a_log_line_that_nobody_can_read_spoils_no_other(
    office: Office, client: Client, runner: Runner, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    lines = LOG.splitlines()
    read = LogReader.read

    def failing(self: LogReader, text: str, *rest: Any) -> Any:
        if "poison" in text:
            raise KeyError("poison")
        return read(self, text, *rest)

    monkeypatch.setattr(LogReader, "read", failing)
    log = tmp_path / "mail.log"
    log.write_text("\n".join([*lines[:4], "poison", *lines[4:], ""]))
    assign(office, "folder", str(log))
    client.feeds.add(office.slug, NewFeed(name="mta1", kind="log", source=FeedSource(path=str(log))))
    settle(runner)
    assert counts(office) == WHOLE
    (kept,) = client.feeds.rejected_rows(office.slug, "mta1")
    assert (kept.item, "(KeyError)" in kept.problems[0].what) == ("poison", True)


def test_a_row_that_nobody_can_store_is_found_and_the_others_are_stored(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    store = Load.store

    def failing(self: Load, *arguments: Any) -> Any:
        if any(b"m13\x1f" in packet or b"m77\x1f" in packet for packet in self.packets):
            raise ValueError("the database says no")
        return store(self, *arguments)

    monkeypatch.setattr(Load, "store", failing)
    result = client.events.load(office.slug, ndjson(*(row(n) for n in range(100))))
    assert (result.received, result.stored, result.rejected) == (100, 98, 2)
    assert [problem.line for problem in result.rejections] == [14, 78]
    client.feeds.add(office.slug, NewFeed(name="web", kind="http"))
    body = json.dumps([row(n, id=f"again{n}") for n in (12, 13, 14)]).encode()
    client.feeds.send_to(office.slug, "web", body, "application/json")
    (kept,) = client.feeds.rejected_rows(office.slug, "web")
    assert json.loads(kept.item)["message_id"] == "m13"
    right(office)


def test_when_nothing_can_be_stored_no_row_is_blamed(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    def failing(self: Load, *_: Any) -> Any:
        raise ValueError("the table is broken")

    monkeypatch.setattr(Load, "store", failing)
    with pytest.raises(ClientError):
        client.events.load(office.slug, ndjson(*(row(n) for n in range(20))))
    with pytest.raises(UnavailableError):  # nobody keeps the one row, so its sender has to send it again
        client.events.load(office.slug, ndjson(row(1)))
    monkeypatch.undo()
    assert client.events.load(office.slug, ndjson(*(row(n) for n in range(20)))).stored == 20


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(raw=st.binary(max_size=400) | st.binary(max_size=200).map(gzip.compress))
def test_random_bytes_at_every_door_leave_it_open(office: Office, raw: bytes) -> None:
    with office.client() as client:
        if "any" not in {feed.name for feed in client.feeds.list(office.slug)}:
            client.feeds.add(office.slug, NewFeed(name="any", kind="http", defaults=DOMAIN))
        doors = [
            lambda kind=kind: client.feeds.send_to(office.slug, "any", raw, kind)
            for kind in ("message/rfc822", "application/mbox", "text/csv", "application/json", "application/x-ndjson")
        ]
        doors += [
            lambda: client.events.load(office.slug, raw),
            lambda: client.audits.read_feedback_report(office.slug, raw),
            lambda: client.audits.check_message(office.slug, raw),
        ]
        job = client.jobs.start_import(office.slug, ImportRequest())
        doors += [
            lambda: client.jobs.send(office.slug, job.id, 0, raw),
            lambda: client.jobs.run(office.slug, job.id),
            office.world.work,
        ]
        for door in doors:
            try:
                door()
            except ClientError as refused:
                assert not isinstance(refused, UnavailableError), refused
        assert client.jobs.get(office.slug, job.id).state in ("done", "failed", "collecting")
        assert client.feeds.send_to(office.slug, "any", good(1), "message/rfc822").received == 2
