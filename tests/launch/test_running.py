"""The product as processes, the way `make serve` starts it: run, make an account, use it, stop it."""

import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest

from rust_gauge.client import Client
from rust_gauge.launch.mariadb import free_port

COMMAND = [sys.executable, "-m", "rust_gauge.launch.main"]


class Running:
    """`rustgauged run` in a folder of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.url = f"http://127.0.0.1:{free_port()}"
        self.environment = {
            **os.environ,
            "RUSTGAUGE_VAR_DIR": str(folder / "var"),
            "RUSTGAUGE_PORT": self.url.rpartition(":")[2],
            "RUSTGAUGE_DNS_SERVERS": '["127.0.0.1:9"]',
            "RUSTGAUGE_DNS_TIMEOUT": "0.2",
            "PYTHONUNBUFFERED": "1",
        }
        self.process = subprocess.Popen(
            [*COMMAND, "run"], cwd=folder, env=self.environment, stdout=subprocess.PIPE, text=True
        )
        assert self.process.stdout is not None
        for line in self.process.stdout:
            if "is ready on" in line:
                return
        raise AssertionError("rustgauged ended before it served")

    def look_after(self, *words: str, stdin: str = "") -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [*COMMAND, *words], cwd=self.folder, env=self.environment, input=stdin, capture_output=True, text=True
        )

    def children(self) -> list[int]:
        path = Path(f"/proc/{self.process.pid}/task/{self.process.pid}/children")
        return [int(pid) for pid in path.read_text().split()]


@contextmanager
def installation() -> Iterator[Running]:
    folder = Path(tempfile.mkdtemp(prefix="rust-gauge-run-"))
    folder.chmod(0o711)
    made = Running(folder)
    yield made
    children = made.children()
    made.process.send_signal(signal.SIGINT)
    assert made.process.wait(60) == 0
    # Ctrl-C stopped everything that was started: template, service, three workers, feeds, MariaDB.
    assert len(children) == 7
    assert not any(Path(f"/proc/{pid}").exists() for pid in children)
    shutil.rmtree(folder)


@pytest.fixture(scope="module")
def running() -> Iterator[Running]:
    with installation() as made:
        yield made


def test_an_account_a_tenant_and_a_token_are_made_while_it_runs(running: Running) -> None:
    assert running.look_after("account", "Isla@Office.example", stdin="short\n").returncode == 1
    made = running.look_after("account", "Isla@Office.example", stdin="correct horse battery\n")
    assert (made.returncode, made.stdout) == (0, "isla@office.example can sign in.\n")
    assert running.look_after("tenant", "Not A Slug", "--account", "isla@office.example").returncode == 1
    assert "no account" in running.look_after("tenant", "ferries", "--account", "nobody@office.example").stderr
    assert running.look_after("tenant", "ferries", "--account", "isla@office.example").returncode == 0
    token = running.look_after("token", "isla@office.example").stdout.strip()
    assert re.fullmatch(r"rgt_[A-Za-z0-9_-]{40,}", token)
    with Client(running.url, token=token) as client:
        assert [tenant.slug for tenant in client.who().tenants] == ["ferries"]
        assert client.domains.add("ferries", "d.example").name == "d.example"
    body = {"email": "isla@office.example", "password": "correct horse battery"}
    assert httpx.post(f"{running.url}/api/v1/session", json=body).status_code == 200


def test_a_second_one_on_the_same_folder_is_refused(running: Running) -> None:
    second = running.look_after("run")
    assert second.returncode == 1
    assert "already runs" in second.stderr
    assert "Traceback" not in second.stderr


def test_two_installations_run_on_one_machine(running: Running) -> None:
    assert running.look_after("account", "kim@office.example", stdin="correct horse battery\n").returncode == 0
    body = {"email": "kim@office.example", "password": "correct horse battery"}
    with installation() as second:
        for each in (running, second):
            assert httpx.get(f"{each.url}/readyz").status_code == 200
        assert httpx.post(f"{running.url}/api/v1/session", json=body).status_code == 200
        assert httpx.post(f"{second.url}/api/v1/session", json=body).status_code == 401, "they share nothing"


def test_logs_are_json_with_a_request_id(running: Running) -> None:
    import json

    answer = httpx.get(f"{running.url}/healthz")
    seen: set[str | None] = set()
    for _ in range(100):  # the line is written after the answer; each further request gives it a moment
        lines = (running.folder / "var" / "log" / "service.log").read_text().splitlines()
        seen = {json.loads(line).get("request_id") for line in lines if line.startswith("{") and line.endswith("}")}
        if answer.headers["x-request-id"] in seen:
            break
        httpx.get(f"{running.url}/healthz")
    assert answer.headers["x-request-id"] in seen


def test_words_that_are_wrong_give_status_2() -> None:
    assert subprocess.run([*COMMAND, "nonsense"], capture_output=True).returncode == 2
