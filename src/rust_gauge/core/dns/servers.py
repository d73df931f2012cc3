"""Addresses of name servers as people write them."""

import ipaddress


def split_server(text: str) -> tuple[str, int]:
    """`192.0.2.1`, `192.0.2.1:5353` or `[2001:db8::1]:5353` as (address, port). ValueError otherwise."""
    host, port = text, "53"
    if text.startswith("["):
        host, _, port = text[1:].partition("]")
        port = port.removeprefix(":") or "53"
    elif text.count(":") == 1:
        host, _, port = text.partition(":")
    ipaddress.ip_address(host)
    if not port.isdigit() or not 0 < int(port) < 65536:
        raise ValueError(f"{text!r} is not a server. Write address or address:port")
    return host, int(port)
