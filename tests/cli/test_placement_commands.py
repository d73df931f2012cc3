"""`rustgauge seed`, `outlet` and `placement`, as somebody works with them in a terminal."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.seed import seed_folder
from rust_gauge.standins.seed_host import Box, SeedHost
from tests.conftest import Office
from tests.vectors.assay_messages import message


@pytest.fixture
def host(office: Office, monkeypatch: pytest.MonkeyPatch) -> Iterator[SeedHost]:
    monkeypatch.setattr(office.world.context.settings, "placement_hosts", ["127.0.0.1"])
    boxes = [Box(f"{name}@tidepost.example", "secret") for name in ("one", "two")]
    with SeedHost(
        "mx.tidepost.example", boxes, lambda box, _: "Spam" if box.address.startswith("two") else "INBOX",
        clock=office.world.clock,
    ) as made:  # fmt: skip
        yield made


@pytest.fixture
def password(tmp_path: Path) -> str:
    (tmp_path / "password").write_text("secret\n")
    return str(tmp_path / "password")


def add(run: Any, host: SeedHost, password: str, name: str, *more: str) -> tuple[int, str, str]:
    done: tuple[int, str, str] = run(
        "seed", "add", f"{name}@tidepost.example", "--host", "127.0.0.1", "--port", str(host.imap_port),
        "--security", "none", "--password-file", password, "--folder", "INBOX=inbox", "--folder", "Spam=spam", *more,
    )  # fmt: skip
    return done


def add_outlet(run: Any, host: SeedHost, *more: str) -> tuple[int, str, str]:
    done: tuple[int, str, str] = run(
        "outlet", "add", "office", "--host", "127.0.0.1", "--port", str(host.smtp_port), "--security", "none",
        "--mail-from", "b@news.glasswort.example", *more,
    )  # fmt: skip
    return done


def test_seeds_are_added_checked_changed_and_deleted(run: Any, host: SeedHost, password: str) -> None:
    status, out, _ = add(run, host, password, "one", "--list", "weekly", "--note", "bought in May")
    assert status == 0
    assert "one@tidepost.example at tidepost.example" in out
    assert "readable, 2 folders" in out
    assert "secret" not in out
    number = out.split()[0]
    assert "weekly" in run("seed", "list")[1]
    status, out, _ = run(
        "seed", "update", number, "--folder", "INBOX=inbox", "--folder", "Offers=other:Offers", "--off"
    )
    assert status == 3
    assert "The mailbox has no folder Offers" in out
    assert "Choose folders" in out
    assert "(off)" in out
    assert run("seed", "check", number)[0] == 3
    assert run("seed", "show", number)[0] == 0
    assert run("seed", "delete", number, "--yes")[0] == 0
    assert "No seeds yet." in run("seed", "list")[2]
    assert run("seed", "add", "a@tidepost.example")[0] == 2


@pytest.mark.parametrize(
    ("text", "values"),
    [("Spam=spam", ("Spam", "spam", "")), ("a=b=other:Offers: all", ("a=b", "other", "Offers: all"))],
)
def test_a_folder_and_its_meaning_are_read(text: str, values: tuple[str, str, str]) -> None:
    folder = seed_folder(text)
    assert (folder.folder, folder.means, folder.label) == values


@pytest.mark.parametrize("text", ["Spam", "=spam", "Spam=junk"])
def test_what_is_no_folder_says_how_one_is_written(text: str) -> None:
    with pytest.raises(UsageError, match="Write Spam=spam"):
        seed_folder(text)


def test_outlets_are_added_tested_changed_and_deleted(run: Any, host: SeedHost) -> None:
    status, out, _ = add_outlet(run, host, "--relay", "driftline", "--field", "X-Campaign: spring")
    assert status == 0
    assert ("field       X-Campaign: spring" in out, "checked     works" in out) == (True, True)
    assert "driftline" in run("outlet", "list")[1]
    status, out, _ = run("outlet", "update", "office", "--port", "1")
    assert status == 3
    assert "Nobody answers at 127.0.0.1" in out
    assert run("outlet", "check", "office")[0] == 3
    assert "office" in run("outlet", "show", "office")[1]
    assert run("outlet", "update", "office", "--field", "no field")[0] == 2
    assert run("outlet", "delete", "office", "--yes")[0] == 0
    assert "No outlets yet." in run("outlet", "list")[2]
    assert run("outlet", "add", "office")[0] == 2


def test_a_run_is_started_waited_for_and_read(
    run: Any, host: SeedHost, password: str, office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    add_outlet(run, host)
    for name in ("one", "two"):
        add(run, host, password, name)
    (tmp_path / "spring.eml").write_bytes(message())
    polls = []

    def work(_: float) -> None:
        """The workers do something while the command waits."""
        polls.append(1)
        office.world.clock.now = office.world.clock.now.replace(minute=len(polls))
        office.world.work()

    before = office.world.clock.now
    monkeypatch.setattr("time.sleep", work)
    status, out, _ = run("placement", "run", str(tmp_path / "spring.eml"), "--outlet", "office", "--wait")
    office.world.clock.now = before
    assert status == 3  # one copy is in spam
    assert "done" in out.splitlines()[0]
    (line,) = (line for line in out.splitlines() if line.startswith("tidepost.example"))
    assert "1 of 2" in line
    assert "9 and 91 %" in line
    assert [line.split()[2] for line in out.splitlines() if "@tidepost" in line] == ["inbox", "spam"]
    number = out.split()[1]
    assert json.loads(run("placement", "show", number, "--format", "json")[1])["copies"] == {"inbox": 1, "spam": 1}
    assert "done" in run("placement", "list")[1]
    assert run("placement", "wait", number)[0] == 3
    told = run("placement", "history", "--days", "400", "--outlet", "office", "--until", "2026-11-21")
    assert told[0] == 0
    assert told[1].startswith("1 run through office, 2025-10-18 to 2026-11-21")
    assert "1 of 2" in told[1]
    status, out, _ = run("placement", "run", "--outlet", "office")
    assert "(no message yet)" in out
    awaiting = out.split()[1]
    assert run("placement", "cancel", awaiting)[2] == f"Run {awaiting} is cancelled.\n"
    assert run("placement", "delete", number, "--yes")[0] == 0
    assert run("placement", "show", number)[0] == 1


def test_schedules_are_added_changed_paused_copied_run_and_deleted(
    run: Any, host: SeedHost, password: str, tmp_path: Path
) -> None:
    add(run, host, password, "one")
    add_outlet(run, host)
    (tmp_path / "spring.eml").write_bytes(message())
    assert "No schedules yet" in run("schedule", "list")[2]
    status, out, _ = run(
        "schedule", "add", "weekly", str(tmp_path / "spring.eml"), "--outlet", "office", "--every", "weekly",
        "--weekday", "1", "--hour", "9", "--alert-share", "50", "--without-provider", "none.example",
    )  # fmt: skip
    assert status != 0  # no seed is there
    status, out, _ = run(
        "schedule", "add", "weekly", str(tmp_path / "spring.eml"), "--outlet", "office", "--every", "weekly",
        "--weekday", "1", "--hour", "9", "--alert-share", "50",
    )  # fmt: skip
    assert status == 0
    assert "Mondays at 09:00 (UTC)" in out and "handed in" in out
    assert "from 50 % of a provider's copies, at least 2" in out
    status, out, _ = run("schedule", "update", "weekly", "--hour", "17", "--after-records", "--alert-share", "off")
    assert "Mondays at 17:00 (UTC), and after a change of records" in out
    assert "alert" not in out
    assert "weekly is paused." in run("schedule", "pause", "weekly")[2]
    assert "paused" in run("schedule", "list")[1]
    assert "weekly is on. Next run:" in run("schedule", "resume", "weekly")[2]
    assert "daily (paused)" in run("schedule", "copy", "weekly", "daily")[1]
    assert "Run " in run("schedule", "run", "daily")[2]
    assert run("schedule", "delete", "daily", "--yes")[0] == 0
    assert run("schedule", "show", "daily")[0] != 0
    assert run("schedule", "add", "x", "--outlet", "office", "--hour", "9")[0] == 2


def test_a_run_is_shared_listed_and_revoked(
    run: Any, office: Office, host: SeedHost, password: str, tmp_path: Path
) -> None:
    add(run, host, password, "one")
    add_outlet(run, host)
    (tmp_path / "spring.eml").write_bytes(message())
    made = json.loads(
        run("placement", "run", str(tmp_path / "spring.eml"), "--outlet", "office", "--format", "json")[1]
    )
    office.world.work()
    assert "of 100" in run("placement", "assay", str(made["id"]))[1]
    status, out, err = run("placement", "share", str(made["id"]), "--valid-days", "2", "--note", "for the client")
    assert (status, "/shared/" in out, "shown only now" in err) == (0, True, True)
    listed = json.loads(run("placement", "shares", str(made["id"]), "--format", "json")[1])
    assert [each["note"] for each in listed] == ["for the client"]
    assert run("placement", "unshare", str(made["id"]), str(listed[0]["id"]))[0] == 0
    assert "No links" in run("placement", "shares", str(made["id"]))[2]
