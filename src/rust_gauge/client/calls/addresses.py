"""Calls of `client.addresses`."""

from datetime import date

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
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
from rust_gauge.contract.common import Page


def check_addresses(tenant: str, request: AddressCheckRequest) -> Call[Page[AddressCheck]]:
    return repeatable(make_call("POST", tenant_path(tenant, "address-checks"), Page[AddressCheck], request))


def get_address_words(tenant: str) -> Call[AddressWords]:
    return make_call("GET", tenant_path(tenant, "address-words"), AddressWords)


def set_address_words(tenant: str, words: AddressWords) -> Call[AddressWords]:
    return repeatable(make_call("PUT", tenant_path(tenant, "address-words"), AddressWords, words))


def unsubscribe_links(tenant: str, request: MailLinksRequest) -> Call[Page[MailLinks]]:
    return repeatable(make_call("POST", tenant_path(tenant, "unsubscribe-links"), Page[MailLinks], request))


def unsubscribes(tenant: str, days: int, last: date | None) -> Call[Unsubscribes]:
    return make_call("GET", tenant_path(tenant, "unsubscribes"), Unsubscribes, days=days, last=last)


def list_gates(tenant: str) -> Call[Page[Gate]]:
    return make_call("GET", tenant_path(tenant, "gates"), Page[Gate])


def add_gate(tenant: str, new: NewGate) -> Call[MadeGate]:
    return make_call("POST", tenant_path(tenant, "gates"), MadeGate, new)


def delete_gate(tenant: str, id: int) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"gates/{id}"), type(None))
