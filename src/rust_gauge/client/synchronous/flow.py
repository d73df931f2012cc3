"""`client.flow`: Mail flow per provider."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence
from typing import Any

from rust_gauge.client.calls import flow as calls
from rust_gauge.client.synchronous.part import Part
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

    def show(self, tenant: str, **query: Any) -> Flow:
        """Return mail flow of whole days, UTC; the last seven without `first` and `last` (dates).

        Filter by `domain`, `stream`, `relay`; or by one of `ip`, `campaign`, `tag`, alone or with a domain.
        """
        return self._client.send(calls.flow(tenant, query))

    def days(self, tenant: str, **query: Any) -> FlowDays:
        """Return the same counts by day; `query` as for `show`."""
        return self._client.send(calls.flow_days(tenant, query))

    def causes(self, tenant: str, **query: Any) -> Causes:
        """Return causes of bounces and delays by day and provider; `query` as for `show`."""
        return self._client.send(calls.causes(tenant, query))

    def names(self, tenant: str) -> FlowNames:
        """Return the names by which mail can be filtered."""
        return self._client.send(calls.flow_names(tenant))

    def compare(self, tenant: str, **query: Any) -> FlowComparison:
        """Compare two parts of the mail: one chosen as in `show`, the other by `other_domain`, `other_campaign` and so
        on.
        """
        return self._client.send(calls.compare_flow(tenant, query))

    def reply_patterns(self, tenant: str, **query: Any) -> Sequence[ReplyPattern]:
        """Return reply patterns; `query`: `cause`, `first`, `last`, `limit`."""
        return (self._client.send(calls.reply_patterns(tenant, query))).items

    def providers(self, tenant: str) -> Sequence[Provider]:
        """Return the mailbox providers that the tenant sends to."""
        return (self._client.send(calls.list_providers(tenant))).items

    def rename_provider(self, tenant: str, provider: str, label: str) -> Provider:
        """Rename a provider; an empty name restores the default. NotFoundError if the tenant sends nothing there."""
        return self._client.send(calls.rename_provider(tenant, provider, label))

    def shifts(self, tenant: str, *, days: int = 7) -> Sequence[Shift]:
        """Yield sudden rises of a rate at one provider or relay, newest first."""
        return (self._client.send(calls.list_shifts(tenant, days))).items

    def shift(self, tenant: str, id: int) -> ShiftDetails:
        """Return a shift with its causes, its sources and some of its events. NotFoundError."""
        return self._client.send(calls.get_shift(tenant, id))

    def settings(self, tenant: str) -> FlowSettings:
        """Return the retention of events and the accepted rate of false shifts."""
        return self._client.send(calls.get_flow_settings(tenant))

    def set_settings(self, tenant: str, settings: FlowSettings) -> FlowSettings:
        """Replace these settings."""
        return self._client.send(calls.set_flow_settings(tenant, settings))
