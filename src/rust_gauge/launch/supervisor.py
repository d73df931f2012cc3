"""Runs the parts as processes of this one, watches them, and stops everything in the right order."""

import os
import signal
import subprocess
import sys
import threading
import time
import urllib.request
from dataclasses import dataclass, field
from pathlib import Path
from types import FrameType

from rust_gauge.launch.mariadb import LaunchError, PrivateMariaDb


@dataclass
class Supervisor:
    """Parts in the order in which they were started; they are stopped in the opposite one."""

    log_dir: Path
    database: PrivateMariaDb | None = None
    parts: list[tuple[str, subprocess.Popen[bytes]]] = field(default_factory=list)
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
        self.log_dir.mkdir(parents=True, exist_ok=True)
        log = (self.log_dir / f"{name}.log").open("ab")
        process = subprocess.Popen(
            [sys.executable, "-m", *arguments],
            env={**os.environ, **environment},
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
        log.close()
        self.parts.append((name, process))

    def wait_for(self, url: str, within: float = 60) -> None:
        """Wait until `url` answers 200. LaunchError when it does not, or a part ended."""
        end = time.monotonic() + within
        while time.monotonic() < end and not self.stop_asked.is_set():
            self.check()
            try:
                with urllib.request.urlopen(url, timeout=2) as response:
                    if response.status == 200:
                        return
            except OSError:
                self.stop_asked.wait(0.05)
        if not self.stop_asked.is_set():
            raise LaunchError(f"{url} did not answer within {within:g} s. Logs are in {self.log_dir}")

    def check(self) -> None:
        """LaunchError when a part has ended."""
        for name, process in self.parts:
            if process.poll() is not None:
                path = self.log_dir / f"{name}.log"
                tail = "\n".join(path.read_text("utf-8", "replace").splitlines()[-12:]) if path.exists() else ""
                raise LaunchError(f"The {name} ended by itself ({process.returncode}). From {path}:\n{tail}")

    def run(self) -> None:
        """Watch until a stop is asked for."""
        while not self.stop_asked.wait(0.5):
            self.check()
            self._revive_database()

    def _revive_database(self) -> None:
        """Start our MariaDB again when it died; the other parts wait for it meanwhile."""
        database = self.database
        if database is not None and database.process is not None and database.process.poll() is not None:
            print(f"MariaDB exited with status {database.process.returncode}; restarting it", flush=True)
            database.process = None
            database.start()

    def stop(self) -> None:
        """Stop every part that we started, the database last."""
        for _, process in reversed(self.parts):
            if process.poll() is None:
                process.terminate()
        for _, process in reversed(self.parts):
            try:
                process.wait(15)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self.parts.clear()
        if self.database is not None:
            self.database.stop()
