"""Calls of `client.domains`."""

from rust_gauge.client.calls.call import Call, domain_path, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.domains import Domain, DomainChange, NewDomain


def list_domains(tenant: str, search: str, cursor: str | None) -> Call[Page[Domain]]:
    return make_call("GET", tenant_path(tenant, "domains"), Page[Domain], cursor=cursor, search=search or None)


def add_domain(tenant: str, new: NewDomain) -> Call[Domain]:
    return make_call("POST", tenant_path(tenant, "domains"), Domain, new)


def get_domain(tenant: str, name: str) -> Call[Domain]:
    return make_call("GET", domain_path(tenant, name), Domain)


def update_domain(tenant: str, name: str, change: DomainChange) -> Call[Domain]:
    return repeatable(make_call("PATCH", domain_path(tenant, name), Domain, change))


def delete_domain(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", domain_path(tenant, name), type(None))
