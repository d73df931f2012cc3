"""A demo of its own in a folder, with all its stand-ins: what a walk is done on."""

import os
import re
import signal
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from rust_gauge.launch.mariadb import free_port


@dataclass(frozen=True, slots=True)
class Demo:
    """A demo that runs. `folder` has its `var/demo`."""

    url: str
    email: str
    password: str
    token: str
    folder: Path

    @property
    def environment(self) -> dict[str, str]:
        """What the command line reads."""
        return {"RUSTGAUGE_URL": self.url, "RUSTGAUGE_TOKEN": self.token}


@contextmanager
def running_demo(folder: Path) -> Iterator[Demo]:
    """Start a demo in an empty folder, without mail that goes on; stop it in the end."""
    url = f"http://127.0.0.1:{free_port()}"
    environment = {
        **os.environ, "RUSTGAUGE_VAR_DIR": str(folder / "var"), "RUSTGAUGE_PORT": url.rpartition(":")[2],
        "PYTHONUNBUFFERED": "1",
    }  # fmt: skip
    process = subprocess.Popen(
        [sys.executable, "-m", "rust_gauge.launch.main", "demo", "--still"], cwd=folder, env=environment,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    )  # fmt: skip
    assert process.stdout is not None
    lines: list[str] = []
    try:
        for line in process.stdout:
            lines.append(line)
            if "rustgauge wall" in line:
                break
        said = "".join(lines)
        email = re.search(r"Sign in +(\S+)", said)
        assert email is not None, f"the demo did not start:\n{said}"
        password, token = (folder / "var" / "demo" / "access").read_text().split()
        rest = threading.Thread(target=lambda: [None for _ in process.stdout or ()], daemon=True)
        rest.start()  # so that the demo never waits for somebody to read what it says
        yield Demo(url, email[1], password, token, folder)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
