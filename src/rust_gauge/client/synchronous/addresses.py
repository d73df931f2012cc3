"""`client.addresses`: Checks of addresses, links to unsubscribe, and gates for MTAs."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence

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
    """Checks of addresses, links to unsubscribe, and gates for MTAs."""

    def check(self, tenant: str, addresses: Sequence[str], *, probe: bool = False) -> Sequence[AddressCheck]:
        """Look at addresses (500 at most): good, doubtful, bad or unknown, with reasons."""
        request = AddressCheckRequest(addresses=[*addresses], probe=probe)
        return (self._client.send(calls.check_addresses(tenant, request))).items

    def words(self, tenant: str) -> AddressWords:
        """Return what addresses are held against."""
        return self._client.send(calls.get_address_words(tenant))

    def set_words(self, tenant: str, words: AddressWords) -> AddressWords:
        """Replace the tenant's own lists and settings."""
        return self._client.send(calls.set_address_words(tenant, words))

    def unsubscribe_links(
        self, tenant: str, recipients: Sequence[str], *, domain: str, stream: str = ""
    ) -> Sequence[MailLinks]:
        """Values of List-Unsubscribe and List-Unsubscribe-Post for a message."""
        request = MailLinksRequest(recipients=[*recipients], domain=domain, stream=stream)
        return (self._client.send(calls.unsubscribe_links(tenant, request))).items

    def unsubscribes(self, tenant: str, *, days: int = 30) -> Unsubscribes:
        """How unsubscriptions went."""
        return self._client.send(calls.unsubscribes(tenant, days))

    def gates(self, tenant: str) -> Sequence[Gate]:
        """Ways in for MTAs."""
        return (self._client.send(calls.list_gates(tenant))).items

    def add_gate(self, tenant: str, new: NewGate) -> MadeGate:
        """Create a gate; its key is in this answer only."""
        return self._client.send(calls.add_gate(tenant, new))

    def delete_gate(self, tenant: str, id: int) -> None:
        """Close a gate."""
        self._client.send(calls.delete_gate(tenant, id))
