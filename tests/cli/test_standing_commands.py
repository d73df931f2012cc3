"""Readings, the worklist, lines, alerts, brakes and reports in the terminal."""

import csv
import io
import json
import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Office
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
        client.worklist.put_settings(office.slug, settings.model_copy(update={"wait_minutes": 0, "well_hours": 0}))
    office.world.work()
    try:
        yield office
    finally:
        office.world.clock.now = kept


def table(text: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(text)))


def test_the_worklist_is_looked_at_read_and_worked_on(loaded: Office, run: Any) -> None:
    run("worklist", "--look")  # what is just found waits
    status, out, _ = run("worklist", "--look", "--format", "csv")
    assert status == 3
    (item,) = [each for each in table(out) if each["what"].startswith("Bounces of bad addresses")]
    id = item["item"]
    shown = run("work", id)[1]
    assert "What to do: Check the list of newsletter" in shown
    assert "found" in shown
    assert run("work", id, "--assign", "bram@skerry.example", "--comment", "asked for the list")[0] == 3
    out = run("work", id, "--put-off", "2", "--why", "the list is cleaned on Monday")[1]
    assert re.search(r"put off +\S+ +until 20", out)
    assert "asked for the list" in out
    assert table(run("worklist", "--assigned-to", "bram@skerry.example", "--format", "csv")[1]) == []
    put_off = table(run("worklist", "--state", "put_off", "--format", "csv")[1])
    assert [(each["item"], each["who"]) for each in put_off] == [(id, "bram@skerry.example")]
    assert run("work", id, "--remeasure")[1].rstrip().splitlines()[-1].count("Still so:") == 1
    assert json.loads(run("work", id, "--format", "json")[1])["steps"][-1]["what"] == "remeasured"
    today = datetime.now(UTC).date()
    assert [each["item"] for each in table(run("worklist", "--on", str(today), "--format", "csv")[1])] == [id]
    assert table(run("worklist", "--on", str(today - timedelta(days=9)), "--format", "csv")[1]) == []


def test_an_item_that_is_not_there_and_a_day_that_is_none_are_told_so(loaded: Office, run: Any) -> None:
    status, _, err = run("work", "999999999")
    assert (status, "has no item" in err) == (1, True)
    assert run("worklist", "--on", "yesterday")[0] == 2
    status, _, err = run("work", "1", "--put-off", "1")
    assert (status, "say why" in err) == (1, True)


def test_lines_say_how_sure_they_are(loaded: Office, run: Any) -> None:
    status, out, _ = run("lines", "--format", "csv")
    rows = {(each["of"], each["rate"]): each for each in table(out)}
    assert status == 3
    assert rows["stream", "bounces"]["crossed"] == "stop"
    assert {each["name"] for each in table(out)} == {"newsletter", "office-1", DOMAIN, "tidepost.example"}
    assert "stop" in run("lines")[1]


def test_alerts_are_set_from_a_file_and_shown(loaded: Office, run: Any, tmp_path: Path) -> None:
    path = tmp_path / "alerts.json"
    settings = json.loads(run("alerts", "--format", "json")[1])
    way = {"kind": "mail", "name": "isla", "to": ["isla@skerry.example"], "quiet_from": "22:00", "quiet_to": "06:00"}
    path.write_text(json.dumps({**settings, "ways": [way], "brake": True}))
    out = run("alerts", "--keep", str(path))[1]
    assert "the brake is on" in out
    assert "22:00 to 06:00 UTC" in out
    for _ in range(2):  # what is just found waits for the second look
        run("worklist", "--look")
    told = table(run("alerts", "--told", "--format", "csv")[1])
    assert {each["way"] for each in told} == {"isla"}
    assert any("Bounces of bad addresses" in each["title"] for each in told)
    path.write_text('{"ways": [{"kind": "pigeon"}]}')
    status, _, err = run("alerts", "--keep", str(path))
    assert (status, "rustgauge alerts --format json" in err) == (2, True)
    assert run("alerts", "--keep", str(tmp_path / "nowhere.json"))[0] == 2


def test_a_stream_is_held_and_let_go_with_a_reason(loaded: Office, run: Any) -> None:
    assert run("brakes", "--hold", "newsletter")[0] == 2
    status, out, _ = run("brakes", "--hold", "newsletter", "--relay", "office-1", "--why", "wrong prices")
    assert (status, "wrong prices" in out) == (3, True)
    assert run("clearance", "kim@tidepost.example", "--stream", "newsletter", "--relay", "office-1")[0] == 3
    status, out, _ = run("brakes", "--release", "newsletter", "--relay", "office-1", "--why", "mended")
    assert (status, "newsletter" in out) == (0, False)
    assert run("brakes", "--release", "newsletter", "--relay", "office-1", "--why", "again")[0] == 1


def test_a_report_is_read_and_kept(loaded: Office, run: Any, tmp_path: Path) -> None:
    assert DOMAIN in run("report")[1]
    path = tmp_path / "report.html"
    assert f"written to {path}" in run("report", "--file", str(path))[1]
    assert DOMAIN in path.read_text("utf-8")
    assert run("report", "--file", str(tmp_path / "no" / "where.html"))[0] == 2
    assert "title" in json.loads(run("report", "--format", "json")[1])


def test_what_moved_a_reading_leads_to_its_events(loaded: Office, run: Any) -> None:
    out = run("moved", DOMAIN)[1]
    assert "bad addresses of newsletter" in out
    command = out.rstrip().splitlines()[-1].removeprefix("Its events: rustgauge ").split()
    trail = run(*command, "--format", "csv")[1]
    assert len(table(trail)) == 99
    status, _, err = run("moved", DOMAIN, "--first", "2020-01-01", "--last", "2020-01-02")
    assert (status, "no readings" in err) == (1, True)
    assert json.loads(run("moved", DOMAIN, "--format", "json")[1])["moves"][0]["factor"] == "bad_addresses"


def test_a_trail_is_narrowed_by_where_mail_came_from(loaded: Office, run: Any) -> None:
    count = {
        part: len(table(run("trail", *part.split(), "--limit", "2000", "--format", "csv")[1]))
        for part in ("--stream newsletter", "--relay office-1", f"--domain {DOMAIN}", "--relay other", "--ip 192.0.2.1")
    }
    assert list(count.values()) == [1200, 1200, 1200, 0, 0]
    assert run("trail")[0] == 2


def test_what_would_follow_is_a_table_with_the_day_it_is_sound_again(loaded: Office, run: Any) -> None:
    out = run("ahead", DOMAIN, "--remains", "bad-addresses=0", "--days", "60")[1]
    assert re.search(r"Sound again on 20\d\d-", out)
    rows = table(run("ahead", DOMAIN, "--days", "5", "--format", "csv")[1])
    assert len(rows) == 5
    for words in (("--remains", "bad_addresses"), ("--remains", "nothing=0"), ("--volume", "-1")):
        assert run("ahead", DOMAIN, *words)[0] in (1, 2)
    assert len(json.loads(run("ahead", DOMAIN, "--format", "json")[1])["days"]) == 21


def test_how_much_room_there_is_says_what_is_past(loaded: Office, run: Any) -> None:
    status, out, _ = run("room", DOMAIN, "--format", "csv")
    (bad,) = [each for each in table(out) if each["factor"] == "bad addresses"]
    assert (status, bad["until the watch line"]) == (3, "past it")


def test_notes_are_kept_and_taken_away(loaded: Office, run: Any) -> None:
    out = run("notes", "--add", "the list was cleaned", "--domain", DOMAIN, "--format", "csv")[1]
    (note,) = [each for each in table(out) if each["what"] == "note"]
    assert (note["of"], note["text"]) == (DOMAIN, "the list was cleaned")
    out = run("notes", "--drop", note["note"], "--format", "csv")[1]
    assert [each for each in table(out) if each["what"] == "note"] == []
    assert run("notes", "--drop", note["note"])[0] == 1
    assert run("notes", "--add", "x", "--day", "soon")[0] == 2


def test_the_parameters_of_readings_are_shown_with_what_is_changed(loaded: Office, run: Any, tmp_path: Path) -> None:
    rows = table(run("reading-settings", "--format", "csv")[1])
    assert {each["factor"] for each in rows} >= {"complaints", "bad addresses", "volume", "audit"}
    path = tmp_path / "settings.json"
    path.write_text('{"factors": {"delays": {"weight": -5}}}')
    assert run("reading-settings", "--keep", str(path))[0] in (1, 2)
    path.write_text("{")
    status, _, err = run("reading-settings", "--keep", str(path))
    assert (status, "It looks like" in err) == (2, True)


def test_readings_of_a_stream_and_of_one_provider(loaded: Office, run: Any) -> None:
    with loaded.world.clock.later(timedelta(minutes=10)):
        loaded.world.work()
    out = run("reading", "newsletter", "--subject", "stream")[1]
    assert "bad addresses" in out
    assert run("reading", "newsletter", "--subject", "relay")[0] == 1
    assert "at tidepost.example" in run("reading", DOMAIN, "--provider", "tidepost.example")[1]
    yesterday = str(datetime.now(UTC).date() - timedelta(days=1))
    assert DOMAIN in run("wall", "--last", yesterday)[1]
    assert run("wall", "--last", "2199-01-01")[0] == 1
    assert run("wall", "--last", "soon")[0] == 2
