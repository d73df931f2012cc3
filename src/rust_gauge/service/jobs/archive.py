"""All parts of a job as one ZIP file, made while it is sent: no more than a piece of it is held."""

import zipfile
from collections.abc import Iterator
from typing import Any

from rust_gauge.service.jobs import jobs
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import jobs as store
from rust_gauge.store.accounts import TenantAccess


class _Sink:
    """A file that only goes forward; what was written is taken away."""

    def __init__(self) -> None:
        self._waiting: list[bytes] = []

    def write(self, octets: Any) -> int:
        self._waiting.append(bytes(octets))
        return len(octets)

    def flush(self) -> None:
        """Nothing is held back."""

    def take(self) -> bytes:
        taken, self._waiting = b"".join(self._waiting), []
        return taken


def archive_of(context: Context, tenant: TenantAccess, id: int) -> Iterator[bytes]:
    """Yield a ZIP file with the parts of a job. ServiceProblem `not-found` where nothing came out."""
    job = jobs.get(context, tenant, id)
    if not job.parts:
        raise ServiceProblem("not-found", f"Job {id} has no result yet")
    names = {portion["part"]: portion["file"] for portion in job.result.get("portions", ())}
    names |= {"icalendar": "calendar.ics"}
    return _zipped(context, id, {part: names.get(part, f"{part}.csv") for part in sorted(job.parts)})


def _zipped(context: Context, id: int, names: dict[str, str]) -> Iterator[bytes]:
    sink = _Sink()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as archive:  # type: ignore[call-overload]
        for part, name in names.items():
            with archive.open(name, "w", force_zip64=True) as file:
                for piece in store.pieces(context.store, id, part):
                    file.write(piece)
                    yield sink.take()
            yield sink.take()
    yield sink.take()
