"""`rustgauge warmup`, as somebody works with it in a terminal."""

import json
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.cli.warmup import turn_of
from rust_gauge.client import Client
from rust_gauge.contract.warmup import WarmupPlan, WarmupTrack
from tests.conftest import Office
from tests.rows import ndjson, row


@pytest.fixture
def plan(run: Any, office: Office, client: Client) -> str:
    past = (office.world.clock.now - timedelta(days=40)).isoformat()
    client.events.load(office.slug, ndjson(row(1, time=past, domain="old.d.example", recipient="a@tidepost.example")))
    status, out, _ = run(
        "warmup", "add", "spring", "--domain", "news.d.example", "--ceiling", "100", "--ceiling", "200", "--ceiling",
        "400", "--hour", "12", "--hour", "13", "--share", "tidepost.example=40",
    )  # fmt: skip
    assert status == 0
    return str(out)


def test_a_plan_is_added_shown_and_overruled(run: Any, plan: str) -> None:
    assert "spring (running)" in plan
    assert "3, 100 to 400 messages a day, custom" in plan
    assert "hours       12, 13 (UTC)" in plan
    assert "Nothing" not in run("warmup", "list")[1]
    status, out, _ = run("warmup")
    assert status == 0
    assert "tidepost.example  1 of 3       40           0        25  begun" in out
    status, out, _ = run(
        "warmup", "overrule", "spring", "2", "--provider", "tidepost.example", "--reason", "They agreed by mail"
    )
    assert status == 0
    assert "Set by a person: They agreed by mail (Isla Mackay)" in out
    assert json.loads(run("warmup", "show", "spring", "--format", "json")[1])["tracks"][0]["per_day"] == 80
    status, out, _ = run("warmup", "update", "spring", "--ceiling", "500", "--ceiling", "900", "--no-hold-back")
    assert "does not hold back" in out
    assert "running" in run("warmup", "resume", "spring")[2]
    assert "paused" in run("warmup", "pause", "spring")[2]
    status, out, _ = run("warmup", "days", "spring", "--since", "2026-11-01")
    assert "2026-11-20  tidepost.example" in out
    assert run("warmup", "delete", "spring", "--yes")[0] == 0
    assert "No plans yet" in run("warmup", "list")[2]
    assert "No plan is under way" in run("warmup")[2]


def test_a_ceiling_that_is_passed_ends_with_3(run: Any, office: Office, client: Client, plan: str) -> None:
    now = office.world.clock.now
    rows = [row(n, time=(now - timedelta(seconds=n)).isoformat()) for n in range(45)]
    client.events.load(office.slug, ndjson(*rows))
    status, _, err = run("warmup")
    assert status == 3
    assert "spring: tidepost.example got 45 messages today, 5 over the ceiling." in err


def test_steps_can_be_looked_at_before(run: Any) -> None:
    status, out, err = run("warmup", "preview", "--target", "20000", "--steps", "7", "--hour", "9", "--hour", "10")
    assert status == 0
    assert out.splitlines()[1].split() == ["1", "50", "32"]
    assert out.splitlines()[-1].split() == ["7", "20000", "12500"]
    assert "2026-11-20 to 2026-11-26, if nothing is held back." in err
    assert run("warmup", "preview")[1].splitlines()[-1].split()[:2] == ["28", "5000"]
    assert "needs a target" in run("warmup", "add", "x", "--domain", "d.example")[2]
    assert "is not a share" in run("warmup", "add", "x", "--domain", "d.example", "--share", "tidepost.example=much")[2]


def test_a_list_is_cut_into_files_and_calendars(
    run: Any, office: Office, tmp_path: Path, plan: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("rust_gauge.cli.jobs_wait.time.sleep", lambda _: office.world.work())
    source = tmp_path / "patients.csv"
    source.write_text("email,opened\n" + "".join(f"p{n}@tidepost.example,2026-10-{n % 28 + 1:02}\n" for n in range(70)))
    status, out, err = run(
        "warmup", "cut", "spring", str(source), "--engagement", "opened", "--into", str(tmp_path / "out")
    )
    assert status == 0
    assert "2026-11-20 12:00  20261120T12.csv        25  tidepost.example 25" in out
    assert "70 rows: 70 in 3 portions up to 2026-11-21, 0 removed, 0 left over." in err
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == [
        "20261120T12.csv", "20261120T13.csv", "20261121T12.csv", "calendar.csv", "calendar.ics",
    ]  # fmt: skip
    lines = (tmp_path / "out" / "20261120T12.csv").read_text().splitlines()
    assert lines[0] == "email,opened"
    assert len(lines) == 26


@pytest.mark.parametrize(
    ("step", "turn", "shown"),
    [(2, "next", "goes on"), (3, "next", "last step"), (3, "wait", "waits"), (3, "set", "set by a person")],
)
def test_no_step_is_announced_after_the_last(step: int, turn: Any, shown: str) -> None:
    track = WarmupTrack.model_construct(step=step, turn=turn)
    assert turn_of(track, WarmupPlan.model_construct(steps=[10, 20, 40])) == shown
