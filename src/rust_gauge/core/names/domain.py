"""Domain names in one form: A-labels, lower case, without the last dot (RFC 1035 §2.3, RFC 5890, UTS 46).

`normalise_domain` is for host and mail domains; names with underscores, as DKIM and DMARC use them, are built
from such a domain by the code that asks for them and never come from a user.
"""

import ipaddress
import re
from functools import cache, lru_cache

import idna
from publicsuffixlist import PublicSuffixList

from rust_gauge.core.errors import DomainNameError

_LABEL = re.compile(r"[a-z0-9]([a-z0-9-]*[a-z0-9])?\Z")
MAX_NAME = 253  # characters without the last dot: 255 octets on the wire (RFC 1035 §2.3.4)
_SHOWN = 80  # how much of a bad name an error repeats


def _error(text: str, why: str) -> DomainNameError:
    shown = text if len(text) <= _SHOWN else text[:_SHOWN] + "…"
    return DomainNameError(
        f"{shown!r} is not a domain name",
        why=why,
        remedy="Use a name such as news.glasswort.example, without scheme, path or local part",
    )


@lru_cache(maxsize=100_000)  # a load names the same few domains again and again
def normalise_domain(text: str) -> str:
    """`text` as A-labels in lower case without the last dot. DomainNameError when it is not a domain name."""
    name = text.strip()
    if not name:
        raise _error(text, "it is empty")
    if len(name) > 4 * MAX_NAME:  # even U-labels cannot be this long; spares IDNA the work
        raise _error(text, f"it is longer than {MAX_NAME} characters")
    if name.endswith("."):
        name = name[:-1]
    try:
        ipaddress.ip_address(name.strip("[]"))
    except ValueError:
        pass
    else:
        raise _error(text, "it is an IP address")
    try:
        name = name.lower() if name.isascii() else idna.encode(name, uts46=True).decode("ascii")
    except idna.IDNAError as error:
        raise _error(text, f"it cannot be converted to A-labels ({error})") from None
    if len(name) > MAX_NAME:
        raise _error(text, f"it is longer than {MAX_NAME} characters")
    labels = name.split(".")
    if len(labels) < 2:
        raise _error(text, "it has only one label")
    for label in labels:
        if not label:
            raise _error(text, "it has an empty label: two dots in a row, or one in front")
        if len(label) > 63:
            raise _error(text, f"the label {label[:20]}… is longer than 63 characters")
        if not _LABEL.match(label):
            raise _error(text, f"the label {label!r} contains characters other than letters, digits and inner hyphens")
    if labels[-1].isdigit():
        raise _error(text, "its last label is a number")
    return name


def a_labels(name: str) -> str:
    """Return a name in A-labels (RFC 5890); unchanged if it is not an internationalised name or cannot be converted."""
    if name.isascii():
        return name
    try:
        return idna.encode(name, uts46=True).decode("ascii")
    except idna.IDNAError:
        return name


def in_unicode(name: str) -> str:
    """Return an internationalised name in U-labels (RFC 5890), for display only; empty for any other name."""
    if "xn--" not in name.lower():
        return ""
    try:
        return idna.decode(name)
    except idna.IDNAError:
        return ""


@cache
def _suffixes() -> PublicSuffixList:
    return PublicSuffixList()


def is_public_suffix(name: str) -> bool:
    """Return whether names are registered directly below this one, by the public suffix list."""
    return _suffixes().publicsuffix(name) == name


@lru_cache(maxsize=100_000)
def registered_domain(name: str) -> str:
    """Return the public suffix of `name` with one label more; `name` itself where it is a public suffix.

    `mx1.in.tidepost.example` gives `tidepost.example`. A suffix that the list does not know is taken as one label
    (the list's own default rule).
    """
    found = _suffixes().privatesuffix(name)
    return found if found is not None else name
