"""Calls of `client.proofs`."""

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.proofs import NewProof, Proof, ProofCode, Sender


def start_proof(tenant: str, new: NewProof) -> Call[Proof]:
    return make_call("POST", tenant_path(tenant, "proofs"), Proof, new)


def list_proofs(tenant: str) -> Call[Page[Proof]]:
    return make_call("GET", tenant_path(tenant, "proofs"), Page[Proof])


def recheck_proof(tenant: str, id: int) -> Call[Proof]:
    return repeatable(make_call("POST", tenant_path(tenant, f"proofs/{id}/recheck"), Proof))


def confirm_proof(tenant: str, id: int, code: ProofCode) -> Call[Proof]:
    return make_call("POST", tenant_path(tenant, f"proofs/{id}/code"), Proof, code)


def list_senders(tenant: str) -> Call[Page[Sender]]:
    return make_call("GET", tenant_path(tenant, "senders"), Page[Sender])
