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
        """Whole days, UTC; the last seven without `first` and `last` (dates).

        By `domain`, `stream`, `relay`; or by one of `ip`, `campaign`, `tag`, alone or with a domain.
        """
        return await self._client.send(calls.flow(tenant, query))

    async def days(self, tenant: str, **query: Any) -> FlowDays:
        """Return the same counts day by day; `query` as for `show`."""
        return await self._client.send(calls.flow_days(tenant, query))

    async def causes(self, tenant: str, **query: Any) -> Causes:
        """Causes of bounces and delays day by day, per provider. Chosen as in `show`."""
        return await self._client.send(calls.causes(tenant, query))

    async def names(self, tenant: str) -> FlowNames:
        """Return the names that mail can be told apart by."""
        return await self._client.send(calls.flow_names(tenant))

    async def compare(self, tenant: str, **query: Any) -> FlowComparison:
        """Two parts of the mail: one chosen as in `show`, the other by `other_domain`, `other_campaign` and so on."""
        return await self._client.send(calls.compare_flow(tenant, query))

    async def reply_patterns(self, tenant: str, **query: Any) -> Sequence[ReplyPattern]:
        """Return replies grouped by their fixed part; `cause`, `first`, `last`, `limit`."""
        return (await self._client.send(calls.reply_patterns(tenant, query))).items

    async def providers(self, tenant: str) -> Sequence[Provider]:
        """Return the mailbox providers that the tenant's mail went to."""
        return (await self._client.send(calls.list_providers(tenant))).items

    async def rename_provider(self, tenant: str, provider: str, label: str) -> Provider:
        """Call a provider by a name of one's own; an empty one takes it back. NotFoundError if no mail went there."""
        return await self._client.send(calls.rename_provider(tenant, provider, label))

    async def shifts(self, tenant: str, *, days: int = 7) -> Sequence[Shift]:
        """Sudden rises of a rate at one provider or relay, the newest first."""
        return (await self._client.send(calls.list_shifts(tenant, days))).items

    async def shift(self, tenant: str, id: int) -> ShiftDetails:
        """Return a shift with its causes, where it came from, and some of its events. NotFoundError."""
        return await self._client.send(calls.get_shift(tenant, id))

    async def settings(self, tenant: str) -> FlowSettings:
        """How long events are kept, and how often a shift may be reported that is none."""
        return await self._client.send(calls.get_flow_settings(tenant))

    async def set_settings(self, tenant: str, settings: FlowSettings) -> FlowSettings:
        """Replace what counts as a shift, and how long events are stored."""
        return await self._client.send(calls.set_flow_settings(tenant, settings))
