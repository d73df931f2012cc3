"""Names that mail is broken down by: streams, relays, sending addresses, campaigns and tags, as ids."""

from typing import Literal

from sqlalchemy import Connection

from rust_gauge.service.runtime.problems import unknown_name
from rust_gauge.store import flow as store_flow
from rust_gauge.store import tables as t
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.intake import CAMPAIGN, IP, TAG


def part_id(connection: Connection, tenant: TenantAccess, kind: Literal["stream", "relay"], name: str) -> int:
    """Return the id of a stream or relay by its name. ServiceProblem `not-found` with the nearest known one."""
    found = store_flow.id_of(connection, t.stream if kind == "stream" else t.relay, tenant.id, name)
    if found is None:
        raise unknown_name(tenant.name, kind, name, store_flow.names_of(connection, tenant.id)[f"{kind}s"])
    return found


_LABELS = {IP: ("sending address", "ips"), CAMPAIGN: ("campaign", "campaigns"), TAG: ("tag", "tags")}


def label_id(connection: Connection, tenant: TenantAccess, what: int, name: str) -> int:
    """Return the id of a sending address, campaign or tag. ServiceProblem `not-found` with the nearest known one."""
    found = store_flow.label_id(connection, tenant.id, what, name)
    if found is None:
        word, key = _LABELS[what]
        raise unknown_name(tenant.name, word, name, store_flow.names_of(connection, tenant.id)[key])
    return found
