"""When two ways to write an address mean the same mailbox, and the key by which the list knows it.

Domains are compared in A-labels without case, local parts without case and in NFC unless the tenant wants them exact
(RFC 5321 §2.4 leaves it to the receiving host). Nothing is guessed about dots or tags: a rule for a provider says so.
With a secret the key is a keyed digest, so that the list can be kept without any address in clear.
"""

import re
import unicodedata
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from hashlib import blake2b

from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import Address, normalise_domain, parse_address

KEY_OCTETS = 16  # the chance that two of a billion addresses share a key is below 1 in 10^20
_PLAIN = re.compile(r"(?:[A-Za-z0-9_+-]+(?:\.[A-Za-z0-9_+-]+)*@[A-Za-z0-9.-]+\n)*\Z")
_ONE_PLAIN = re.compile(r"[A-Za-z0-9_+-]+(?:\.[A-Za-z0-9_+-]+)*@[A-Za-z0-9.-]+\Z")
_PSEUDONYM = re.compile(r"#[0-9a-f]{32}\Z")
_LOCAL_MOST = 64  # octets, RFC 5321 §4.5.3.1.1
NO_PROVIDER: Callable[[str], str] = lambda _: ""  # noqa: E731


@dataclass(frozen=True, slots=True)
class SameMailbox:
    """At one provider: what of a local part makes no difference. `provider` names a provider or a recipient domain."""

    provider: str
    tag_after: str = ""  # what begins with this is a tag
    without_dots: bool = False


@dataclass(frozen=True, slots=True)
class Matching:
    """How addresses are compared."""

    fold_case: bool = True
    same: tuple[SameMailbox, ...] = ()
    secret: bytes = b""

    def normal_form(self, address: Address, provider: str = "") -> str:
        """Return what two addresses are compared by. `provider`: who runs the mailboxes of its domain."""
        local, domain = address
        for rule in self.same:
            if rule.provider in (domain, provider):
                local = _without(local, rule)
        if not local.isascii():
            local = unicodedata.normalize("NFC", local)
            return f"{local.casefold() if self.fold_case else local}@{domain}"
        return f"{local.lower() if self.fold_case else local}@{domain}"

    def key(self, address: Address, provider: str = "") -> bytes:
        """16 octets: BLAKE2b of the normal form, keyed with the secret where there is one; of a pseudonym its own."""
        if self.secret and _PSEUDONYM.match(address.local):
            return bytes.fromhex(address.local[1:])
        return self.digest(self.normal_form(address, provider))

    def pseudonym(self, address: Address, provider: str = "") -> Address:
        """Return what stands for an address where no address may be stored: its key, at the same domain."""
        return Address(f"#{self.key(address, provider).hex()}", address.domain)

    def possible_keys(self, address: Address, provider: str = "") -> tuple[bytes, ...]:
        """Its key, and that under which it was put while it was not known who runs its mailboxes."""
        key, plain = self.key(address, provider), self.key(address)
        return (key,) if key == plain else (key, plain)

    def domain_key(self, domain: str) -> bytes:
        """Return the key of all addresses of a domain. It is no person's, so it is never keyed."""
        return blake2b(f"@{domain}".encode(), digest_size=KEY_OCTETS).digest()

    def digest(self, text: str) -> bytes:
        """Digest a normal form, as KEY_OCTETS octets."""
        return blake2b(text.encode("utf-8", "surrogatepass"), digest_size=KEY_OCTETS, key=self.secret).digest()

    def keys(
        self, texts: Sequence[str], provider_of: Callable[[str], str] = NO_PROVIDER
    ) -> tuple[list[bytes | None], dict[int, AddressError], list[str]]:
        """Keys of many addresses, what is wrong with those that are none, and the domain of each.

        Plain addresses, which nearly all are, are looked at together: one at a time costs three times as much.
        """
        joined = "\n".join(texts) + "\n" if texts else ""
        if self.fold_case and not self.same and _PLAIN.match(joined):
            joined = joined.lower()
            lines = joined.split("\n")[:-1]
            domains = [line.partition("@")[2] for line in lines]
            # A line that is no longer than a local part may be needs no second look.
            short = len(lines) == len(texts) and (
                max(map(len, lines), default=0) <= _LOCAL_MOST + 2 or _locals_fit(lines)
            )
            if short and all(map(_is_normal, set(domains))):
                return _digests(joined.encode().split(b"\n")[:-1], self.secret), {}, domains
        keys: list[bytes | None] = []
        wrong: dict[int, AddressError] = {}
        domains = []
        for number, text in enumerate(texts):
            try:
                address = parse_address(text)
            except AddressError as error:
                wrong[number] = error
                keys.append(None)
                domains.append("")
                continue
            keys.append(self.key(address, provider_of(address.domain) if self.same else ""))
            domains.append(address.domain)
        return keys, wrong, domains


def _digests(octets: Sequence[bytes], secret: bytes) -> list[bytes | None]:
    """Keys of many; a copy of what is begun already costs a third less than beginning again."""
    begun, out = blake2b(digest_size=KEY_OCTETS, key=secret), []
    for octet in octets:
        one = begun.copy()
        one.update(octet)
        out.append(one.digest())
    return out  # type: ignore[return-value]


def _locals_fit(lines: Sequence[str]) -> bool:
    return all(line.index("@") <= _LOCAL_MOST for line in lines)


def _without(local: str, rule: SameMailbox) -> str:
    if rule.tag_after:
        head = local.split(rule.tag_after, 1)[0]
        local = head or local  # what begins with the sign is all name
    if rule.without_dots:
        local = local.replace(".", "") or local
    return local


def _is_normal(domain: str) -> bool:
    try:
        return normalise_domain(domain) == domain
    except DomainNameError:
        return False
