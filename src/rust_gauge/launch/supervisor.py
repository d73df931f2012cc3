"""Runs the parts as processes of this one, watches them, and stops everything in the right order.

A part that dies is started again by itself, with a growing pause while it keeps dying; the others go on.
"""

import json
import os
import shutil
import signal
import ssl
import subprocess
import sys
import threading
import time
import urllib.request
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType

from rust_gauge.launch.mariadb import LaunchError, PrivateMariaDb

_FIRST_PAUSE, _LONGEST_PAUSE = 0.2, 60.0  # seconds before a part is started again
_LARGEST_LOG, _OLD_LOGS = 50 * 1024 * 1024, 5  # octets of a log until it is put aside, and how many are kept
# Of the service on this machine, which answers for its public name: it is asked whether it is ready, and told nothing.
_ANY_CERTIFICATE = ssl._create_unverified_context()
_STEADY = 60.0  # seconds after which a part that runs is taken to be well


@dataclass
class Part:
    """One process: how it is started, and how it fared."""

    name: str
    arguments: list[str]
    environment: dict[str, str]
    process: subprocess.Popen[bytes]
    started: float
    failures: int = 0  # in a row
    restarts: int = 0
    due: float | None = None  # when it is started again, while it is down

    @property
    def pause(self) -> float:
        """Seconds to wait before it is started again."""
        return float(min(_LONGEST_PAUSE, _FIRST_PAUSE * 2 ** min(20, max(0, self.failures - 1))))


@dataclass
class Supervisor:
    """Parts in the order in which they were started; they are stopped in the opposite one."""

    log_dir: Path
    database: PrivateMariaDb | None = None
    parts: list[Part] = field(default_factory=list)
    stop_asked: threading.Event = field(default_factory=threading.Event)

    def catch_signals(self) -> None:
        """Ctrl-C and SIGTERM ask for a clean stop; a second Ctrl-C changes nothing."""

        def ask(_signal: int, _frame: FrameType | None) -> None:
            self.stop_asked.set()

        signal.signal(signal.SIGINT, ask)
        signal.signal(signal.SIGTERM, ask)

    def raise_if_asked(self) -> None:
        """KeyboardInterrupt once a stop was asked for: for long work between starting the parts."""
        if self.stop_asked.is_set():
            raise KeyboardInterrupt

    def start(self, name: str, arguments: list[str], environment: dict[str, str]) -> None:
        """Start `python -m <arguments>`; its output goes to `<name>.log`."""
        process = self._launch(name, arguments, environment)
        self.parts.append(Part(name, arguments, environment, process, time.monotonic()))

    def _launch(self, name: str, arguments: list[str], environment: dict[str, str]) -> subprocess.Popen[bytes]:
        self.log_dir.mkdir(parents=True, exist_ok=True)
        self.log_dir.chmod(0o700)
        log = os.fdopen(os.open(self.log_dir / f"{name}.log", os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "ab")
        process = subprocess.Popen(
            [sys.executable, "-m", *arguments],
            env={**os.environ, **environment},
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
        log.close()
        return process

    def wait_for(self, url: str, within: float = 60) -> None:
        """Wait until `url` answers 200. LaunchError when it does not, or a part ended."""
        end = time.monotonic() + within
        while time.monotonic() < end and not self.stop_asked.is_set():
            self.check()
            try:
                with urllib.request.urlopen(url, timeout=2, context=_ANY_CERTIFICATE) as response:
                    if response.status == 200:
                        return
            except OSError:
                self.stop_asked.wait(0.05)
        if not self.stop_asked.is_set():
            raise LaunchError(f"{url} did not answer within {within:g} s. Logs are in {self.log_dir}")

    def check(self) -> None:
        """LaunchError when a part has ended: at the start nothing that dies is worth another try."""
        for part in self.parts:
            if part.process.poll() is not None:
                raise LaunchError(self._end_of(part))

    def _end_of(self, part: Part) -> str:
        path = self.log_dir / f"{part.name}.log"
        tail = "\n".join(path.read_text("utf-8", "replace").splitlines()[-12:]) if path.exists() else ""
        return f"The {part.name} ended by itself ({part.process.returncode}). From {path}:\n{tail}"

    def run(self) -> None:
        """Watch until a stop is asked for; whatever dies meanwhile is started again."""
        turn = 0
        while not self.stop_asked.wait(0.1):
            turn += 1
            if turn % 600 == 0:
                self._rotate_logs()
            self._revive_database()
            for part in self.parts:
                self._revive(part)

    def _rotate_logs(self) -> None:
        """Put large logs aside. The parts go on writing into the same file, which is emptied."""
        for part in self.parts:
            path = self.log_dir / f"{part.name}.log"
            if not path.exists() or path.stat().st_size < _LARGEST_LOG:
                continue
            for number in range(_OLD_LOGS - 1, 0, -1):
                older = path.with_name(f"{path.name}.{number}")
                if older.exists():
                    older.replace(path.with_name(f"{path.name}.{number + 1}"))
            shutil.copy2(path, path.with_name(f"{path.name}.1"))
            os.truncate(path, 0)

    def _revive(self, part: Part) -> None:
        """Start a part again when it died, after a pause that grows while it keeps dying."""
        now = time.monotonic()
        if part.process.poll() is None:
            if part.failures and now - part.started > _STEADY:
                part.failures = 0
            return
        if part.due is None:
            part.failures += 1
            part.due = now + part.pause
            print(f"{self._end_of(part)}\nRestarting it in {part.pause:g} s", flush=True)
        if now >= part.due:
            part.process = self._launch(part.name, part.arguments, part.environment)
            part.started, part.due, part.restarts = now, None, part.restarts + 1
            self._note(part)

    def _note(self, part: Part) -> None:
        """Write down how often parts were restarted, for whoever looks into it later."""
        line = {"at": datetime.now(UTC).isoformat(timespec="seconds"), "part": part.name, "restarts": part.restarts,
                "failures": part.failures}  # fmt: skip
        with (self.log_dir / "restarts.ndjson").open("a") as file:
            file.write(json.dumps(line) + "\n")

    def _revive_database(self) -> None:
        """Start our MariaDB again when it died; the other parts wait for it meanwhile."""
        database = self.database
        if database is not None and database.process is not None and database.process.poll() is not None:
            print(f"MariaDB exited with status {database.process.returncode}; restarting it", flush=True)
            database.process = None
            database.start()

    def stop(self) -> None:
        """Stop every part that we started, the database last."""
        for part in reversed(self.parts):
            if part.process.poll() is None:
                part.process.terminate()
        for part in reversed(self.parts):
            try:
                part.process.wait(15)
            except subprocess.TimeoutExpired:
                part.process.kill()
                part.process.wait()
        self.parts.clear()
        if self.database is not None:
            self.database.stop()
