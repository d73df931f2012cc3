"""Names: domain names and mailbox addresses as values that are checked once and compared safely afterwards."""

from rust_gauge.core.names.address import (
    HIDDEN,
    Address,
    address_key,
    hide_addresses,
    hide_in_document,
    parse_address,
)
from rust_gauge.core.names.domain import a_labels, in_unicode, is_public_suffix, normalise_domain, registered_domain
from rust_gauge.core.names.ip import parse_ip

__all__ = [
    "HIDDEN",
    "Address",
    "a_labels",
    "address_key",
    "hide_addresses",
    "hide_in_document",
    "in_unicode",
    "is_public_suffix",
    "normalise_domain",
    "parse_address",
    "parse_ip",
    "registered_domain",
]
