"""One dead process is one restart: it comes back by itself, and the others go on."""

import json
import os
import signal
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from rust_gauge.launch import supervisor as module
from rust_gauge.launch.supervisor import Part, Supervisor
from tests.waiting import until

SLEEPER = """
import os, sys, time
open(sys.argv[1], "a").write(f"{os.getpid()}\\n")
time.sleep(600)
"""


@pytest.fixture
def watched(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[tuple[Supervisor, Path]]:
    (tmp_path / "sleeper.py").write_text(SLEEPER)
    made = Supervisor(tmp_path / "log")
    environment = {"PYTHONPATH": str(tmp_path)}
    for name in ("first", "second"):
        made.start(name, ["sleeper", str(tmp_path / name)], environment)
    made.start("broken", ["no_such_module_here"], {})
    watching = threading.Thread(target=made.run)
    watching.start()
    yield made, tmp_path
    made.stop_asked.set()
    watching.join(10)
    made.stop()


def pids(path: Path) -> list[int]:
    return [int(line) for line in path.read_text().splitlines()] if path.exists() else []


def test_a_killed_part_comes_back_while_another_keeps_dying(watched: tuple[Supervisor, Path]) -> None:
    made, home = watched
    until(lambda: len(pids(home / "first")) == 1 and len(pids(home / "second")) == 1)
    for round in range(3):
        os.kill(pids(home / "first")[-1], signal.SIGKILL)
        until(lambda wanted=round + 2: len(pids(home / "first")) == wanted)
    assert len(pids(home / "second")) == 1, "the other went on"
    broken = next(part for part in made.parts if part.name == "broken")
    until(lambda: broken.restarts >= 2)
    first = next(part for part in made.parts if part.name == "first")
    assert (first.restarts, first.failures) == (3, 3)
    notes = [json.loads(line) for line in (home / "log" / "restarts.ndjson").read_text().splitlines()]
    assert sum(note["part"] == "first" for note in notes) == 3


def test_the_pause_grows_to_a_minute_and_not_further() -> None:
    part = Part("x", [], {}, None, 0.0)  # type: ignore[arg-type]
    pauses = []
    for failures in (1, 2, 3, 5, 9, 30, 2000):
        part.failures = failures
        pauses.append(part.pause)
    assert pauses == sorted(pauses)
    assert (pauses[0], pauses[-1]) == (0.2, 60.0)


def test_a_part_that_has_run_long_enough_begins_anew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "sleeper.py").write_text(SLEEPER)
    monkeypatch.setattr(module, "_STEADY", -1.0)
    made = Supervisor(tmp_path / "log")
    made.start("part", ["sleeper", str(tmp_path / "part")], {"PYTHONPATH": str(tmp_path)})
    made.parts[0].failures = 7
    made._revive(made.parts[0])
    assert made.parts[0].failures == 0
    made.stop()


def test_logs_are_for_their_user_only_and_do_not_grow_without_end(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(module, "_LARGEST_LOG", 100)
    made = Supervisor(tmp_path / "log")
    (tmp_path / "talker.py").write_text("import time\nprint('x' * 300, flush=True)\ntime.sleep(600)\n")
    made.start("talker", ["talker"], {"PYTHONPATH": str(tmp_path)})
    path = tmp_path / "log" / "talker.log"
    try:
        until(lambda: path.stat().st_size > 100)
        assert (path.stat().st_mode & 0o777, path.parent.stat().st_mode & 0o777) == (0o600, 0o700)
        made._rotate_logs()
        assert path.stat().st_size == 0
        assert path.with_name("talker.log.1").stat().st_size > 300
        path.write_text("y" * 200)
        made._rotate_logs()
        assert path.with_name("talker.log.2").read_text().startswith("x")
        assert path.with_name("talker.log.1").read_text().startswith("y")
    finally:
        made.stop()
