"""`client.addresses`: address checks, unsubscribe links, and gates for MTAs."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence
from datetime import date

from rust_gauge.client.calls import addresses as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.checks import (
    AddressCheck,
    AddressCheckRequest,
    AddressWords,
    Gate,
    MadeGate,
    MailLinks,
    MailLinksRequest,
    NewGate,
    Unsubscribes,
)


class Addresses(Part):
    """Address checks, unsubscribe links, and gates for MTAs."""

    def check(self, tenant: str, addresses: Sequence[str], *, probe: bool = False) -> Sequence[AddressCheck]:
        """Check addresses (at most 500): good, doubtful, bad or unknown, with reasons."""
        request = AddressCheckRequest(addresses=[*addresses], probe=probe)
        return (self._client.send(calls.check_addresses(tenant, request))).items

    def words(self, tenant: str) -> AddressWords:
        """Return the lists that addresses are checked against."""
        return self._client.send(calls.get_address_words(tenant))

    def set_words(self, tenant: str, words: AddressWords) -> AddressWords:
        """Replace the tenant's own lists and settings."""
        return self._client.send(calls.set_address_words(tenant, words))

    def unsubscribe_links(
        self, tenant: str, recipients: Sequence[str], *, domain: str, stream: str = ""
    ) -> Sequence[MailLinks]:
        """Return List-Unsubscribe and List-Unsubscribe-Post values for a message."""
        request = MailLinksRequest(recipients=[*recipients], domain=domain, stream=stream)
        return (self._client.send(calls.unsubscribe_links(tenant, request))).items

    def unsubscribes(self, tenant: str, *, days: int = 30, last: date | None = None) -> Unsubscribes:
        """Return how unsubscribe requests were handled."""
        return self._client.send(calls.unsubscribes(tenant, days, last))

    def gates(self, tenant: str) -> Sequence[Gate]:
        """Return the gates: doors through which MTAs ask about recipients."""
        return (self._client.send(calls.list_gates(tenant))).items

    def add_gate(self, tenant: str, new: NewGate) -> MadeGate:
        """Create a gate. Its key is in this answer only."""
        return self._client.send(calls.add_gate(tenant, new))

    def delete_gate(self, tenant: str, id: int) -> None:
        """Remove a gate."""
        self._client.send(calls.delete_gate(tenant, id))
