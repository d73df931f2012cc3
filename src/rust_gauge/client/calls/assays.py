"""Calls of `client.assays`."""

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, tenant_path
from rust_gauge.contract.assays import Assay


def assay_message(tenant: str, raw: bytes, ip: str, helo: str, mail_from: str) -> Call[Assay]:
    query = {name: value for name, value in (("ip", ip), ("helo", helo), ("mail_from", mail_from)) if value}
    return Call(
        "POST", f"/api/v1{tenant_path(tenant, 'assays')}", TypeAdapter(Assay), query, raw, "message/rfc822", True
    )
