"""Which addresses are globally reachable, by the registries of special-purpose addresses (RFC 6890, kept by IANA)."""

import ipaddress

# Beside what the standard library knows: anycast for 6to4 relays (RFC 7526), and assignments of the protocols.
_NOT_V4 = tuple(map(ipaddress.IPv4Network, ("192.0.0.0/24", "192.88.99.0/24", "224.0.0.0/4")))
# Global unicast is 2000::/3 alone; what carries an IPv4 address within (mapped, NAT64, 6to4, Teredo) leads elsewhere.
_UNICAST_V6 = ipaddress.IPv6Network("2000::/3")
_NOT_V6 = tuple(map(ipaddress.IPv6Network, ("2001::/23", "2001:db8::/32", "2002::/16", "3fff::/20")))


def is_globally_reachable(text: str) -> bool:
    """Return whether a packet to this address goes to some host of the internet, and to no network of ours.

    False for what is not an address, or has a zone.
    """
    try:
        address = ipaddress.ip_address(text)
    except ValueError:
        return False
    if isinstance(address, ipaddress.IPv4Address):
        return address.is_global and not any(address in network for network in _NOT_V4)
    if address.scope_id:
        return False
    return address in _UNICAST_V6 and address.is_global and not any(address in network for network in _NOT_V6)
