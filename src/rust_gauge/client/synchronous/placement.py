"""`client.placement`: seeds, outlets, schedules, and runs that tell where copies of a message land."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Iterator
from datetime import date

from rust_gauge.client.calls import placement as calls
from rust_gauge.client.synchronous.part import Part
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

    def seeds(self, tenant: str) -> list[Seed]:
        """Return a tenant's seeds, by provider and address."""
        return (self._client.send(calls.list_seeds(tenant))).items

    def add_seed(self, tenant: str, new: NewSeed) -> Seed:
        """Add a seed, and sign in to it once: `problem` says what went wrong."""
        return self._client.send(calls.add_seed(tenant, new))

    def seed(self, tenant: str, id: int) -> Seed:
        """Return one seed."""
        return self._client.send(calls.get_seed(tenant, id))

    def update_seed(self, tenant: str, id: int, change: SeedChange) -> Seed:
        """Change settings of a seed. Settings that are left out stay unchanged."""
        return self._client.send(calls.update_seed(tenant, id, change))

    def delete_seed(self, tenant: str, id: int) -> None:
        """Delete a seed. Copies that went there stay in their runs."""
        self._client.send(calls.delete_seed(tenant, id))

    def check_seed(self, tenant: str, id: int) -> Seed:
        """Sign in to a seed now."""
        return self._client.send(calls.check_seed(tenant, id))

    def outlets(self, tenant: str) -> list[Outlet]:
        """Return a tenant's outlets by name."""
        return (self._client.send(calls.list_outlets(tenant))).items

    def add_outlet(self, tenant: str, new: NewOutlet) -> Outlet:
        """Add an outlet, and test it: `problem` says what went wrong."""
        return self._client.send(calls.add_outlet(tenant, new))

    def outlet(self, tenant: str, name: str) -> Outlet:
        """Return one outlet."""
        return self._client.send(calls.get_outlet(tenant, name))

    def update_outlet(self, tenant: str, name: str, change: OutletChange) -> Outlet:
        """Change settings of an outlet, and test it. Settings that are left out stay unchanged."""
        return self._client.send(calls.update_outlet(tenant, name, change))

    def delete_outlet(self, tenant: str, name: str) -> None:
        """Delete an outlet. Runs that went through it stay."""
        self._client.send(calls.delete_outlet(tenant, name))

    def check_outlet(self, tenant: str, name: str) -> Outlet:
        """Sign in to an outlet now. Nothing is sent."""
        return self._client.send(calls.check_outlet(tenant, name))

    def runs(self, tenant: str) -> Iterator[RunSummary]:
        """Yield runs, newest first."""
        return self._client.pages(lambda cursor: calls.list_runs(tenant, cursor))

    def history(self, tenant: str, *, last: date | None = None, days: int = 90, outlet: str = "") -> PlacementHistory:
        """Return placement over time at each provider, the day it turned, and what else changed then."""
        return self._client.send(calls.get_history(tenant, last, days, outlet))

    def start(self, tenant: str, new: NewRun, raw: bytes | None = None) -> PlacementRun:
        """Start a run, with its message if it is at hand; else the run awaits it at `address`."""
        run = self._client.send(calls.start_run(tenant, new))
        return run if raw is None else self._client.send(calls.put_message(tenant, run.id, raw))

    def run(self, tenant: str, id: int) -> PlacementRun:
        """Return one run with its copies."""
        return self._client.send(calls.get_run(tenant, id))

    def hand_in(self, tenant: str, id: int, raw: bytes) -> PlacementRun:
        """Give a run the message that it awaits."""
        return self._client.send(calls.put_message(tenant, id, raw))

    def cancel(self, tenant: str, id: int) -> PlacementRun:
        """Stop a run: nothing more is sent or looked for."""
        return self._client.send(calls.cancel_run(tenant, id))

    def delete_run(self, tenant: str, id: int) -> None:
        """Delete a run with its copies."""
        self._client.send(calls.delete_run(tenant, id))

    def assay(self, tenant: str, id: int) -> Assay:
        """Return the assay of a run's message. NotFoundError until it is made, within a minute of the start."""
        return self._client.send(calls.get_assay(tenant, id))

    def shares(self, tenant: str, id: int) -> list[Share]:
        """Return the links to a run, newest first."""
        return (self._client.send(calls.list_shares(tenant, id))).items

    def share(self, tenant: str, id: int, new: NewShare | None = None) -> MadeShare:
        """Make a link to a run that needs no account. Its `url` is in this answer only."""
        return self._client.send(calls.add_share(tenant, id, new or NewShare()))

    def delete_share(self, tenant: str, id: int, share: int) -> None:
        """Revoke a link: it opens nothing any more."""
        self._client.send(calls.delete_share(tenant, id, share))

    def schedules(self, tenant: str) -> list[Schedule]:
        """Return a tenant's schedules by name."""
        return (self._client.send(calls.list_schedules(tenant))).items

    def add_schedule(self, tenant: str, new: NewSchedule, raw: bytes | None = None) -> Schedule:
        """Add a schedule, with the message that it copies if it is at hand."""
        made = self._client.send(calls.add_schedule(tenant, new))
        return made if raw is None else self.hand_in_to_schedule(tenant, new.name, raw)

    def schedule(self, tenant: str, name: str) -> Schedule:
        """Return one schedule."""
        return self._client.send(calls.get_schedule(tenant, name))

    def update_schedule(self, tenant: str, name: str, change: ScheduleChange) -> Schedule:
        """Change a schedule, pause it or turn it on again. Settings that are left out stay unchanged."""
        return self._client.send(calls.update_schedule(tenant, name, change))

    def hand_in_to_schedule(self, tenant: str, name: str, raw: bytes) -> Schedule:
        """Give a schedule the message that it copies from now on."""
        return self._client.send(calls.put_schedule_message(tenant, name, raw))

    def copy_schedule(self, tenant: str, name: str, new_name: str) -> Schedule:
        """Copy a schedule with its message. The copy is paused."""
        return self._client.send(calls.copy_schedule(tenant, name, ScheduleCopy(name=new_name)))

    def run_schedule(self, tenant: str, name: str) -> PlacementRun:
        """Start a run of a schedule now."""
        return self._client.send(calls.run_schedule(tenant, name))

    def delete_schedule(self, tenant: str, name: str) -> None:
        """Delete a schedule. Its runs stay."""
        self._client.send(calls.delete_schedule(tenant, name))
