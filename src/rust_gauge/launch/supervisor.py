"""Runs the parts as processes of this one, watches them, and stops everything in the right order.

A part that dies is started again by itself, with a growing pause while it keeps dying; the others go on.
"""

import contextlib
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
from rust_gauge.launch.template import Forked, Template, reap_strangers

_FIRST_PAUSE, _LONGEST_PAUSE = 0.2, 60.0  # seconds before a part is started again
_LARGEST_LOG, _OLD_LOGS = 50 * 1024 * 1024, 5  # octets of a log until it is put aside, and how many are kept
# Of the service on this machine, which answers for its public name: it is asked whether it is ready, and told nothing.
_ANY_CERTIFICATE = ssl._create_unverified_context()
_TEMPLATE_WITHIN = 120.0  # seconds for the imports of the template
_STRANGERS_EVERY = 600  # turns of a tenth of a second
_STEADY = 10.0  # seconds after which a part that runs is taken to be well


@dataclass
class Part:
    """One process: how it is started, and how it fared."""

    name: str
    arguments: list[str]
    environment: dict[str, str]
    process: subprocess.Popen[bytes] | Forked
    started: float
    failures: int = 0  # in a row
    restarts: int = 0
    due: float | None = None  # when it is started again, while it is down
    is_forked: bool = False  # the template forks it

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
    _reviving: threading.Thread | None = None
    template: Template | None = None
    _template_of: tuple[str, dict[str, str]] | None = None  # its module and environment
    _template_due: float = 0.0  # when it may be started again

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
        """Start `python -m <module> <arguments>`; its output goes to `<name>.log`."""
        process = self._launch(name, arguments, environment)
        self.parts.append(Part(name, arguments, environment, process, time.monotonic()))

    def begin_template(self, module: str) -> None:
        """Start `python -m <module> template`, which imports, before it is known what its parts will need."""
        self._template_of = module, {}
        self._start_template()

    def start_template(self, module: str, environment: dict[str, str]) -> None:
        """Start the template unless it has begun; wait until it is ready. Parts get this environment. LaunchError."""
        has_begun = self._template_of is not None
        self._template_of = module, environment
        if not has_begun:
            self._start_template()
        end = time.monotonic() + _TEMPLATE_WITHIN
        while self.template is not None and not self.template.is_ready(0.1):
            self.raise_if_asked()
            if (status := self.template.process.poll()) is not None:
                raise LaunchError(self._end_of("template", status))
            if time.monotonic() > end:
                raise LaunchError(f"The parts were not imported within {_TEMPLATE_WITHIN:g} s")

    def start_forked(self, name: str, kind: str) -> None:
        """Start a part of this kind from the template."""
        assert self._template_of is not None, "start_template comes first"
        module, environment = self._template_of
        process = self._fork(name, kind) or self._launch(name, [module, kind], environment)
        self.parts.append(Part(name, [module, kind], environment, process, time.monotonic(), is_forked=True))

    def _fork(self, name: str, kind: str) -> Forked | None:
        """Return a part that was forked; None while there is no template that is ready."""
        environment = self._template_of[1] if self._template_of is not None else {}
        return self.template.fork(kind, self._log(name), environment) if self.template is not None else None

    def _log(self, name: str) -> Path:
        """Return the log of a part, in a directory that is for us only."""
        self.log_dir.mkdir(parents=True, exist_ok=True)
        self.log_dir.chmod(0o700)
        path = self.log_dir / f"{name}.log"
        os.close(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600))
        return path

    def _launch(self, name: str, arguments: list[str], environment: dict[str, str]) -> subprocess.Popen[bytes]:
        with self._log(name).open("ab") as log:
            return subprocess.Popen(
                [sys.executable, "-m", *arguments],
                env={**os.environ, **environment},
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
                start_new_session=True,
            )

    def _start_template(self) -> None:
        if self._template_of is not None:
            module, environment = self._template_of
            command = [sys.executable, "-m", module, "template"]
            self.template = Template(command, {**os.environ, **environment}, self._log("template"))

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
            if (status := part.process.poll()) is not None:
                raise LaunchError(self._end_of(part.name, status))

    def _end_of(self, name: str, status: int) -> str:
        path = self.log_dir / f"{name}.log"
        tail = "\n".join(path.read_text("utf-8", "replace").splitlines()[-12:]) if path.exists() else ""
        return f"The {name} ended by itself ({status}). From {path}:\n{tail}"

    def run(self) -> None:
        """Watch until a stop is asked for; whatever dies meanwhile is started again."""
        turn = 0
        while not self.stop_asked.wait(0.1):
            turn += 1
            try:
                if turn % 600 == 0:
                    self._rotate_logs()
                self._revive_database()
                for part in self.parts:
                    self._revive(part)
                self._keep_template(time.monotonic())
                if turn % _STRANGERS_EVERY == 0:
                    self._reap_strangers()
            except OSError as error:  # of logs on a full disk, for example: watching goes on
                _say(f"{error}; the supervisor goes on")

    def _rotate_logs(self) -> None:
        """Put large logs aside. The parts go on writing into the same file, which is emptied."""
        for name in [*(part.name for part in self.parts), "template"]:
            path = self.log_dir / f"{name}.log"
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
        status = part.process.poll()
        if status is None:
            if part.failures and now - part.started > _STEADY:
                part.failures = 0
            return
        if part.due is None:
            part.failures += 1
            part.due = now + part.pause
            _say(f"{self._end_of(part.name, status)}\nRestarting it in {part.pause:g} s")
        if now >= part.due:
            forked = self._fork(part.name, part.arguments[1]) if part.is_forked else None
            part.process = forked or self._launch(part.name, part.arguments, part.environment)
            part.started, part.due, part.restarts = now, None, part.restarts + 1
            self._note(part.name, part.restarts, part.failures)

    def _keep_template(self, now: float) -> None:
        """Replace a template that ended; not at once again when that one ended too."""
        if self.template is None or self.template.process.poll() is None or now < self._template_due:
            return
        _say(f"{self._end_of('template', self.template.process.returncode)}\nStarting another one")
        self.template.stop()
        self._template_due = now + _LONGEST_PAUSE
        self._start_template()

    def _reap_strangers(self) -> None:
        known = {part.process.pid for part in self.parts}
        if self.template is not None:
            known.add(self.template.process.pid)
        if self.database is not None and self.database.process is not None:
            known.add(self.database.process.pid)
        if self._reviving is None or not self._reviving.is_alive():  # it starts programs of its own
            reap_strangers(known)

    def _note(self, part: str, restarts: int, failures: int) -> None:
        """Write down how often parts were restarted, for whoever looks into it later."""
        line = {"at": datetime.now(UTC).isoformat(timespec="seconds"), "part": part, "restarts": restarts,
                "failures": failures}  # fmt: skip
        with contextlib.suppress(OSError), (self.log_dir / "restarts.ndjson").open("a") as file:
            file.write(json.dumps(line) + "\n")

    def _revive_database(self) -> None:
        """Start our MariaDB again when it died, as often as it takes; the other parts wait for it meanwhile.

        A thread does it: its start may take a minute, in which other parts may die too.
        """
        database = self.database
        if database is None or database.process is None or database.process.poll() is None:
            return
        if self._reviving is not None and self._reviving.is_alive():
            return
        self._reviving = threading.Thread(target=self._start_database, args=(database,), daemon=True)
        self._reviving.start()

    def _start_database(self, database: PrivateMariaDb) -> None:
        failures = 0
        while not self.stop_asked.is_set():
            status = database.process.poll() if database.process is not None else None
            what = "does not answer" if status is None else f"exited with status {status}"
            _say(f"MariaDB {what}; restarting it")
            try:
                database.start()
                self._note("mariadb", failures + 1, failures + 1)
                return
            except (LaunchError, OSError) as error:  # a full disk, for example: it starts once there is room again
                failures += 1
                pause = min(_LONGEST_PAUSE, _FIRST_PAUSE * 2**failures)
                _say(f"{error}\nTrying again in {pause:g} s")
                self.stop_asked.wait(pause)

    def stop(self) -> None:
        """Stop every part that we started, the database last."""
        if self.template is not None:
            self.template.stop()
        for part in reversed(self.parts):
            if part.process.poll() is None:
                part.process.terminate()
        for part in reversed(self.parts):
            try:
                part.process.wait(15)
            except subprocess.TimeoutExpired:
                part.process.kill()
                part.process.wait(15)
        self.parts.clear()
        if self._reviving is not None:
            self._reviving.join(70)
        if self.database is not None:
            self.database.stop()


def _say(text: str) -> None:
    """Print, also where the output cannot be written any more."""
    with contextlib.suppress(OSError, ValueError):
        print(text, flush=True)
