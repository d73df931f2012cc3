"""The template: a process that has imported what all parts need, and forks any of them within milliseconds.

Importing takes seconds, forking does not, and what was imported is in memory once for all parts. The supervisor writes
an order to the template (`{"kind": "feeds", "log": "/path"}`) and reads the process id of the part, whose parent it is
itself: a fork in between ends at once, and whose parent has ended gets the nearest subreaper as its parent.
"""

import contextlib
import ctypes
import gc
import json
import os
import select
import signal
import subprocess
import sys
import time
from pathlib import Path

_READY = b"ready\n"
_ANSWER_WITHIN = 5.0  # seconds for a fork, on a machine that has other things to do
_PR_SET_NAME, _PR_SET_CHILD_SUBREAPER = 15, 36


# In the template


def fork_on_demand() -> str:
    """Fork for each order. Returns what to become in each part, and an empty text in the template once it is over.

    No thread may run yet: a part has only the one that forks.
    """
    gc.collect()
    gc.freeze()  # what is there stays there: a collection that touched it would copy it for each part
    os.write(1, _READY)
    for line in iter(sys.stdin.readline, ""):
        order = json.loads(line)
        if between := os.fork():
            os.waitpid(between, 0)
        else:
            between = os.getpid()
            if os.fork():
                os._exit(0)
            while os.getppid() == between:
                time.sleep(0.001)
            os.environ.update(order["environment"])
            _leave(order["log"])
            return str(order["kind"])
    return ""


def _leave(log: str) -> None:
    """Say who we are, and have nothing in common with the template: neither session nor pipes."""
    os.write(1, b"%d\n" % os.getpid())
    os.setsid()
    out = os.open(log, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
    nothing = os.open(os.devnull, os.O_RDONLY)
    for to, source in ((0, nothing), (1, out), (2, out)):
        os.dup2(source, to)
    os.close(out)
    os.close(nothing)


def name_process(text: str) -> None:
    """Say in lists of processes what this one is (`ps -o comm`); its command is the template's."""
    _prctl(_PR_SET_NAME, text.encode())


# In the supervisor


class Forked:
    """A part that the template forked: a child of this process, with the methods of `subprocess.Popen` that we need."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self.returncode: int | None = None

    def poll(self) -> int | None:
        """Return its exit status once it has ended; a negative one is the number of a signal."""
        if self.returncode is None:
            try:
                pid, status = os.waitpid(self.pid, os.WNOHANG)
            except ChildProcessError:
                pid, status = self.pid, 0
            if pid:
                self.returncode = os.waitstatus_to_exitcode(status)
        return self.returncode

    def wait(self, timeout: float) -> int:
        """Wait until it has ended. subprocess.TimeoutExpired."""
        end = time.monotonic() + timeout
        while (status := self.poll()) is None:
            if time.monotonic() > end:
                raise subprocess.TimeoutExpired(str(self.pid), timeout)
            time.sleep(0.02)
        return status

    def terminate(self) -> None:
        self._signal(signal.SIGTERM)

    def kill(self) -> None:
        self._signal(signal.SIGKILL)

    def _signal(self, number: int) -> None:
        if self.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, number)


class Template:
    """The template as its supervisor sees it: it is started, becomes ready, and is ordered from."""

    def __init__(self, command: list[str], environment: dict[str, str], log: Path) -> None:
        become_subreaper()
        with log.open("ab") as errors:
            self.process = subprocess.Popen(
                command, env=environment, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=errors,
                start_new_session=True, bufsize=0,
            )  # fmt: skip
        self._ready = False

    def is_ready(self, within: float = 0.0) -> bool:
        """Return whether it has imported everything, waiting so long for it."""
        if self.process.poll() is not None:
            return False
        self._ready = self._ready or self._line(within) == _READY
        return self._ready

    def fork(self, kind: str, log: Path, environment: dict[str, str]) -> Forked | None:
        """Return a new part, with more in its environment; None when the template is not ready, or cannot be used any
        more.
        """
        if not self.is_ready() or self.process.stdin is None:
            return None
        order = {"kind": kind, "log": str(log), "environment": environment}
        try:
            self.process.stdin.write(json.dumps(order).encode() + b"\n")
        except OSError:
            return None
        line = self._line(_ANSWER_WITHIN)
        if not line:  # what it does later would belong to nobody
            self.stop()
            return None
        return Forked(int(line))

    def stop(self) -> None:
        """End it; the parts go on."""
        if self.process.poll() is None:
            self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                pipe.close()

    def _line(self, within: float) -> bytes:
        """Return the next line; empty when there is none in time, or never will be. Lines are written in one piece."""
        out = self.process.stdout
        if out is None or not select.select([out], [], [], within)[0]:
            return b""
        return out.readline()


def become_subreaper(yes: bool = True) -> None:
    """Become the parent of whoever is below and has lost its own (PR_SET_CHILD_SUBREAPER), or cease to be."""
    _prctl(_PR_SET_CHILD_SUBREAPER, int(yes))


def reap_strangers(known: set[int]) -> None:
    """Take note of the end of processes that parts had started and left behind; `known` are somebody else's to reap."""
    children = Path(f"/proc/self/task/{os.getpid()}/children")
    with contextlib.suppress(OSError):
        for pid in map(int, children.read_text().split()):
            if pid not in known:
                with contextlib.suppress(ChildProcessError):
                    os.waitpid(pid, os.WNOHANG)


def _prctl(option: int, value: bytes | int) -> None:
    libc = ctypes.CDLL(None)
    if hasattr(libc, "prctl"):
        libc.prctl(option, value, 0, 0, 0)
