"""`client.suppression`: The suppression list and clearance."""

from collections import Counter
from collections.abc import AsyncIterator, Iterable, Mapping, Sequence
from datetime import date
from typing import Any

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import suppression as calls
from rust_gauge.client.calls.call import batches_of
from rust_gauge.contract.suppression import (
    AddressStatus,
    ClearanceAnswer,
    ClearanceRequest,
    ClearanceResult,
    Decision,
    EntriesMade,
    EntryCount,
    Growth,
    Lift,
    Lifted,
    ListChanges,
    MatchingSettings,
    MatchingView,
    NewEntries,
    PolicyView,
    Sending,
    SuppressionEntry,
    SuppressionPolicy,
)


class Suppression(Part):
    """The suppression list and clearance."""

    async def clearance(
        self,
        tenant: str,
        addresses: Sequence[str],
        *,
        stream: str | None = None,
        domain: str | None = None,
        relay: str | None = None,
        sending_ip: str | None = None,
        only_held: bool = False,
        cleared_before: int = 0,
        cleared_by_provider: Mapping[str, int] | None = None,
        sending: Sending | None = None,
    ) -> ClearanceResult:
        """Check up to 100,000 addresses in one call; answers in their order.

        With `sending`, held addresses are counted as withheld, and clear ones against warm-up plans and the limits of
        the relay: set it when the answer decides what is sent. `cleared_before`: so many were cleared by earlier
        calls without it, and by provider: what their answers said, added up.
        """
        # Not validated here: the service answers for each address, and says what is wrong with a request as a whole.
        request = ClearanceRequest.model_construct(
            addresses=[*addresses], stream=stream, domain=domain, relay=relay, sending_ip=sending_ip,
            only_held=only_held, cleared_before=cleared_before, cleared_by_provider=dict(cleared_by_provider or {}),
            sending=sending,
        )  # fmt: skip
        return await self._client.send(calls.clearance(tenant, request))

    async def clear_all(
        self, tenant: str, addresses: Iterable[str], *, batch: int = 20_000, **question: Any
    ) -> AsyncIterator[ClearanceAnswer]:
        """Yield answers for any number of addresses, sent batch by batch. `question` as for `clearance`."""
        let_go, by_provider = 0, Counter[str]()
        for texts in batches_of(addresses, batch):
            found = await self.clearance(
                tenant, texts, cleared_before=let_go, cleared_by_provider=by_provider, **question
            )
            if not question.get("sending"):  # otherwise the service has counted them
                let_go += found.clear
                by_provider.update(found.cleared_by_provider)
            for answer in found.answers:
                yield answer

    def list(self, tenant: str, **query: Any) -> AsyncIterator[SuppressionEntry]:
        """Yield entries, last changed first.

        Filters: `text`, `address`, `state`, `reason`, `provider`, `stream`, `reach`, `origin`, `ends_within_days` and
        `came_back`.
        """
        return self._client.pages(lambda cursor: calls.list_suppression(tenant, cursor, query))

    async def count(self, tenant: str, **query: Any) -> EntryCount:
        """Return the number of entries, counted up to 100,000; filters as for the list."""
        return await self._client.send(calls.count_suppression(tenant, query))

    async def add(self, tenant: str, new: NewEntries) -> EntriesMade:
        """Suppress addresses or whole domains (`@domain`)."""
        return await self._client.send(calls.add_suppression(tenant, new))

    async def lift(self, tenant: str, lift: Lift) -> Lifted:
        """Remove entries, with a reason. NeedsConfirmation where one came from a complaint."""
        return await self._client.send(calls.lift_suppression(tenant, lift))

    async def export(self, tenant: str, *, form: str = "csv", **query: Any) -> AsyncIterator[bytes]:
        """Yield the whole list as `csv` or `ndjson`, in pieces; filters as for the list."""
        path, chosen = calls.export_suppression(tenant, form, query)
        async for piece in self._client.download(path, chosen):
            yield piece

    async def decide(
        self, tenant: str, ids: Sequence[str], *, confirm: bool, why: str = ""
    ) -> Sequence[SuppressionEntry]:
        """Accept or dismiss proposals."""
        decision = Decision(ids=[*ids], confirm=confirm, why=why)
        return (await self._client.send(calls.decide_suppression(tenant, decision))).items

    async def status(self, tenant: str, address: str) -> AddressStatus:
        """Return one address: its entries, and every change of its status."""
        return await self._client.send(calls.address_status(tenant, address))

    async def changes(self, tenant: str, *, after: int = 0, limit: int = 500, wait: float = 0) -> ListChanges:
        """Return changes after a number, in order; wait up to `wait` seconds (at most 55) for one."""
        return await self._client.send(calls.suppression_changes(tenant, after, limit, wait))

    async def growth(self, tenant: str, *, first: date | None = None, last: date | None = None) -> Growth:
        """Return how the list grew, and how many bounces withholding avoided."""
        return await self._client.send(calls.suppression_growth(tenant, first, last))

    async def policy(self, tenant: str) -> PolicyView:
        """Return the suppression policy: what happens to an address after which events."""
        return await self._client.send(calls.get_suppression_policy(tenant))

    async def set_policy(self, tenant: str, policy: SuppressionPolicy) -> PolicyView:
        """Set the tenant's own policy."""
        return await self._client.send(calls.set_suppression_policy(tenant, policy))

    async def reset_policy(self, tenant: str) -> PolicyView:
        """Restore the default policy."""
        return await self._client.send(calls.reset_suppression_policy(tenant))

    async def matching(self, tenant: str) -> MatchingView:
        """Return how addresses are compared."""
        return await self._client.send(calls.get_suppression_matching(tenant))

    async def set_matching(self, tenant: str, settings: MatchingSettings) -> MatchingView:
        """Change how addresses are compared. The list is rewritten."""
        return await self._client.send(calls.set_suppression_matching(tenant, settings))
