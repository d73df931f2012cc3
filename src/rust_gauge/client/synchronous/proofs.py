"""`client.proofs`: evidence that domains and sender addresses belong to the tenant."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

import builtins

from rust_gauge.client.calls import proofs as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.proofs import NewProof, Proof, ProofCode, Sender


class Proofs(Part):
    """Proofs: evidence that domains and sender addresses belong to the tenant."""

    def start(self, tenant: str, subject: str, method: str = "record", relay: str = "") -> Proof:
        """Start a proof: `record`, `postmaster` or `abuse` for a domain, `mail` for an address."""
        new = NewProof.model_construct(subject=subject, method=method, relay=relay)  # type: ignore[arg-type]
        return self._client.send(calls.start_proof(tenant, new))

    def list(self, tenant: str) -> "builtins.list[Proof]":
        """Return a tenant's proofs."""
        return (self._client.send(calls.list_proofs(tenant))).items

    def recheck(self, tenant: str, id: int) -> Proof:
        """Re-check the record now."""
        return self._client.send(calls.recheck_proof(tenant, id))

    def confirm(self, tenant: str, id: int, code: str) -> Proof:
        """Confirm with the code from the message."""
        return self._client.send(calls.confirm_proof(tenant, id, ProofCode(code=code)))

    def senders(self, tenant: str) -> "builtins.list[Sender]":
        """Return every domain that mail is sent as: verified or not, aligned or not."""
        return (self._client.send(calls.list_senders(tenant))).items
