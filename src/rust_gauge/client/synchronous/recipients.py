"""`client.recipients`: what is stored about one person."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence

from rust_gauge.client.calls import recipients as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData


class Recipients(Part):
    """Recipient data: what is stored about one person."""

    def data(self, tenant: str, address: str) -> RecipientData:
        """Return events, entries with their history, and rejected rows. InvalidInputError if it is not an address."""
        return self._client.send(calls.recipient_data(tenant, address))

    def erase(self, tenant: str, request: ErasureRequest) -> Erasure:
        """Erase a recipient everywhere. Counters are unchanged. This cannot be undone."""
        return self._client.send(calls.erase(tenant, request))

    def erasures(self, tenant: str) -> Sequence[Erasure]:
        """Return the erasures: when and by whom, not whose data."""
        return (self._client.send(calls.list_erasures(tenant))).items
