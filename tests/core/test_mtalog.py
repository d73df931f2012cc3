"""Postfix's mail log: messages put together by queue id, in both forms of time, over a restart, with rubbish between."""

import json
from datetime import UTC, datetime, timedelta, timezone
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.core.mtalog import LogReader, parse_line
from rust_gauge.core.mtalog.postfix import MAX_OPEN

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)
LOG = """\
Nov 19 08:00:01 mta1 postfix/smtpd[101]: 4F1AB2C3D4: client=app1.skerry.example[192.0.2.50]
Nov 19 08:00:01 mta1 postfix/cleanup[102]: 4F1AB2C3D4: message-id=<a1@news.d.example>
Nov 19 08:00:01 mta1 postfix/qmgr[90]: 4F1AB2C3D4: from=<bounce@news.d.example>, size=2048, nrcpt=3 (queue active)
Nov 19 08:00:03 mta1 postfix/smtp[103]: 4F1AB2C3D4: to=<kim@tidepost.example>, relay=mx1.tidepost.example[203.0.113.5]:25, \
delay=1.9, delays=0.1/0/0.8/1, dsn=2.0.0, status=sent (250 2.0.0 Ok: queued as 77)
Nov 19 08:00:04 mta1 postfix/smtp[104]: 4F1AB2C3D4: to=<jo@kbox.example>, relay=mx.kestrelbox.example[203.0.113.9]:25, \
delay=2.9, delays=0.1/0/0.8/2, dsn=4.2.2, status=deferred (host mx.kestrelbox.example[203.0.113.9] summary: 452 4.2.2 mailbox \
full (in reply to RCPT TO command))
Nov 19 08:00:04 mta1 postfix/smtp[105]: 4F1AB2C3D4: to=<no@tidepost.example>, orig_to=<none@d.example>, \
relay=mx1.tidepost.example[203.0.113.5]:25, conn_use=2, delay=2.9, delays=0.1/0/0.8/2, dsn=5.1.1, status=bounced (host \
mx1.tidepost.example[203.0.113.5] summary: 550 5.1.1 <no@tidepost.example>: no such mailbox (in reply to RCPT TO command))
Nov 19 08:00:05 mta1 postfix/cleanup[102]: 5A2AB2C3D4: message-id=<n1@mta1.skerry.example>
Nov 19 08:00:05 mta1 postfix/bounce[106]: 4F1AB2C3D4: sender non-delivery notification: 5A2AB2C3D4
Nov 19 08:00:05 mta1 postfix/qmgr[90]: 5A2AB2C3D4: from=<>, size=4000, nrcpt=1 (queue active)
Nov 19 08:00:05 mta1 postfix/smtp[103]: 5A2AB2C3D4: to=<bounce@news.d.example>, relay=none, delay=0, delays=0/0/0/0, \
dsn=2.0.0, status=sent (250 ok)
Nov 19 08:30:04 mta1 postfix/smtp[107]: 4F1AB2C3D4: to=<jo@kbox.example>, relay=mx.kestrelbox.example[203.0.113.9]:25, \
delay=1803, delays=1800/0/1/2, dsn=2.0.0, status=sent (250 ok)
Nov 19 08:30:04 mta1 postfix/qmgr[90]: 4F1AB2C3D4: removed
Nov 19 08:31:00 mta1 postfix/smtpd[101]: connect from unknown[192.0.2.99]
Nov 19 08:31:00 mta1 dovecot: imap-login: no
"""


def rows(reader: LogReader, text: str) -> list[dict[str, Any]]:
    return [row for line in text.splitlines() for row in reader.read(line, NOW)]


def test_a_message_is_put_together_by_its_queue_id() -> None:
    reader = LogReader()
    got = rows(reader, LOG)
    told = [(row["kind"], row["recipient"], row["time"][11:19]) for row in got]
    assert told == [
        ("accepted", "kim@tidepost.example", "08:00:01"),
        ("delivered", "kim@tidepost.example", "08:00:03"),
        ("accepted", "jo@kbox.example", "08:00:01"),
        ("delayed", "jo@kbox.example", "08:00:04"),
        ("accepted", "no@tidepost.example", "08:00:01"),
        ("bounced", "no@tidepost.example", "08:00:04"),
        ("delivered", "jo@kbox.example", "08:30:04"),
    ]
    assert {row["message_id"] for row in got} == {"a1@news.d.example"}
    assert {(row["domain"], row["relay"]) for row in got} == {("news.d.example", "mta1")}
    bounced = got[5]
    assert (bounced["reply_code"], bounced["enhanced_code"], bounced["remote_host"]) == (
        550,
        "5.1.1",
        "mx1.tidepost.example",
    )
    assert "no such mailbox" in bounced["diagnostic"]
    assert (got[1]["seconds_taken"], got[6]["attempt"], got[6]["seconds_taken"]) == (1.9, 2, 1803.0)
    assert reader.state().keys() == {"5A2AB2C3D4"}  # the notice itself is still in the queue


def test_reading_goes_on_in_the_middle_and_gives_the_same() -> None:
    lines = LOG.splitlines(keepends=True)
    whole = rows(LogReader(), LOG)
    for cut in range(len(lines)):
        first = LogReader()
        head = rows(first, "".join(lines[:cut]))
        second = LogReader(state=json.loads(json.dumps(first.state())))
        assert head + rows(second, "".join(lines[cut:])) == whole


@pytest.mark.parametrize(
    ("time", "zone", "wanted"),
    [
        ("Nov 19 08:00:01", UTC, "2026-11-19T08:00:01+00:00"),
        ("Dec  9 08:00:01", UTC, "2025-12-09T08:00:01+00:00"),  # last year's: this year's would lie ahead
        ("Feb 29 08:00:01", UTC, "2024-02-29T08:00:01+00:00"),
        ("Nov 19 08:00:01", timezone(timedelta(hours=2)), "2026-11-19T06:00:01+00:00"),
        ("2026-11-19T08:00:01.123456+01:00", UTC, "2026-11-19T07:00:01.123456+00:00"),
        ("2026-11-19T08:00:01.123456789Z", UTC, "2026-11-19T08:00:01.123456+00:00"),
    ],
)
def test_times_in_both_forms(time: str, zone: Any, wanted: str) -> None:
    line = parse_line(f"{time} mta1 postfix-out/smtp[1]: 4F1AB2C3D4: removed", NOW, zone)
    assert line is not None
    assert line.at.isoformat() == wanted


@pytest.mark.parametrize(
    ("queue_id", "good"),
    [("4F1AB", True), ("4ZqTzk2Lnlz9rxy", True), ("NOQUEUE", False), ("warning", False), ("4F1", False)],
)
def test_queue_ids_are_short_or_long(queue_id: str, good: bool) -> None:
    assert (parse_line(f"Nov 19 08:00:01 mta1 postfix/qmgr[1]: {queue_id}: removed", NOW) is not None) is good


def test_who_is_still_put_off_when_a_message_expires_gets_it_no_more() -> None:
    log = LOG.partition("Nov 19 08:30:04")[0] + (
        "Nov 24 08:00:05 mta1 postfix/qmgr[90]: 4F1AB2C3D4: from=<bounce@news.d.example>, status=expired, returned to sender\n"
    )
    reader = LogReader()
    now = datetime(2026, 11, 25, tzinfo=UTC)
    got = [row for line in log.splitlines() for row in reader.read(line, now)]
    assert (got[-1]["kind"], got[-1]["recipient"], got[-1]["cause"]) == ("bounced", "jo@kbox.example", "expired")
    assert "mailbox full" in got[-1]["diagnostic"]
    assert sum(row["kind"] == "bounced" for row in got) == 2


def test_what_is_remembered_is_bounded() -> None:
    reader = LogReader()
    for number in range(MAX_OPEN + 50):
        reader.read(
            f"Nov 19 08:00:01 mta1 postfix/cleanup[1]: {number + 0x10000:X}: message-id=<{number}@d.example>", NOW
        )
    assert len(reader.state()) == MAX_OPEN


@given(st.sampled_from(LOG.splitlines()), st.data())
def test_lines_of_rubbish_stop_nothing(line: str, data: st.DataObject) -> None:
    at = data.draw(st.integers(0, len(line)))
    mangled = line[:at] + data.draw(st.text(max_size=40)) + line[at + data.draw(st.integers(0, 20)) :]
    for row in LogReader().read(mangled, NOW):
        assert row["kind"] in ("accepted", "delivered", "delayed", "bounced")


@given(st.text(max_size=300))
def test_any_text_can_be_read(text: str) -> None:
    assert LogReader().read(text, NOW) == []


TLS_LOG = [
    "Nov 20 10:00:00 mta1 postfix/qmgr[9]: 4AAA1: from=<a@d.example>, size=1, nrcpt=1 (queue active)",
    "Nov 20 10:00:01 mta1 postfix/smtp[12]: 4AAA1: to=<kim@tidepost.example>, relay=mx.tidepost.example[203.0.113.5]:25, delay=1, delays=1/0/0/0, dsn=2.0.0, status=sent (250 ok)",
    "Nov 20 10:01:00 mta1 postfix/smtp[12]: Untrusted TLS connection established to mx.tidepost.example[203.0.113.5]:25: TLSv1.3 with cipher TLS_AES_256_GCM_SHA384 (256/256 bits)",
    "Nov 20 10:01:01 mta1 postfix/smtp[12]: 4AAA1: to=<lee@tidepost.example>, relay=mx.tidepost.example[203.0.113.5]:25, delay=1, delays=1/0/0/0, dsn=2.0.0, status=sent (250 ok)",
    "Nov 20 10:01:02 mta1 postfix/smtp[13]: 4AAA1: to=<max@tidepost.example>, relay=mx.tidepost.example[203.0.113.5]:25, delay=1, delays=1/0/0/0, dsn=2.0.0, status=sent (250 ok)",
    "Nov 20 10:01:03 mta1 postfix/smtp[14]: 4AAA1: to=<ida@tidepost.example>, relay=mx.tidepost.example[203.0.113.5]:25, conn_use=2, delay=1, delays=1/0/0/0, dsn=2.0.0, status=sent (250 ok)",
    "Nov 20 10:01:04 mta1 postfix/smtp[12]: 4AAA1: to=<eva@orchard.example>, relay=mx.orchard.example[203.0.113.6]:25, delay=1, delays=1/0/0/0, dsn=2.0.0, status=sent (250 ok)",
]


@pytest.mark.parametrize("cut", range(len(TLS_LOG)))
def test_a_delivery_says_whether_it_was_encrypted_where_the_log_tells(cut: int) -> None:
    """Also when reading goes on in the middle. Before the first line on TLS nobody knows that the log tells of it."""
    now = datetime(2026, 11, 20, 12, tzinfo=UTC)
    rows = []
    state: dict[str, Any] | None = None
    for lines in (TLS_LOG[:cut], TLS_LOG[cut:]):
        reader = LogReader(state=state)
        rows += [made for line in lines for made in reader.read(line, now)]
        state = json.loads(json.dumps(reader.state()))
    tags = {made["recipient"].partition("@")[0]: made.get("tags") for made in rows if made["kind"] == "delivered"}
    assert tags == {"kim": None, "lee": ["tls"], "max": ["no-tls"], "ida": None, "eva": ["no-tls"]}
