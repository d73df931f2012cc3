"""One dead process is one restart: it comes back by itself, and the others go on."""

import json
import os
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from rust_gauge.launch import supervisor as module
from rust_gauge.launch.mariadb import LaunchError
from rust_gauge.launch.supervisor import Part, Supervisor
from rust_gauge.launch.template import become_subreaper, reap_strangers
from tests.waiting import until

SLEEPER = """
import os, sys, time
open(sys.argv[1], "a").write(f"{os.getpid()}\\n")
time.sleep(600)
"""


@pytest.fixture(autouse=True)
def no_subreaper_afterwards() -> Iterator[None]:
    yield
    become_subreaper(False)


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


SHAPER = """
import os, sys, time
from rust_gauge.launch.template import fork_on_demand
kind = sys.argv[1]
if kind == "template":
    kind = fork_on_demand()
    if not kind:
        sys.exit(0)
open(os.environ["HOME_OF_TEST"] + "/" + kind, "a").write(f"{os.getpid()}\\n")
print(f"I am {kind}", flush=True)
time.sleep(600)
"""


@pytest.fixture
def forking(tmp_path: Path) -> Iterator[Supervisor]:
    (tmp_path / "shaper.py").write_text(SHAPER)
    made = Supervisor(tmp_path / "log")
    made.start_template("shaper", {"PYTHONPATH": str(tmp_path), "HOME_OF_TEST": str(tmp_path)})
    for kind in ("first", "second"):
        made.start_forked(kind, kind)
    watching = threading.Thread(target=made.run)
    watching.start()
    yield made
    made.stop_asked.set()
    watching.join(10)
    made.stop()
    for path in (tmp_path / "first", tmp_path / "second"):
        assert not any(Path(f"/proc/{pid}").exists() for pid in pids(path))


def parent_of(pid: int) -> int:
    return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])


def test_a_part_that_dies_is_forked_again(forking: Supervisor, tmp_path: Path) -> None:
    until(lambda: pids(tmp_path / "first") and pids(tmp_path / "second"))
    for round in range(5):
        pid = pids(tmp_path / "first")[-1]
        assert parent_of(pid) == os.getpid(), "its end is reported to us"
        os.kill(pid, signal.SIGKILL)
        until(lambda wanted=round + 2: len(pids(tmp_path / "first")) == wanted)
    assert len(pids(tmp_path / "second")) == 1, "the other went on"
    log = tmp_path / "log" / "first.log"
    until(lambda: log.read_text() == "I am first\n" * 6)
    assert log.stat().st_mode & 0o777 == 0o600
    template = forking.template
    assert template is not None
    assert Path(f"/proc/{template.process.pid}/task/{template.process.pid}/children").read_text() == ""


def test_without_a_template_parts_are_started_and_another_template_is_made(forking: Supervisor, tmp_path: Path) -> None:
    until(lambda: pids(tmp_path / "first") and pids(tmp_path / "second"))
    old = forking.template
    assert old is not None
    os.kill(old.process.pid, signal.SIGKILL)
    until(lambda: forking.template is not old and forking.template is not None and forking.template.is_ready())
    assert [len(pids(tmp_path / kind)) for kind in ("first", "second")] == [1, 1], "parts go on without it"
    assert forking.template is not None
    os.kill(forking.template.process.pid, signal.SIGKILL)  # and this one is not replaced at once
    forking.template.process.wait()
    os.kill(pids(tmp_path / "second")[-1], signal.SIGKILL)
    until(lambda: len(pids(tmp_path / "second")) == 2)


def test_a_template_that_cannot_import_ends_the_start(tmp_path: Path) -> None:
    (tmp_path / "shaper.py").write_text("import no_such_module_here")
    made = Supervisor(tmp_path / "log")
    try:
        with pytest.raises(LaunchError, match="no_such_module_here"):
            made.start_template("shaper", {"PYTHONPATH": str(tmp_path)})
    finally:
        made.stop()


def test_what_a_part_left_behind_is_reaped(tmp_path: Path) -> None:
    """A part's own processes become ours when it is killed; once they end, they must not stay as zombies."""
    become_subreaper()
    leaving = subprocess.run(
        [sys.executable, "-c", "import subprocess; print(subprocess.Popen(['true']).pid)"], capture_output=True
    )
    left = int(leaving.stdout)
    known = subprocess.Popen(["true"])
    os.waitid(os.P_PID, known.pid, os.WEXITED | os.WNOWAIT)
    until(lambda: reap_strangers({known.pid}) or not Path(f"/proc/{left}").exists())
    assert known.wait() == 0
