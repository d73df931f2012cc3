"""`client.warmup`: ceilings that grow for a new sender, and how far each provider has come."""

import builtins
from datetime import date

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import warmup as calls
from rust_gauge.contract.jobs import Job
from rust_gauge.contract.warmup import (
    ListCutRequest,
    NewWarmupPlan,
    WarmupDays,
    WarmupOverrule,
    WarmupPlan,
    WarmupPlanChange,
    WarmupPreview,
    WarmupTiming,
)


class Warmup(Part):
    """Warm-up plans."""

    async def list(self, tenant: str) -> "builtins.list[WarmupPlan]":
        """Return the plans with their ceilings of today and what was sent, by name."""
        return (await self._client.send(calls.list_plans(tenant))).items

    async def add(self, tenant: str, new: NewWarmupPlan) -> WarmupPlan:
        """Add a plan for a new domain, stream, relay or sending IP, or for a move to another relay."""
        return await self._client.send(calls.add_plan(tenant, new))

    async def preview(self, tenant: str, settings: WarmupTiming) -> WarmupPreview:
        """Return the steps that settings would make. Nothing is stored."""
        return await self._client.send(calls.preview_plan(tenant, settings))

    async def get(self, tenant: str, name: str) -> WarmupPlan:
        """Return a plan: its steps, and where it is at each mailbox provider."""
        return await self._client.send(calls.get_plan(tenant, name))

    async def update(self, tenant: str, name: str, change: WarmupPlanChange) -> WarmupPlan:
        """Change a plan, pause it or resume it. Settings that are left out stay unchanged."""
        return await self._client.send(calls.update_plan(tenant, name, change))

    async def delete(self, tenant: str, name: str) -> None:
        """Delete a plan with its course."""
        await self._client.send(calls.delete_plan(tenant, name))

    async def overrule(self, tenant: str, name: str, body: WarmupOverrule) -> WarmupPlan:
        """Set the step of one provider or of all from today on, with a reason."""
        return await self._client.send(calls.overrule_plan(tenant, name, body))

    async def days(self, tenant: str, name: str, *, first: date | None = None, last: date | None = None) -> WarmupDays:
        """Return the course of a plan, day by day and provider by provider."""
        return await self._client.send(calls.get_days(tenant, name, first, last))

    async def start_cut(self, tenant: str, request: ListCutRequest) -> Job:
        """Create a job that cuts a list into portions that fit a plan; upload the file with `client.jobs`."""
        return await self._client.send(calls.start_cut(tenant, request))
