"""Variable envelope return paths: the recipient written into the address that a bounce comes back to.

`news+kim=orchard.example@returns.d.example` and `news-kim=orchard.example@...` both stand for kim@orchard.example.
"""

import re

from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import parse_address

_VERP = re.compile(r"(?:[^@]*?[+-])?(?P<local>[^+@]+)=(?P<domain>[^=@+]+\.[^=@+.]+)\Z")


def verp_recipient(address: str) -> str:
    """Return the recipient that an envelope sender was made for; empty when it holds none."""
    local, at, _ = address.strip().strip("<>").rpartition("@")
    found = _VERP.match(local) if at and len(local) <= 320 else None
    if found is None:
        return ""
    try:
        return str(parse_address(f"{found['local']}@{found['domain']}"))
    except AddressError:
        return ""
