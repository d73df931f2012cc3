"""IP addresses as people write them (RFC 791, RFC 4291)."""

from ipaddress import IPv4Address, IPv6Address, ip_address

from rust_gauge.core.errors import IpAddressError


def parse_ip(text: str) -> IPv4Address | IPv6Address:
    """Return the address that a text means, blanks around it left out. IpAddressError for any other text."""
    try:
        return ip_address(text.strip())
    except ValueError:
        raise IpAddressError(
            f"`{text[:60]}` is not an IP address", remedy="Use one such as 192.0.2.43 or 2001:db8::43"
        ) from None
