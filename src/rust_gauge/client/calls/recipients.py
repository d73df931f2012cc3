"""Calls of `client.recipients`."""

from rust_gauge.client.calls.call import Call, make_call, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.recipients import Erasure, ErasureRequest, RecipientData


def recipient_data(tenant: str, address: str) -> Call[RecipientData]:
    return make_call("GET", tenant_path(tenant, "recipient-data"), RecipientData, address=address)


def list_erasures(tenant: str) -> Call[Page[Erasure]]:
    return make_call("GET", tenant_path(tenant, "erasures"), Page[Erasure])


def erase(tenant: str, request: ErasureRequest) -> Call[Erasure]:
    return make_call("POST", tenant_path(tenant, "erasures"), Erasure, request)
