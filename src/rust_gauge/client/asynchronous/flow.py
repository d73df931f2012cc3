"""`client.flow`: Mail flow per provider."""

from collections.abc import Sequence
from typing import Any

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import flow as calls
from rust_gauge.contract.flow import (
    Causes,
    Flow,
    FlowComparison,
    FlowDays,
    FlowNames,
    FlowSettings,
    Provider,
    ReplyPattern,
    Shift,
    ShiftDetails,
)


class FlowReader(Part):
    """Mail flow per provider."""

    async def show(self, tenant: str, **query: Any) -> Flow:
        """Return mail flow of whole days, UTC; the last seven without `first` and `last` (dates).

        Filter by `domain`, `stream`, `relay`; or by one of `ip`, `campaign`, `tag`, alone or with a domain.
        """
        return await self._client.send(calls.flow(tenant, query))

    async def days(self, tenant: str, **query: Any) -> FlowDays:
        """Return the same counts by day; `query` as for `show`."""
        return await self._client.send(calls.flow_days(tenant, query))

    async def causes(self, tenant: str, **query: Any) -> Causes:
        """Return causes of bounces and delays by day and provider; `query` as for `show`."""
        return await self._client.send(calls.causes(tenant, query))

    async def names(self, tenant: str) -> FlowNames:
        """Return the names by which mail can be filtered."""
        return await self._client.send(calls.flow_names(tenant))

    async def compare(self, tenant: str, **query: Any) -> FlowComparison:
        """Compare two parts of the mail: one chosen as in `show`, the other by `other_domain`, `other_campaign` and so
        on.
        """
        return await self._client.send(calls.compare_flow(tenant, query))

    async def reply_patterns(self, tenant: str, **query: Any) -> Sequence[ReplyPattern]:
        """Return reply patterns; `query`: `cause`, `first`, `last`, `limit`."""
        return (await self._client.send(calls.reply_patterns(tenant, query))).items

    async def providers(self, tenant: str) -> Sequence[Provider]:
        """Return the mailbox providers that the tenant sends to."""
        return (await self._client.send(calls.list_providers(tenant))).items

    async def rename_provider(self, tenant: str, provider: str, label: str) -> Provider:
        """Rename a provider; an empty name restores the default. NotFoundError if the tenant sends nothing there."""
        return await self._client.send(calls.rename_provider(tenant, provider, label))

    async def shifts(self, tenant: str, *, days: int = 7) -> Sequence[Shift]:
        """Yield sudden rises of a rate at one provider or relay, newest first."""
        return (await self._client.send(calls.list_shifts(tenant, days))).items

    async def shift(self, tenant: str, id: int) -> ShiftDetails:
        """Return a shift with its causes, its sources and some of its events. NotFoundError."""
        return await self._client.send(calls.get_shift(tenant, id))

    async def settings(self, tenant: str) -> FlowSettings:
        """Return the retention of events and the accepted rate of false shifts."""
        return await self._client.send(calls.get_flow_settings(tenant))

    async def set_settings(self, tenant: str, settings: FlowSettings) -> FlowSettings:
        """Replace these settings."""
        return await self._client.send(calls.set_flow_settings(tenant, settings))
