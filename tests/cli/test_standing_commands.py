"""Readings, the worklist, lines, alerts, paused streams and reports in the terminal."""

import json
import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import PASSWORD, Office
from tests.rows import bounce, ndjson, row

DOMAIN = "news.d.example"


@pytest.fixture
def loaded(office: Office) -> Iterator[Office]:
    """Twelve days of mail up to the real now, as commands count days from it; a third of the last three days bounces."""
    now = datetime.now(UTC)
    office.world.clock.now, kept = now, office.world.clock.now
    rows = []
    for back in range(12):
        at = (now - timedelta(days=back, minutes=5)).isoformat()
        for n in range(100):
            base = {"time": at, "message_id": f"{back}.{n}"}
            rows.append(bounce(n, **base) if back < 3 and n < 33 else row(n, **base))
    with office.client() as client:
        client.events.load(office.slug, ndjson(*rows))
        settings = client.worklist.settings(office.slug)
        client.worklist.set_settings(office.slug, settings.model_copy(update={"wait_minutes": 0, "resolve_hours": 0}))
    office.world.work()
    try:
        yield office
    finally:
        office.world.clock.now = kept


def items(done: tuple[int, str, str]) -> list[dict[str, Any]]:
    return [json.loads(line) for line in done[1].splitlines()]


def test_the_worklist_is_read_and_worked_on(loaded: Office, run: Any) -> None:
    run("worklist", "detect")  # what was just found waits
    done = run("worklist", "detect", "--format", "ndjson")
    assert done[0] == 3
    (item,) = [item for item in items(done) if item["title"].startswith("Bounces from invalid addresses")]
    id = str(item["id"])
    shown = run("worklist", "show", id)[1]
    assert "Remedy: Check the list of newsletter" in shown
    assert run("worklist", "assign", id, loaded.email)[0] == 3
    assert run("worklist", "comment", id, "asked for the list")[0] == 3
    out = run("worklist", "snooze", id, "--days", "2", "--reason", "the list is cleaned on Monday")[1]
    assert re.search(r"\(snoozed until 20", out)
    assert "asked for the list" in out
    assert items(run("worklist", "list", "--assigned-to", loaded.email, "--format", "ndjson")) == []
    snoozed = items(run("worklist", "list", "--state", "snoozed", "--format", "ndjson"))
    assert [(item["id"], item["assigned_to"]) for item in snoozed] == [(int(id), loaded.email)]
    assert run("worklist", "recheck", id)[1].rstrip().splitlines()[-1].count("Still a problem:") == 1
    assert json.loads(run("worklist", "show", id, "--format", "json")[1])["steps"][-1]["what"] == "rechecked"
    today = datetime.now(UTC).date()
    assert [item["id"] for item in items(run("worklist", "list", "--on", str(today), "--format", "ndjson"))] == [
        int(id)
    ]
    assert items(run("worklist", "list", "--on", str(today - timedelta(days=9)), "--format", "ndjson")) == []
    assert run("worklist", "acknowledge", id, "--format", "json")[0] == 3


def test_an_item_that_does_not_exist_and_a_day_that_is_none_are_named(loaded: Office, run: Any) -> None:
    status, _, err = run("worklist", "show", "999999999")
    assert (status, "has no item" in err) == (1, True)
    status, _, err = run("worklist", "list", "--on", "yesterday")
    assert (status, "'yesterday' is not a day" in err) == (2, True)
    assert run("worklist", "snooze", "1")[0] == 2


def test_lines_give_counts_and_confidence(loaded: Office, run: Any) -> None:
    done = run("worklist", "lines", "--format", "ndjson")
    rows = {(line["subject"], line["rate"]): line for line in items(done)}
    assert done[0] == 3
    assert rows["stream", "bounces"]["crossed"] == "stop"
    assert {line["name"] for line in items(done)} == {"newsletter", "office-1", DOMAIN, "tidepost.example"}
    assert "stop line" in run("worklist", "lines")[1]


def test_alerts_are_set_from_a_file_and_shown(loaded: Office, run: Any, tmp_path: Path) -> None:
    path = tmp_path / "alerts.json"
    settings = json.loads(run("alert", "settings", "--format", "json")[1])
    channel = {
        "kind": "mail", "name": "isla", "to": ["isla@skerry.example"], "quiet_from": "22:00", "quiet_to": "06:00",
    }  # fmt: skip
    path.write_text(json.dumps({**settings, "channels": [channel], "auto_pause": True}))
    out = run("alert", "settings", "--set", str(path))[1]
    assert "Stop automatically at a stop line: yes" in out
    assert "22:00 to 06:00" in out
    for _ in range(2):  # what was just found waits for the second detection
        run("worklist", "detect")
    sent = items(run("alert", "notifications", "--format", "ndjson"))
    assert {notification["channel"] for notification in sent} == {"isla"}
    assert any("Bounces from invalid addresses" in notification["title"] for notification in sent)
    path.write_text('{"channels": [{"kind": "pigeon"}]}')
    status, _, err = run("alert", "settings", "--set", str(path))
    assert (status, "rustgauge alert settings --format json" in err, len(err.splitlines())) == (2, True, 1)
    assert run("alert", "settings", "--set", str(tmp_path / "nowhere.json"))[0] == 2


def test_a_stream_is_paused_and_resumed_with_a_reason(loaded: Office, run: Any) -> None:
    assert run("stream", "pause", "newsletter")[0] == 2
    assert run("stream", "pause", "newsletter", "--relay", "office-1", "--reason", "wrong prices")[0] == 0
    status, out, _ = run("stream", "paused")
    assert (status, "wrong prices" in out) == (3, True)
    assert run("clearance", "kim@tidepost.example", "--stream", "newsletter", "--relay", "office-1")[0] == 3
    assert run("stream", "resume", "newsletter", "--relay", "office-1", "--reason", "corrected")[0] == 0
    assert run("stream", "paused")[0] == 0
    assert run("stream", "resume", "newsletter", "--relay", "office-1", "--reason", "again")[0] == 1


def test_a_report_is_read_and_written(loaded: Office, run: Any, tmp_path: Path) -> None:
    assert DOMAIN in run("report")[1]
    path = tmp_path / "report.html"
    assert f"written to {path}" in run("report", "--file", str(path))[2]
    assert DOMAIN in path.read_text("utf-8")
    assert run("report", "--file", str(tmp_path / "no" / "where.html"))[0] == 2
    assert "title" in json.loads(run("report", "--format", "json")[1])


def test_an_explanation_leads_to_the_events(loaded: Office, run: Any) -> None:
    out = run("reading", "explain", DOMAIN)[1]
    assert "invalid addresses of newsletter" in out
    command = out.rstrip().splitlines()[-1].removeprefix("Events: rustgauge ").split()
    assert len(items(run(*command, "--format", "ndjson"))) == 99
    status, _, err = run("reading", "explain", DOMAIN, "--since", "2020-01-01", "--until", "2020-01-02")
    assert (status, "does not have readings" in err) == (1, True)
    assert json.loads(run("reading", "explain", DOMAIN, "--format", "json")[1])["moves"][0]["factor"] == (
        "invalid_addresses"
    )


def test_a_search_is_narrowed_by_where_mail_came_from(loaded: Office, run: Any) -> None:
    count = {
        part: len(items(run("trail", *part.split(), "--limit", "2000", "--format", "ndjson")))
        for part in ("--stream newsletter", "--relay office-1", f"--domain {DOMAIN}", "--relay other", "--ip 192.0.2.1")
    }
    assert list(count.values()) == [1200, 1200, 1200, 0, 0]
    assert run("trail")[0] == 2
    today = str(datetime.now(UTC).date())
    assert len(items(run("event", "list", "--since", today, "--limit", "2000", "--format", "ndjson"))) <= 200


def test_a_forecast_says_when_it_is_sound_again(loaded: Office, run: Any) -> None:
    err = run("reading", "forecast", DOMAIN, "--remains", "invalid-addresses=0", "--days", "60")[2]
    assert re.search(r"Sound again on 20\d\d-", err)
    assert len(run("reading", "forecast", DOMAIN, "--days", "5")[1].splitlines()) == 6
    for words in (("--remains", "invalid_addresses"), ("--remains", "nothing=0"), ("--volume", "-1")):
        status, out, err = run("reading", "forecast", DOMAIN, *words)
        assert (status, out, len(err.splitlines())) == (2, "", 1), words
    assert len(json.loads(run("reading", "forecast", DOMAIN, "--format", "json")[1])["days"]) == 21


def test_headroom_names_lines_that_are_crossed(loaded: Office, run: Any) -> None:
    status, out, _ = run("reading", "headroom", DOMAIN)
    (line,) = [line for line in out.splitlines() if line.startswith("invalid addresses")]
    assert (status, "crossed" in line) == (3, True)


def test_annotations_are_added_and_removed(loaded: Office, run: Any) -> None:
    assert run("reading", "annotate", "the list was cleaned", "--domain", DOMAIN)[0] == 0
    (note,) = [a for a in items(run("reading", "annotations", "--format", "ndjson")) if a["kind"] == "annotation"]
    assert (note["domain"], note["text"]) == (DOMAIN, "the list was cleaned")
    assert run("reading", "remove-annotation", str(note["id"]))[0] == 2, "nobody can be asked here"
    assert run("reading", "remove-annotation", str(note["id"]), "--yes")[0] == 0
    assert [a for a in items(run("reading", "annotations", "--format", "ndjson")) if a["kind"] == "annotation"] == []
    assert run("reading", "remove-annotation", str(note["id"]), "--yes")[0] == 1
    assert run("reading", "annotate", "x", "--on", "soon")[0] == 2


def test_the_parameters_of_readings_are_shown_with_what_is_changed(loaded: Office, run: Any, tmp_path: Path) -> None:
    rows = items(run("reading", "settings", "--format", "ndjson"))
    assert {factor["name"] for factor in rows} >= {"complaints", "invalid_addresses", "volume", "record_faults"}
    path = tmp_path / "settings.json"
    path.write_text('{"factors": {"delays": {"weight": -5}}}')
    status, _, err = run("reading", "settings", "--set", str(path))
    assert (status, "factors.delays.weight" in err) == (2, True)
    path.write_text("{")
    status, _, err = run("reading", "settings", "--set", str(path))
    assert (status, "line 1, column 2" in err) == (2, True)


def test_readings_of_a_stream_and_of_one_provider(loaded: Office, run: Any) -> None:
    with loaded.world.clock.later(timedelta(minutes=10)):
        loaded.world.work()
    assert "invalid addresses" in run("reading", "show", "newsletter", "--subject", "stream")[1]
    status, _, err = run("reading", "newsletter", "--subject", "stream")
    assert (status, "is not a verb of reading" in err) == (2, True)
    assert run("reading", "show", "newsletter", "--subject", "relay")[0] == 1
    assert "at tidepost.example" in run("reading", DOMAIN, "--provider", "tidepost.example")[1]
    yesterday = str(datetime.now(UTC).date() - timedelta(days=1))
    assert DOMAIN in run("wall", "--until", yesterday)[1]
    assert run("wall", "--until", "2199-01-01")[0] == 1
    assert run("wall", "--until", "soon")[0] == 2


def test_a_token_is_made_with_a_password_and_works(
    office: Office, run: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    password = tmp_path / "password"
    password.write_text(PASSWORD + "\n")
    status, out, said = run("token", "add", "import", "--email", office.email, "--password-file", str(password))
    assert (status, out.startswith("rgt_")) == (0, True), said
    monkeypatch.setenv("RUSTGAUGE_TOKEN", out.strip())
    status, out, _ = run("tenant", "list", "--format", "json")
    assert (status, [tenant["slug"] for tenant in json.loads(out)]) == (0, [office.slug])


def test_names_of_events_are_listed(run: Any, office: Office) -> None:
    status, out, _ = run("flow", "names", "--format", "json")
    assert status == 0
    assert set(json.loads(out)) == {"streams", "relays", "ips", "campaigns", "tags"}
