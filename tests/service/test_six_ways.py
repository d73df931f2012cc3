"""The same day of mail from each of the six sources: HTTP, a foreign JSON, mail, a log, a queue, a file."""

import base64
import csv
import io
import json
import smtplib
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path
from typing import Any

import pika
import pytest
from sqlalchemy import text

from rust_gauge.cli.main import main
from rust_gauge.cli.output import Output
from rust_gauge.client import Client
from rust_gauge.contract.feeds import FeedDefaults, FeedMapping, FeedSource, FieldSource, NewFeed, UnwrapStep
from rust_gauge.core.mailflow.counting import Count
from rust_gauge.launch.mariadb import free_port
from rust_gauge.service.feeds.runner import Runner
from tests.conftest import Office, World, another, assign
from tests.gateways.servers import rabbitmq
from tests.rows import ndjson
from tests.service.test_feed_runner import run_until, settle
from tests.service.test_intake import right

DAWN = datetime(2026, 11, 19, 6, tzinfo=UTC)
DEFAULTS = FeedDefaults(domain="news.d.example", stream="receipts", relay="office-1")
REPLIES = {
    "gone": ("bounced", "550", "5.1.1", "no such mailbox {n}"),
    "full": ("bounced", "552", "5.2.2", "mailbox full ({n} MB)"),
    "listed": ("bounced", "550", "5.1.1", "192.0.2.{n} is on a blocklist"),
    "grey": ("delayed", "451", "4.7.1", "greylisted, come back in {n} seconds"),
    "slow": ("delayed", "421", "4.7.0", "too many connections from you"),
}


@dataclass(frozen=True)
class Happening:
    """One thing that happened to one message."""

    number: int
    kind: str
    at: datetime
    attempt: int
    code: str = ""
    status: str = "2.0.0"
    words: str = "taken"

    @property
    def recipient(self) -> str:
        return f"person{self.number}@{'tidepost.example' if self.number % 3 else 'kbox.example'}"

    @property
    def message_id(self) -> str:
        return f"letter{self.number}@news.d.example"

    @property
    def reply(self) -> str:
        return f"host mx.there.example[192.0.2.9] summary: {self.code} {self.status} {self.words} (in reply to RCPT TO)"


def the_day() -> list[Happening]:
    """Letters that are taken, given up, deferred and then taken or given up; one is taken and then returned."""
    out: list[Happening] = []
    for n in range(60):
        at, attempt = DAWN + timedelta(minutes=17 * n % 900), 1
        if n % 4 == 1:
            kind, code, status, words = REPLIES["grey" if n % 8 == 1 else "slow"]
            for _ in range(1 + n % 3):
                out.append(Happening(n, kind, at, attempt, code, status, words.format(n=n)))
                at, attempt = at + timedelta(minutes=20), attempt + 1
        if n % 5 == 2:
            kind, code, status, words = REPLIES[("gone", "full", "listed")[n % 3]]
            out.append(Happening(n, kind, at, attempt, code, status, words.format(n=n)))
        else:
            out.append(Happening(n, "delivered", at, attempt))
    kind, code, status, words = REPLIES["gone"]
    return [*out, Happening(0, kind, DAWN + timedelta(hours=3), 2, code, status, words.format(n=0))]


def as_row(happening: Happening, **more: Any) -> dict[str, Any]:
    """In our own shape."""
    rejected = (
        {"reply_code": int(happening.code), "enhanced_code": happening.status, "diagnostic": happening.reply}
        if happening.code
        else {}
    )
    return {
        "kind": happening.kind, "time": happening.at.isoformat(), "recipient": happening.recipient, "message_id": happening.message_id,
        **DEFAULTS.model_dump(exclude={"tray"}), **rejected, **more,
    }  # fmt: skip


# The six ways: each brings the day into an office of its own.


def by_http(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    client.events.load(office.slug, ndjson(*(as_row(row) for row in the_day())))


MAPPING = FeedMapping(
    unwrap=[UnwrapStep(at="$.told[*].wrapped", form="base64-json")],
    rows="$.told[*].wrapped",
    fields={
        "kind": FieldSource(path="$.state", table={"there": "delivered", "back": "bounced", "waits": "delayed"}),
        "time": FieldSource(path="$.when", form="milliseconds"),
        "recipient": FieldSource(path="$.box"),
        "message_id": FieldSource(path="$.letter"),
        "diagnostic": FieldSource(path="$.words", default=""),
        "enhanced_code": FieldSource(path="$.status", default=None),
    },
)


def by_foreign_json(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    client.feeds.add(office.slug, NewFeed(name="driftline", kind="http", mapping=MAPPING, defaults=DEFAULTS))
    states = {"delivered": "there", "bounced": "back", "delayed": "waits"}
    told = [
        {"state": states[e.kind], "when": int(e.at.timestamp() * 1000), "box": f"Somebody <{e.recipient}>",
         "letter": e.message_id, **({"words": e.reply, "status": e.status} if e.code else {})}
        for e in the_day()
    ]  # fmt: skip
    wrapped = [{"wrapped": base64.b64encode(json.dumps(row).encode()).decode()} for row in told]
    for start in range(0, len(wrapped), 25):
        client.feeds.send_to(
            office.slug, "driftline", json.dumps({"told": wrapped[start : start + 25]}).encode(), "application/json"
        )


def as_notice(happening: Happening, number: int) -> bytes:
    """A delivery status notification (RFC 3464)."""
    action = {"delivered": "delivered", "bounced": "failed", "delayed": "delayed"}[happening.kind]
    said = f"Diagnostic-Code: smtp; {happening.reply}\r\n" if happening.code else ""
    return (
        f"From: MAILER-DAEMON@there.example\r\nTo: returns@news.d.example\r\nSubject: Delivery report\r\n"
        f"Message-ID: <notice{number}@there.example>\r\nMIME-Version: 1.0\r\nDate: {format_datetime(happening.at)}\r\n"
        f'Content-Type: multipart/report; report-type=delivery-status; boundary="b"\r\n\r\n--b\r\n\r\nA report.\r\n--b\r\n'
        f"Content-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; there.example\r\n\r\n"
        f"Final-Recipient: rfc822; {happening.recipient}\r\nAction: {action}\r\nStatus: {happening.status}\r\n{said}"
        f"Last-Attempt-Date: {format_datetime(happening.at)}\r\n\r\n--b\r\nContent-Type: text/rfc822-headers\r\n\r\n"
        f"From: News <news@news.d.example>\r\nMessage-ID: <{happening.message_id}>\r\nSubject: x\r\n\r\n--b--\r\n"
    ).encode()


def by_mail(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    settings = office.world.context.settings
    settings.smtp_port = free_port()
    source = FeedSource(addresses=[f"returns@{office.slug}.example"])
    assign(office, "mail", *source.addresses)
    client.feeds.add(office.slug, NewFeed(name="returns", kind="mail", source=source, defaults=DEFAULTS))
    try:
        port = runner.start_mail()
        with smtplib.SMTP("127.0.0.1", port or 0, timeout=20) as session:
            for number, row in enumerate(the_day()):
                session.sendmail("", [f"returns@{office.slug}.example"], as_notice(row, number))
    finally:
        settings.smtp_port = 0


def as_log(day: list[Happening]) -> str:
    """As Postfix writes it, half of it with times of syslog's form."""
    lines: list[tuple[datetime, str]] = []
    seen: set[int] = set()
    for row in day:
        queue_id = f"4F1A{row.number:04X}"
        if row.number not in seen:
            seen.add(row.number)
            lines.append((row.at, f"postfix/cleanup[9]: {queue_id}: message-id=<{row.message_id}>"))
            lines.append(
                (
                    row.at,
                    f"postfix/qmgr[8]: {queue_id}: from=<bounce@news.d.example>, size=812, nrcpt=1 (queue active)",
                )
            )
        status = {"delivered": "sent", "bounced": "bounced", "delayed": "deferred"}[row.kind]
        reply = row.reply if row.code else "250 2.0.0 taken"
        lines.append(
            (row.at, f"postfix/smtp[7]: {queue_id}: to=<{row.recipient}>, relay=mx.there.example[192.0.2.9]:25, delay=0, "
             f"delays=0/0/0/0, dsn={row.status}, status={status} ({reply})")
        )  # fmt: skip
    lines.sort(key=lambda line: line[0])
    form = [lambda at: at.isoformat(), lambda at: f"{at:%b %d %H:%M:%S}"]
    return "".join(f"{form[n % 2](at)} mta1 {said}\n" for n, (at, said) in enumerate(lines))


def by_log(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    log = tmp_path / "mail.log"
    whole = as_log(the_day())
    log.write_text(whole[: len(whole) // 2])
    assign(office, "folder", str(log))
    client.feeds.add(office.slug, NewFeed(name="mta1", kind="log", source=FeedSource(path=str(log)), defaults=DEFAULTS))
    settle(runner)
    with log.open("a") as file:
        file.write(whole[len(whole) // 2 :])
    settle(runner)


def by_queue(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    with rabbitmq() as port:
        connection = pika.BlockingConnection(pika.ConnectionParameters("127.0.0.1", port))
        channel = connection.channel()
        channel.queue_declare("events", durable=True)
        for row in the_day():
            channel.basic_publish("", "events", json.dumps(as_row(row)).encode())
        source = FeedSource(host="127.0.0.1", port=port, tls=False, user="guest", queue="events")
        assign(office, "host", "127.0.0.1")
        client.feeds.add(office.slug, NewFeed(name="queue", kind="queue", source=source, password="guest"))
        wanted = len(the_day())
        run_until(lambda: sum(1 for _ in client.events.list(office.slug)) == wanted, runner)
        connection.close()


def by_file(office: Office, client: Client, runner: Runner, tmp_path: Path) -> None:
    client.feeds.add(office.slug, NewFeed(name="files", kind="http", defaults=DEFAULTS))
    names = ("kind", "time", "recipient", "message_id", "reply_code", "enhanced_code", "diagnostic")
    with (tmp_path / "day.csv").open("w", newline="") as file:
        writer = csv.DictWriter(file, names, extrasaction="ignore")
        writer.writeheader()
        writer.writerows(as_row(row) for row in the_day())
    words = [
        "event",
        "import",
        str(tmp_path / "day.csv"),
        "--feed",
        "files",
        "--url",
        office.world.url,
        "--tenant",
        office.slug,
    ]
    assert main(words, Output(io.StringIO(), io.StringIO())) == 0


WAYS: list[Callable[[Office, Client, Runner, Path], None]] = [
    by_http, by_foreign_json, by_mail, by_log, by_queue, by_file,
]  # fmt: skip


def trails(client: Client, office: Office) -> list[tuple[Any, ...]]:
    """Every event but those that only a log knows, without what only some ways tell: attempts and times taken."""
    return sorted(
        (e.recipient, e.time, e.kind, e.message_id, e.cause, e.permanence, e.cause_rule, e.domain, e.stream, e.relay,
         e.provider, e.diagnostic if e.kind != "delivered" else "")
        for e in client.events.list(office.slug)
        if e.kind != "accepted"
    )  # fmt: skip


_COUNTERS = """
SELECT f.hour, d.name, p.name, s.name, r.name, f.kind, f.cause, f.permanence, f.n FROM flow_hour f
JOIN sending_domain d ON d.id = f.domain_id JOIN mailbox_provider p ON p.id = f.provider_id
JOIN stream s ON s.id = f.stream_id JOIN relay r ON r.id = f.relay_id
WHERE f.tenant_id = :tenant AND f.kind <> :accepted ORDER BY 1, 2, 3, 4, 5, 6, 7, 8
"""
_WORDINGS = """
SELECT w.reply_pattern, f.day, f.cause, SUM(f.n) FROM flow_pattern_day f JOIN reply_pattern w ON w.id = f.pattern_id
WHERE f.tenant_id = :tenant GROUP BY 1, 2, 3 ORDER BY 1, 2, 3
"""


def counted(office: Office) -> tuple[list[Any], list[Any]]:
    values = {"tenant": office.tenant.id, "accepted": Count.ACCEPTED.number}
    with office.world.context.store.engine.connect() as connection:
        return (
            [tuple(row) for row in connection.execute(text(_COUNTERS), values)],
            [tuple(row) for row in connection.execute(text(_WORDINGS), values)],
        )


def test_the_same_day_gives_the_same_trails_and_counters_by_each_way(
    world: World, runner: Runner, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found: dict[str, tuple[Any, Any]] = {}
    for source in WAYS:
        with another(world) as (office, client):
            monkeypatch.setenv("RUSTGAUGE_TOKEN", office.token)
            source(office, client, runner, tmp_path)
            right(office)
            found[source.__name__] = trails(client, office), counted(office)
    day, (counters, reply_patterns) = found["by_http"]
    kinds = Counter(event[2] for event in day)
    assert kinds == Counter(row.kind for row in the_day())
    assert {row[6] for row in counters} > {0}, "there are causes"
    assert len(reply_patterns) > 4
    for name, (events, counts) in found.items():
        assert events == day, name
        assert counts == (counters, reply_patterns), name
