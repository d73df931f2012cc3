"""Calls of `client.watches`."""

from rust_gauge.client.calls.call import Call, domain_path, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.watches import Watch, WatchRequest, WatchSettings


def start_watch(tenant: str, name: str, request: WatchRequest) -> Call[Watch]:
    return make_call("POST", domain_path(tenant, name) + "/watches", Watch, request)


def list_watches(tenant: str, name: str) -> Call[Page[Watch]]:
    return make_call("GET", domain_path(tenant, name) + "/watches", Page[Watch])


def get_watch(tenant: str, id: int) -> Call[Watch]:
    return make_call("GET", tenant_path(tenant, f"watches/{id}"), Watch)


def cancel_watch(tenant: str, id: int) -> Call[Watch]:
    return repeatable(make_call("POST", tenant_path(tenant, f"watches/{id}/cancel"), Watch))


def recheck_watch(tenant: str, id: int) -> Call[Watch]:
    return repeatable(make_call("POST", tenant_path(tenant, f"watches/{id}/recheck"), Watch))


def get_watch_settings(tenant: str) -> Call[WatchSettings]:
    return make_call("GET", tenant_path(tenant, "watch-settings"), WatchSettings)


def set_watch_settings(tenant: str, settings: WatchSettings) -> Call[WatchSettings]:
    return repeatable(make_call("PUT", tenant_path(tenant, "watch-settings"), WatchSettings, settings))
