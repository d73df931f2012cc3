"""Calls of `client.relays`."""

from urllib.parse import quote

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.relays import Relay, RelayDescription, RelayUsage


def list_relays(tenant: str) -> Call[Page[Relay]]:
    return make_call("GET", tenant_path(tenant, "relays"), Page[Relay])


def set_relay(tenant: str, name: str, description: RelayDescription) -> Call[Relay]:
    return repeatable(make_call("PUT", tenant_path(tenant, f"relays/{quote(name, safe='')}"), Relay, description))


def delete_relay(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"relays/{quote(name, safe='')}"), type(None))


def get_usage(tenant: str, name: str, days: int) -> Call[RelayUsage]:
    return make_call("GET", tenant_path(tenant, f"relays/{quote(name, safe='')}/usage"), RelayUsage, days=days)
