"""Waiting for a job: progress on the terminal, Ctrl-C cancels or detaches, files sent in pieces."""

import time
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.progress import Progress
from rust_gauge.cli.session import Session
from rust_gauge.contract.jobs import Job

_POLL = 0.3  # seconds
_PIECE = 1024 * 1024  # octets in one request: small enough to repeat after a broken connection
_UNDER_WAY = ("waiting", "running")


def wait(session: Session, job: Job, what: str, *, cancel: bool = True) -> Job:
    """Wait until a job ends; return it. Ctrl-C cancels it, or leaves it running where `cancel` is false."""
    tenant, progress = session.tenant(), Progress(what, job.total, session.output.err)
    try:
        while job.state in _UNDER_WAY:
            time.sleep(_POLL)
            job = session.client.jobs.get(tenant, job.id)
            progress.total = job.total
            progress.advance(job.done - progress.done)
    except KeyboardInterrupt:
        progress.close()
        if cancel:
            session.client.jobs.cancel(tenant, job.id)
            session.output.say(f"Cancelled. What is done stays; continue with: rustgauge job run {job.id}")
        else:
            session.output.say(f"Job {job.id} continues. See: rustgauge job show {job.id}")
        raise
    progress.close()
    return job


def run(session: Session, job: Job, what: str, *, dry: bool = False) -> Job:
    """Start a job, or resume one, and wait for it. UsageError when it does not get done."""
    if job.state not in _UNDER_WAY:
        job = session.client.jobs.run(session.tenant(), job.id, dry=dry)
    job = wait(session, job, what)
    if job.state != "done":
        raise UsageError(f"job {job.id} is {job.state}: {job.error or f'continue with rustgauge job run {job.id}'}")
    return job


def send_file(session: Session, job: Job, name: str) -> Job:
    """Send a job its file, in pieces."""
    path = Path(name)
    try:
        progress = Progress("Sending", path.stat().st_size, session.output.err)
        with path.open("rb") as file:
            for number, piece in enumerate(_pieces(file)):
                session.client.jobs.send(session.tenant(), job.id, number, piece)
                progress.advance(len(piece))
        progress.close()
    except OSError as error:
        raise UsageError(f"{name} cannot be read: {error.strerror}") from None
    return job


def _pieces(file: IO[bytes]) -> Iterator[bytes]:
    while piece := file.read(_PIECE):
        yield piece
