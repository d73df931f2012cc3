"""`client.jobs`: Work on files and on the past: imports, checks of lists, trials of a policy."""

import builtins
from collections.abc import AsyncIterator

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import jobs as calls
from rust_gauge.contract.jobs import ImportRequest, Job, JobStart, ListCheckRequest
from rust_gauge.contract.suppression import PolicyBacktestRequest


class Jobs(Part):
    """Work on files and on the past: imports, checks of lists, trials of a policy."""

    async def start_import(self, tenant: str, request: ImportRequest) -> Job:
        """Start the import of a list. Then `send` its file, then `run`."""
        return await self._client.send(calls.start_import(tenant, request))

    async def start_list_check(self, tenant: str, request: ListCheckRequest) -> Job:
        """Start the check of a list before a send. Then `send` its file, then `run`."""
        return await self._client.send(calls.start_list_check(tenant, request))

    async def start_policy_backtest(self, tenant: str, request: PolicyBacktestRequest) -> Job:
        """Start trying a policy on the past. It begins at once."""
        return await self._client.send(calls.start_policy_backtest(tenant, request))

    async def list(self, tenant: str, *, kind: str | None = None) -> "builtins.list[Job]":
        """Those of the last thirty days, newest first."""
        return (await self._client.send(calls.list_jobs(tenant, kind))).items

    async def get(self, tenant: str, id: int) -> Job:
        """How far it is, and what came out."""
        return await self._client.send(calls.get_job(tenant, id))

    async def send(self, tenant: str, id: int, number: int, octets: bytes) -> Job:
        """Send a piece of the file, numbered from 0; about a megabyte is a good size."""
        return await self._client.send(calls.add_job_piece(tenant, id, number, octets))

    async def run(self, tenant: str, id: int, *, dry: bool = False) -> Job:
        """Begin (with `dry` only to see what would happen), or go on after it was stopped."""
        return await self._client.send(calls.run_job(tenant, id, JobStart(dry=dry)))

    async def cancel(self, tenant: str, id: int) -> Job:
        """Stop after the piece that is under method."""
        return await self._client.send(calls.cancel_job(tenant, id))

    async def part(self, tenant: str, id: int, part: str) -> AsyncIterator[bytes]:
        """Yield a result (rejected, clear, held, doubtful) as CSV in pieces."""
        path, query = calls.task_part(tenant, id, part)
        async for piece in self._client.download(path, query):
            yield piece
