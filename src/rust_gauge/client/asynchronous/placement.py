"""`client.placement`: seeds, outlets, schedules, and runs that tell where copies of a message land."""

from collections.abc import AsyncIterator
from datetime import date

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import placement as calls
from rust_gauge.contract.assays import Assay
from rust_gauge.contract.placement import (
    MadeShare,
    NewOutlet,
    NewRun,
    NewSchedule,
    NewSeed,
    NewShare,
    Outlet,
    OutletChange,
    PlacementHistory,
    PlacementRun,
    RunSummary,
    Schedule,
    ScheduleChange,
    ScheduleCopy,
    Seed,
    SeedChange,
    Share,
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

    async def assay(self, tenant: str, id: int) -> Assay:
        """Return the assay of a run's message. NotFoundError until it is made, within a minute of the start."""
        return await self._client.send(calls.get_assay(tenant, id))

    async def shares(self, tenant: str, id: int) -> list[Share]:
        """Return the links to a run, newest first."""
        return (await self._client.send(calls.list_shares(tenant, id))).items

    async def share(self, tenant: str, id: int, new: NewShare | None = None) -> MadeShare:
        """Make a link to a run that needs no account. Its `url` is in this answer only."""
        return await self._client.send(calls.add_share(tenant, id, new or NewShare()))

    async def delete_share(self, tenant: str, id: int, share: int) -> None:
        """Revoke a link: it opens nothing any more."""
        await self._client.send(calls.delete_share(tenant, id, share))

    async def schedules(self, tenant: str) -> list[Schedule]:
        """Return a tenant's schedules by name."""
        return (await self._client.send(calls.list_schedules(tenant))).items

    async def add_schedule(self, tenant: str, new: NewSchedule, raw: bytes | None = None) -> Schedule:
        """Add a schedule, with the message that it copies if it is at hand."""
        made = await self._client.send(calls.add_schedule(tenant, new))
        return made if raw is None else await self.hand_in_to_schedule(tenant, new.name, raw)

    async def schedule(self, tenant: str, name: str) -> Schedule:
        """Return one schedule."""
        return await self._client.send(calls.get_schedule(tenant, name))

    async def update_schedule(self, tenant: str, name: str, change: ScheduleChange) -> Schedule:
        """Change a schedule, pause it or turn it on again. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_schedule(tenant, name, change))

    async def hand_in_to_schedule(self, tenant: str, name: str, raw: bytes) -> Schedule:
        """Give a schedule the message that it copies from now on."""
        return await self._client.send(calls.put_schedule_message(tenant, name, raw))

    async def copy_schedule(self, tenant: str, name: str, new_name: str) -> Schedule:
        """Copy a schedule with its message. The copy is paused."""
        return await self._client.send(calls.copy_schedule(tenant, name, ScheduleCopy(name=new_name)))

    async def run_schedule(self, tenant: str, name: str) -> PlacementRun:
        """Start a run of a schedule now."""
        return await self._client.send(calls.run_schedule(tenant, name))

    async def delete_schedule(self, tenant: str, name: str) -> None:
        """Delete a schedule. Its runs stay."""
        await self._client.send(calls.delete_schedule(tenant, name))
