"""The twelve pieces by commands. Each walk is what a person types, and what has to stand in the answer."""

import re
from datetime import UTC, datetime, timedelta

from tests.days.walking import Terminal

_YESTERDAY = (datetime.now(UTC) - timedelta(days=1)).date().isoformat()  # the demo is of today
LOG = """\
YESTERDAYT07:00:01+00:00 tram-web postfix/qmgr[813]: 4A1B2C3D01: from=<notices@copperline.example>, size=812, nrcpt=1 (queue active)
YESTERDAYT07:00:03+00:00 tram-web postfix/smtp[814]: 4A1B2C3D01: to=<ann@tidepost.example>, relay=mx1.tidepost.example[192.0.2.5]:25, delay=1.9, delays=0.1/0/0.8/1, dsn=2.0.0, status=sent (250 2.0.0 Ok: queued as 77)
YESTERDAYT07:05:01+00:00 tram-web postfix/qmgr[813]: 4A1B2C3D02: from=<shop@members.copperline.example>, size=912, nrcpt=1 (queue active)
YESTERDAYT07:05:03+00:00 tram-web postfix/smtp[814]: 4A1B2C3D02: to=<ben@kbox.example>, relay=mx.kestrelbox.example[192.0.2.6]:25, delay=1.9, delays=0.1/0/0.8/1, dsn=5.7.26, status=bounced (host mx.kestrelbox.example[192.0.2.6] said: 550 5.7.26 This mail is not authenticated (in reply to end of DATA command))
""".replace("YESTERDAY", _YESTERDAY)
SAMPLE = """\
{"parcels": [{"letter": "{\\"what\\": \\"refused\\", \\"at\\": \\"YESTERDAYT09:00:00Z\\", \\"to\\": \\"Kim Reed <kim@tidepost.example>\\", \\"said\\": \\"550 5.1.1 no such mailbox\\"}"}]}
""".replace("YESTERDAY", _YESTERDAY)
MAPPING = """\
{"unwrap": [{"at": "$.parcels[*].letter", "form": "json"}], "rows": "$.parcels[*].letter",
 "fields": {"kind": {"path": "$.what", "table": {"refused": "bounced"}}, "time": {"path": "$.at"},
            "recipient": {"path": "$.to"}, "domain": {"constant": "marramferries.example"}, "diagnostic": {"path": "$.said"}}}
"""


def subdomain(terminal: Terminal) -> None:
    terminal.run("plan", "boxoffice.glasswort.example", says="the zone name appears twice", status=3)
    terminal.run("watch", "boxoffice.glasswort.example", says="servers have all 9 records", status=3)
    terminal.run("audit", "boxoffice.glasswort.example", says="FAULT", status=3)


def failing_key(terminal: Terminal) -> None:
    terminal.run("audit", "news.glasswort.example", says="a backslash and a quote inside the key", status=3)
    terminal.run("plan", "news.glasswort.example", says="d2._domainkey|_domainkey", status=3)


def server(terminal: Terminal) -> None:
    (terminal.folder / "server.log").write_text(LOG)
    terminal.run("feed", "add", "tram-web", "--kind", "http", "--relay", "tram-web", "--tenant", "copperline",
                 says="address")  # fmt: skip
    terminal.run("event", "import", "server.log", "--feed", "tram-web", "--tenant", "copperline", says="4 stored")
    terminal.run("trail", "ben@kbox.example", "--tenant", "copperline", says="This mail is not authenticated")
    terminal.run("audit", "check-spf", "198.51.100.77", "notices@copperline.example", "--tenant", "copperline",
                 says="2 SPF records", status=3)  # fmt: skip
    terminal.run("plan", "copperline.example", says="several SPF records are a permanent error", status=3)


def pipeline(terminal: Terminal) -> None:
    (terminal.folder / "sample.json").write_text(SAMPLE)
    (terminal.folder / "mapping.json").write_text(MAPPING)
    terminal.run("feed", "test-mapping", "sample.json", "--mapping", "mapping.json", "--tenant", "marram",
                 says="kim@tidepost.example")  # fmt: skip
    terminal.run("worklist", "lines", "--tenant", "glasswort", says="stop line", status=3)
    terminal.run("suppression", "list", "--tenant", "glasswort", "--limit", "5",
                 says="invalid address")  # fmt: skip
    terminal.run("webhook", "list", "--tenant", "marram", says="http")


def person(terminal: Terminal) -> None:
    found = terminal.run("trail", "--reply", "quota", "--tenant", "glasswort", "--limit", "5", says="quota")
    address = re.search(r"\S+@\S+\.example", found)
    assert address is not None
    terminal.run("trail", address[0], "--tenant", "glasswort", says="quota")
    terminal.run("suppression", "show", address[0], "--tenant", "glasswort", says=re.escape(address[0]))


def brought_list(terminal: Terminal) -> None:
    terminal.run("clearance", "check-list", "var/demo/spring-catalogue.csv", "--tenant", "thornfield",
                 says="would_bounce", status=3)  # fmt: skip
    terminal.run("clearance", "split", "var/demo/spring-catalogue.csv", "--tenant", "thornfield",
                 says="clear in", status=3)  # fmt: skip


def another_score(terminal: Terminal) -> None:
    listed = terminal.run("tray", "messages", "paths", "--tenant", "glasswort", says="This week at Glasswort")
    newest = re.findall(r"^ *(\d+) ", listed, re.MULTILINE)
    terminal.run("tray", "compare", "paths", newest[-1], newest[0], "--tenant", "glasswort", says="mark")
    terminal.run("tray", "templates", "paths", "--tenant", "glasswort", says="This week at Glasswort")


def staging(terminal: Terminal) -> None:
    listed = terminal.run("tray", "messages", "booking-staging", "--tenant", "marram", says="message")
    newest = re.findall(r"^ *(\d+) ", listed, re.MULTILINE)[0]
    terminal.run("tray", "wait", "booking-staging", "--tenant", "marram", says="Subject|subject")
    terminal.run("tray", "assay", "booking-staging", newest, "--fail-on", "fault", "--tenant", "marram",
                 says="No DKIM signature", status=3)  # fmt: skip
    terminal.run("tray", "conversation", "booking-staging", newest, "--tenant", "marram", says="EHLO|MAIL FROM")


def landing(terminal: Terminal) -> None:
    terminal.run("placement", "history", "--tenant", "glasswort", says="turned for the worse", status=3)
    terminal.run("reading", "explain", "news.glasswort.example", says="news.glasswort.example")
    terminal.run("schedule", "list", "--tenant", "glasswort", says="weekly|every|hours|h")


def warm_up(terminal: Terminal) -> None:
    terminal.run("warmup", "--tenant", "halyard", says="Waits at this step: deferrals", status=(0, 3))
    terminal.run("warmup", "days", "reminders", "--tenant", "halyard", says="step")
    terminal.run("warmup", "cut", "reminders", "var/demo/patients.csv", "--into", "portions", "--tenant", "halyard",
                 says="portion")  # fmt: skip


def proving(terminal: Terminal) -> None:
    terminal.run("proof", "senders", "--tenant", "copperline", says="not verified", status=3)
    started = terminal.run(
        "proof", "start", "copperline.example", "--tenant", "copperline", says="_rustgauge", status=3
    )
    record = re.search(r'"(rustgauge-proof=\w+)"', started)
    assert record is not None
    with (terminal.folder / "var" / "demo" / "zones" / "copperline.example.zone").open("a") as zone:
        zone.write(f'_rustgauge IN TXT "{record[1]}"\n')  # what the owner of the domain does
    terminal.run("proof", "recheck", "copperline.example", "--tenant", "copperline", says="verified")
    # How much of a limit is used, and whether a ceiling is passed, depends on the hour.
    terminal.run("relay", "usage", "cobble", "--tenant", "copperline", says="limit", status=(0, 3))


def monday(terminal: Terminal) -> None:
    terminal.run("wall", says="copperline.example")
    terminal.run("worklist", says="stop", status=3)
    terminal.run("flow", "--tenant", "glasswort", says="Kestrelbox")
    terminal.run("report", "--tenant", "copperline", says="messages delivered in 7 days")
    terminal.run("report", "share", "--tenant", "copperline", says="/shared-report/")
