"""`client.warmup`: ceilings that grow for a new sender, and how far each provider has come."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

import builtins
from datetime import date

from rust_gauge.client.calls import warmup as calls
from rust_gauge.client.synchronous.part import Part
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

    def list(self, tenant: str) -> "builtins.list[WarmupPlan]":
        """Return the plans with their ceilings of today and what was sent, by name."""
        return (self._client.send(calls.list_plans(tenant))).items

    def add(self, tenant: str, new: NewWarmupPlan) -> WarmupPlan:
        """Add a plan for a new domain, stream, relay or sending IP, or for a move to another relay."""
        return self._client.send(calls.add_plan(tenant, new))

    def preview(self, tenant: str, settings: WarmupTiming) -> WarmupPreview:
        """Return the steps that settings would make. Nothing is stored."""
        return self._client.send(calls.preview_plan(tenant, settings))

    def get(self, tenant: str, name: str) -> WarmupPlan:
        """Return a plan: its steps, and where it is at each mailbox provider."""
        return self._client.send(calls.get_plan(tenant, name))

    def update(self, tenant: str, name: str, change: WarmupPlanChange) -> WarmupPlan:
        """Change a plan, pause it or resume it. Settings that are left out stay unchanged."""
        return self._client.send(calls.update_plan(tenant, name, change))

    def delete(self, tenant: str, name: str) -> None:
        """Delete a plan with its course."""
        self._client.send(calls.delete_plan(tenant, name))

    def overrule(self, tenant: str, name: str, body: WarmupOverrule) -> WarmupPlan:
        """Set the step of one provider or of all from today on, with a reason."""
        return self._client.send(calls.overrule_plan(tenant, name, body))

    def days(self, tenant: str, name: str, *, first: date | None = None, last: date | None = None) -> WarmupDays:
        """Return the course of a plan, day by day and provider by provider."""
        return self._client.send(calls.get_days(tenant, name, first, last))

    def start_cut(self, tenant: str, request: ListCutRequest) -> Job:
        """Create a job that cuts a list into portions that fit a plan; upload the file with `client.jobs`."""
        return self._client.send(calls.start_cut(tenant, request))
