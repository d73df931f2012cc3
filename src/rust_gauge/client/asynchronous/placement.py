"""`client.placement`: seeds, outlets, and runs that tell where copies of a message land."""

from collections.abc import AsyncIterator
from datetime import date

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import placement as calls
from rust_gauge.contract.placement import (
    NewOutlet,
    NewRun,
    NewSeed,
    Outlet,
    OutletChange,
    PlacementHistory,
    PlacementRun,
    RunSummary,
    Seed,
    SeedChange,
)


class Placement(Part):
    """Copies of a message go to mailboxes of your own, and are looked for there."""

    async def seeds(self, tenant: str) -> list[Seed]:
        """Return a tenant's seeds, by provider and address."""
        return (await self._client.send(calls.list_seeds(tenant))).items

    async def add_seed(self, tenant: str, new: NewSeed) -> Seed:
        """Add a seed, and sign in to it once: `problem` says what went wrong."""
        return await self._client.send(calls.add_seed(tenant, new))

    async def seed(self, tenant: str, id: int) -> Seed:
        """Return one seed."""
        return await self._client.send(calls.get_seed(tenant, id))

    async def update_seed(self, tenant: str, id: int, change: SeedChange) -> Seed:
        """Change settings of a seed. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_seed(tenant, id, change))

    async def delete_seed(self, tenant: str, id: int) -> None:
        """Delete a seed. Copies that went there stay in their runs."""
        await self._client.send(calls.delete_seed(tenant, id))

    async def check_seed(self, tenant: str, id: int) -> Seed:
        """Sign in to a seed now."""
        return await self._client.send(calls.check_seed(tenant, id))

    async def outlets(self, tenant: str) -> list[Outlet]:
        """Return a tenant's outlets by name."""
        return (await self._client.send(calls.list_outlets(tenant))).items

    async def add_outlet(self, tenant: str, new: NewOutlet) -> Outlet:
        """Add an outlet, and test it: `problem` says what went wrong."""
        return await self._client.send(calls.add_outlet(tenant, new))

    async def outlet(self, tenant: str, name: str) -> Outlet:
        """Return one outlet."""
        return await self._client.send(calls.get_outlet(tenant, name))

    async def update_outlet(self, tenant: str, name: str, change: OutletChange) -> Outlet:
        """Change settings of an outlet, and test it. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_outlet(tenant, name, change))

    async def delete_outlet(self, tenant: str, name: str) -> None:
        """Delete an outlet. Runs that went through it stay."""
        await self._client.send(calls.delete_outlet(tenant, name))

    async def check_outlet(self, tenant: str, name: str) -> Outlet:
        """Sign in to an outlet now. Nothing is sent."""
        return await self._client.send(calls.check_outlet(tenant, name))

    def runs(self, tenant: str) -> AsyncIterator[RunSummary]:
        """Yield runs, newest first."""
        return self._client.pages(lambda cursor: calls.list_runs(tenant, cursor))

    async def history(
        self, tenant: str, *, last: date | None = None, days: int = 90, outlet: str = ""
    ) -> PlacementHistory:
        """Return placement over time at each provider, the day it turned, and what else changed then."""
        return await self._client.send(calls.get_history(tenant, last, days, outlet))

    async def start(self, tenant: str, new: NewRun, raw: bytes | None = None) -> PlacementRun:
        """Start a run, with its message if it is at hand; else the run awaits it at `address`."""
        run = await self._client.send(calls.start_run(tenant, new))
        return run if raw is None else await self._client.send(calls.put_message(tenant, run.id, raw))

    async def run(self, tenant: str, id: int) -> PlacementRun:
        """Return one run with its copies."""
        return await self._client.send(calls.get_run(tenant, id))

    async def hand_in(self, tenant: str, id: int, raw: bytes) -> PlacementRun:
        """Give a run the message that it awaits."""
        return await self._client.send(calls.put_message(tenant, id, raw))

    async def cancel(self, tenant: str, id: int) -> PlacementRun:
        """Stop a run: nothing more is sent or looked for."""
        return await self._client.send(calls.cancel_run(tenant, id))

    async def delete_run(self, tenant: str, id: int) -> None:
        """Delete a run with its copies."""
        await self._client.send(calls.delete_run(tenant, id))
