"""Reports from a large file or an archive of many: stored by a worker, with progress; cancelled and resumed between
reports.
"""

import tempfile
from collections import Counter
from collections.abc import Callable, Mapping
from itertools import islice
from typing import IO, Any, Literal, Unpack

from rust_gauge.contract.jobs import Job as ShownJob
from rust_gauge.core.reports import ReportError
from rust_gauge.core.reports.archives import Member, reports_in
from rust_gauge.service.jobs import jobs
from rust_gauge.service.receiver_reports.storing import store_in_parts, store_reports
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import jobs as store_jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.jobs import Job

KIND: Literal["report_files"] = "report_files"
_TOGETHER = 20  # reports in one transaction
_LARGE = 256 * 1024  # octets of a report that is stored by itself: packed, it may have 20,000 records
_SHOWN = 50  # files that were set aside


def start(context: Context, tenant: TenantAccess, name: str, by: str) -> ShownJob:
    """Add a job that waits for its file."""
    return jobs.add(context, tenant, KIND, name or "reports", {}, by, wait_for_file=True)


def run_files(context: Context, job: Job) -> Mapping[str, Any]:
    """The job: store the reports of a file, from where it was cancelled; return how many became what."""
    job = context.store.transaction(lambda c: store_jobs.newest(c, job))
    with tempfile.TemporaryFile() as file:
        for piece in store_jobs.pieces(context.store, job.id, store_jobs.FILE):
            file.write(piece)
        return _Run(context, job, file).all()


class _Run:
    """One run of the job. `done` counts files of the archive, which are skipped when it is resumed."""

    def __init__(self, context: Context, job: Job, file: IO[bytes]) -> None:
        self._context, self._job, self._file = context, job, file
        self._size = file.seek(0, 2)
        self._done = int(job.position.get("files", 0))
        self._counts: Counter[str] = Counter(job.result.get("counts", {}))
        self._problems: list[dict[str, str]] = list(job.result.get("problems", []))
        self._position = job.done if self._done else 0

    def all(self) -> Mapping[str, Any]:
        """Store everything that is left."""
        self._record(self._position)
        members = islice(reports_in(self._file), self._done, None)
        waiting: list[Member] = []
        try:
            for member in members:
                if len(member.octets) >= _LARGE:
                    self._store(waiting)
                    self._store([member])
                    waiting = []
                    continue
                waiting.append(member)
                if len(waiting) >= _TOGETHER:
                    self._store(waiting)
                    waiting = []
        except ReportError as error:  # what came before it counts
            self._problem("", error.what, error.why, error.remedy)
        self._store(waiting)
        if not self._done and not self._problems:
            raise ServiceProblem("invalid-request", "The file holds no reports")
        self._record(self._size)
        return self._result()

    def _store(self, members: list[Member]) -> None:
        """Store some reports and record it. A large one is alone."""
        good = [member for member in members if member.problem is None]
        octets = [member.octets for member in good]
        tenant_id = self._job.tenant_id
        if len(good) == 1:
            stored = [store_in_parts(self._context, tenant_id, octets[0], self._told(good[0].position))]
        else:
            stored = store_reports(self._context, tenant_id, octets, "upload")
        for found in stored:
            self._counts[found.state] += 1
        for member, found in zip(good, stored, strict=False):  # followed by further reports within these
            if found.state == "rejected":
                self._problem(member.name, found.problem, found.why, found.remedy)
        for member in members:
            if member.problem is not None:
                self._counts["rejected"] += 1
                self._problem(member.name, member.problem.what, member.problem.why, member.problem.remedy)
        if members:
            self._done += len(members)
            self._position = members[-1].position
            self._record(self._position)

    def _told(self, position: int) -> Callable[[float], None]:
        """Return what shows the progress of a large report, or ends it where somebody cancelled the job."""
        before = self._position
        return lambda share: self._advance(done=before + int((position - before) * share))

    def _problem(self, name: str, what: str, why: str, remedy: str) -> None:
        if len(self._problems) < _SHOWN:
            self._problems.append({"file": name[:200], "problem": what, "why": why, "remedy": remedy})

    def _result(self) -> dict[str, Any]:
        return {"counts": dict(self._counts), "files": self._done, "problems": self._problems}

    def _record(self, position: int) -> None:
        done = {"files": self._done}
        self._advance(done=position, total=self._size, position=done, result=self._result())

    def _advance(self, **progress: Unpack[store_jobs.Progress]) -> None:
        """Write down how far the job is. CancelRequested where somebody cancelled it."""
        now = self._context.clock()
        self._context.store.transaction(lambda c: store_jobs.advance(c, self._job, now, **progress))
