"""`client.jobs`: imports, list checks and policy backtests."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

import builtins
from collections.abc import Iterator

from rust_gauge.client.calls import jobs as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.jobs import ImportRequest, Job, JobStart, ListCheckRequest, ReportFilesRequest
from rust_gauge.contract.suppression import PolicyBacktestRequest


class Jobs(Part):
    """Jobs: imports, list checks and policy backtests."""

    def start_import(self, tenant: str, request: ImportRequest) -> Job:
        """Create an import of a list. Then `send` its file, then `run` it."""
        return self._client.send(calls.start_import(tenant, request))

    def start_list_check(self, tenant: str, request: ListCheckRequest) -> Job:
        """Create a list check before a send. Then `send` its file, then `run` it."""
        return self._client.send(calls.start_list_check(tenant, request))

    def start_report_files(self, tenant: str, request: ReportFilesRequest) -> Job:
        """Create a job for reports of receivers in one file: an archive, or a large one. Then `send` it, then `run`."""
        return self._client.send(calls.start_report_files(tenant, request))

    def start_policy_backtest(self, tenant: str, request: PolicyBacktestRequest) -> Job:
        """Backtest a policy on past events. The job starts at once."""
        return self._client.send(calls.start_policy_backtest(tenant, request))

    def list(self, tenant: str, *, kind: str | None = None) -> "builtins.list[Job]":
        """Return the jobs of the last thirty days, newest first."""
        return (self._client.send(calls.list_jobs(tenant, kind))).items

    def get(self, tenant: str, id: int) -> Job:
        """Return a job's progress and result."""
        return self._client.send(calls.get_job(tenant, id))

    def send(self, tenant: str, id: int, number: int, octets: bytes) -> Job:
        """Upload a piece of the file, numbered from 0. About a megabyte is a good size."""
        return self._client.send(calls.add_job_piece(tenant, id, number, octets))

    def run(self, tenant: str, id: int, *, dry: bool = False) -> Job:
        """Run a job (with `dry` only to see what would happen), or resume it after it was cancelled."""
        return self._client.send(calls.run_job(tenant, id, JobStart(dry=dry)))

    def cancel(self, tenant: str, id: int) -> Job:
        """Cancel a job after the piece in progress."""
        return self._client.send(calls.cancel_job(tenant, id))

    def part(self, tenant: str, id: int, part: str) -> Iterator[bytes]:
        """Yield a part of the result, such as `rejected` or `clear`, in pieces; `parts` of the job names them."""
        path, query = calls.task_part(tenant, id, part)
        yield from self._client.download(path, query)

    def archive(self, tenant: str, id: int) -> Iterator[bytes]:
        """Yield all parts of the result as one ZIP file, in pieces."""
        path, query = calls.job_archive(tenant, id)
        yield from self._client.download(path, query)
