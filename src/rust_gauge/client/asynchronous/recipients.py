"""`client.recipients`: What is kept of one person."""

from collections.abc import Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import recipients as calls
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData


class Recipients(Part):
    """What is kept of one person."""

    async def data(self, tenant: str, address: str) -> RecipientData:
        """Events, entries and their history, rejected rows. InvalidInputError if it is no address."""
        return await self._client.send(calls.recipient_data(tenant, address))

    async def erase(self, tenant: str, request: ErasureRequest) -> Erasure:
        """Take a recipient out of everything, for good. Counters stay as they are."""
        return await self._client.send(calls.erase(tenant, request))

    async def erasures(self, tenant: str) -> Sequence[Erasure]:
        """Return which erasures were made, when and by whom; not of whom."""
        return (await self._client.send(calls.list_erasures(tenant))).items
