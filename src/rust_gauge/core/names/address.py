"""Mailbox addresses (RFC 5321 §4.1.2, with UTF-8 as in RFC 6531): parsed, normalised, and with a key to match by.

An address keeps its local part as written. Two addresses are taken as the same mailbox when their `key`s agree:
domain in A-labels and lower case, local part without case and in NFC. Nothing is guessed about dots or plus tags.
"""

import json
import re
import unicodedata
from hashlib import blake2b
from typing import Any, NamedTuple

from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names.domain import normalise_domain

MAX_LOCAL = 64  # bytes (RFC 5321 §4.5.3.1.1)
MAX_ADDRESS = 254  # octets: a path of 256 less its angle brackets (RFC 5321 §4.5.3.1.3)

# atext of RFC 5322 §3.2.3, with UTF8-non-ascii of RFC 6531 §3.3
_ATOM = r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~\-\u0080-\U0010ffff]+"
_DOT_STRING = re.compile(rf"{_ATOM}(?:\.{_ATOM})*\Z")
_PLAIN = re.compile(r"[A-Za-z0-9_+-]+(?:\.[A-Za-z0-9_+-]+)*\Z")
_QUOTED = re.compile(r'"(?:[\x20\x21\x23-\x5b\x5d-\x7e\u0080-\U0010ffff]|\\[\x20-\x7e])*"\Z')
_NAMED = re.compile(r"[^<>]*<([^<>]*)>\s*\Z")


class Address(NamedTuple):
    """One mailbox. `local` as written (unquoted where the quotes are not needed), `domain` in A-labels."""

    local: str
    domain: str

    def __str__(self) -> str:
        return f"{self.local}@{self.domain}"

    @property
    def key(self) -> str:
        """What two addresses are compared by."""
        if self.local.isascii():
            return f"{self.local.lower()}@{self.domain}"
        return f"{unicodedata.normalize('NFC', self.local).casefold()}@{self.domain}"


def address_key(address: Address) -> bytes:
    """Digest what addresses are looked up by: 16 octets, the same for all ways to write one mailbox."""
    return blake2b(address.key.encode("utf-8", "surrogatepass"), digest_size=16).digest()


def _error(text: str, why: str) -> AddressError:
    shown = text if len(text) <= 80 else text[:80] + "…"
    return AddressError(
        f"{shown!r} is not a mailbox address", why=why, remedy="Use an address such as someone@tidepost.example"
    )


def parse_address(text: str) -> Address:
    """Parse the mailbox in `text`, without a display name and angle brackets around it. AddressError otherwise."""
    # Nearly all addresses are plain: that they can be judged in one look is worth much when millions come.
    local, at, domain = text.partition("@")
    if at and len(text) < 200 and len(local) <= MAX_LOCAL and _PLAIN.match(local):
        try:
            return Address(local, normalise_domain(domain))
        except DomainNameError:
            pass  # what exactly is wrong is found below
    if len(text) > 2000:
        raise _error(text, "it is too long for an address")
    spec = text.strip()
    if spec.endswith(">"):
        named = _NAMED.match(spec)
        if named is None:
            raise _error(text, "its angle brackets do not match")
        spec = named.group(1).strip()
    if not spec:
        raise _error(text, "it is empty")
    local, at, domain = spec.rpartition("@")
    if not at:
        raise _error(text, "it has no @")
    if not local:
        raise _error(text, "nothing before the @")
    if not domain:
        raise _error(text, "nothing after the @")
    if _QUOTED.match(local):
        content = re.sub(r"\\(.)", r"\1", local[1:-1])
        if _DOT_STRING.match(content):
            local = content
    elif not _DOT_STRING.match(local):
        if local.startswith(".") or local.endswith(".") or ".." in local:
            raise _error(text, "its local part has a leading, trailing or double dot (RFC 5321 §4.1.2)")
        bad = next((c for c in local if not re.match(_ATOM, c) and c != "."), local[0])
        raise _error(text, f"its local part holds {bad!r}, which needs quotes (RFC 5321 §4.1.2)")
    if len(local.encode("utf-8", "surrogatepass")) > MAX_LOCAL:
        raise _error(text, f"its local part is longer than {MAX_LOCAL} bytes (RFC 5321 §4.5.3.1.1)")
    try:
        name = normalise_domain(domain)
    except DomainNameError as error:
        raise _error(text, error.why) from None
    address = Address(local, name)
    if len(str(address).encode("utf-8", "surrogatepass")) > MAX_ADDRESS:
        raise _error(text, f"it is longer than {MAX_ADDRESS} bytes (RFC 5321 §4.5.3.1.3)")
    return address


HIDDEN = "(address)"  # what stands in a text in place of an address
_IN_TEXT = re.compile(r"[^\s<>(),;:\"'\[\]]{1,128}@[^\s<>(),;:\"'\[\]]{1,255}")


def hide_addresses(text: str) -> str:
    """Return a text with every address in it hidden."""
    return _IN_TEXT.sub(HIDDEN, text) if "@" in text else text


def hide_in_document(text: str) -> str:
    """Return a JSON document with every address in it hidden, however it is escaped. Of anything else (a mail, whose
    parts may be encoded) only the size is left.
    """
    try:
        value = json.loads(text)
        return json.dumps(_hidden(value), ensure_ascii=False)
    except (ValueError, RecursionError):
        return f"({len(text):,} characters, not stored: the tenant stores addresses as digests only)"


def _hidden(value: Any) -> Any:
    if isinstance(value, str):
        return hide_addresses(value)
    if isinstance(value, list):
        return [_hidden(part) for part in value]
    if isinstance(value, dict):
        return {hide_addresses(name): _hidden(part) for name, part in value.items()}
    return value
