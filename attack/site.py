"""An installation to attack: `rustgauged run` in a directory of its own, with a tenant, an admin and a token."""

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

PASSWORD = "seven herons over slate"
EMAIL, TENANT = "isla@skerry.example", "glasswort"
_COMMAND = [sys.executable, "-m", "rust_gauge.launch.main"]


@dataclass
class Site:
    """A running installation. `token` is an admin's."""

    home: Path
    port: int
    environment: dict[str, str]
    process: subprocess.Popen[bytes]
    token: str = ""
    started: float = field(default_factory=time.monotonic)

    @property
    def url(self) -> str:
        """Return where the service listens."""
        return f"http://127.0.0.1:{self.port}"

    def command(self, *words: str, stdin: str = "") -> str:
        """Run `rustgauged` with these words; return what it prints."""
        done = subprocess.run(
            [*_COMMAND, *words], cwd=self.home, env=self.environment, input=stdin, capture_output=True, text=True
        )
        if done.returncode:
            raise RuntimeError(f"rustgauged {' '.join(words)}: {done.stderr}")
        return done.stdout.strip()

    def parts(self) -> dict[str, int]:
        """Return the processes by name: service, worker-1, feeds, gates, mariadb. The template is left out."""
        found: dict[str, int] = {}
        workers = 0
        for pid in _children(self.process.pid):
            words = _words(pid)
            if "mariadbd" in words[0]:
                found["mariadb"] = pid
            elif (name := _name(pid)).startswith("rg-"):
                name = name.removeprefix("rg-")
                workers += name == "worker"
                found[f"worker-{workers}" if name == "worker" else name] = pid
        return found

    def is_ready(self) -> bool:
        """Return whether the service says that it is ready."""
        try:
            with urllib.request.urlopen(f"{self.url}/readyz", timeout=2) as answer:
                return bool(answer.status == 200)
        except OSError:
            return False

    def post(self, url: str, body: bytes, kind: str = "application/json") -> bytes:
        """Return the answer to a call with the token; says what the service said when it refused."""
        request = urllib.request.Request(url, body, {"Authorization": f"Bearer {self.token}", "Content-Type": kind})
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return bytes(answer.read())
        except urllib.error.HTTPError as error:
            raise RuntimeError(f"{url}: {error.read().decode()}") from error

    def wait_until_ready(self, within: float = 60) -> float:
        """Return how many seconds it took."""
        begin = time.monotonic()
        while not self.is_ready():
            if time.monotonic() - begin > within:
                raise RuntimeError(f"not ready within {within} s; see {self.home / 'var' / 'log'}")
            time.sleep(0.02)
        return time.monotonic() - begin

    def memory(self) -> dict[str, float]:
        """Return the memory of each part in MB; what they share is divided among them (Pss)."""
        return {name: _memory(pid) for name, pid in self.parts().items()}


def _children(pid: int) -> list[int]:
    try:
        return [int(child) for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    except OSError:
        return []


def _words(pid: int) -> list[str]:
    try:
        return Path(f"/proc/{pid}/cmdline").read_bytes().decode("utf-8", "replace").split("\0")
    except OSError:
        return [""]


def _name(pid: int) -> str:
    """Return what a process calls itself: the template has no name of ours."""
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip()
    except OSError:
        return ""


def _memory(pid: int) -> float:
    try:
        return int(Path(f"/proc/{pid}/smaps_rollup").read_text().partition("Pss:")[2].split()[0]) / 1024
    except (OSError, IndexError, ValueError):
        return 0.0


@contextlib.contextmanager
def running(**settings: str) -> Iterator[Site]:
    """Yield an installation; everything is gone afterwards. `settings` as in the environment, without the prefix."""
    from rust_gauge.launch.mariadb import free_port

    home = Path(tempfile.mkdtemp(prefix="rust-gauge-attack-"))
    home.chmod(0o711)
    port = free_port()
    environment = {
        **os.environ, "RUSTGAUGE_VAR_DIR": str(home / "var"), "RUSTGAUGE_PORT": str(port),
        "RUSTGAUGE_DNS_SERVERS": '["127.0.0.1:9"]', "RUSTGAUGE_DNS_TIMEOUT": "0.05", "RUSTGAUGE_DNS_ATTEMPTS": "1",
        "RUSTGAUGE_LOG_LEVEL": "warning", "RUSTGAUGE_FEED_FOLDERS": f'["{home}"]',
        "RUSTGAUGE_SMTP_PORT": str(free_port()), "RUSTGAUGE_POLICY_PORT": str(free_port()),
        "RUSTGAUGE_BENCH_PORT": str(free_port()),
        **{f"RUSTGAUGE_{name.upper()}": value for name, value in settings.items()},
    }  # fmt: skip
    log = (home / "run.out").open("wb")
    process = subprocess.Popen([*_COMMAND, "run"], cwd=home, env=environment, stdout=log, stderr=log)
    site = Site(home, port, environment, process)
    try:
        site.wait_until_ready(120)
        site.command("account", EMAIL, "--name", "Isla", stdin=PASSWORD + "\n")
        site.command("tenant", TENANT, "--account", EMAIL)
        site.token = site.command("token", EMAIL)
        yield site
    finally:
        process.send_signal(signal.SIGINT)
        with contextlib.suppress(subprocess.TimeoutExpired):
            process.wait(90)
        process.kill()
        log.close()
        shutil.rmtree(home, ignore_errors=True)
