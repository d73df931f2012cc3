"""Lists of addresses and domains in DNS (RFC 5782): is it listed, what does the code mean, and can the list be trusted?

Each list is tested beside the question with the entries that must and must not be there (§5): one that refuses us,
or that answers everything, says nothing about anybody.
"""

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from dns.rdtypes.IN.A import A

from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion

_ERRORS = ipaddress.ip_network("127.255.255.0/24")  # where lists commonly put "you may not ask" and the like
_LOOPBACK = ipaddress.ip_network("127.0.0.0/8")


@dataclass(frozen=True, slots=True)
class DnsList:
    """A list. `kind` is `ip` or `domain`; `codes` says what its answers mean: {"127.0.0.2": "direct source"}."""

    zone: str
    kind: str = "ip"
    label: str = ""
    codes: Mapping[str, str] = field(default_factory=dict, hash=False)

    @property
    def name(self) -> str:
        """What people call the list."""
        return self.label or self.zone


class ListState(StrEnum):
    """What a list said."""

    LISTED = "listed"
    NOT_LISTED = "not_listed"
    REFUSED = "refused"  # it does not answer us, or answers with an error code
    ANSWERS_ALL = "answers_all"  # it lists even what must not be listed
    EMPTY = "empty"  # it does not list what must be listed: dead, or no such list
    FAILED = "failed"  # no usable answer


@dataclass(frozen=True, slots=True)
class ListAnswer:
    """What a list says of one address or domain. `codes` are (answer, meaning), `text` its TXT record."""

    list: DnsList
    subject: str
    state: ListState
    codes: tuple[tuple[str, str], ...] = ()
    text: str = ""
    detail: str = ""


def ask_list(dns_list: DnsList, subject: str) -> DnsProgram[ListAnswer]:
    """Ask one list about an address or a domain, with its test entries."""
    name = _owner(dns_list, subject)
    listed_test, unlisted_test = _tests(dns_list, subject)
    answers = yield (
        DnsQuestion(name, "A"),
        DnsQuestion(listed_test, "A"),
        DnsQuestion(unlisted_test, "A"),
    )
    answer, listed, unlisted = answers
    codes = _codes(answer)
    if any(ipaddress.ip_address(code) in _ERRORS for code in codes + _codes(listed)):
        return ListAnswer(dns_list, subject, ListState.REFUSED, _meanings(dns_list, codes), detail="an error code")
    if answer.failed or listed.failed:
        bad = answer if answer.failed else listed
        state = ListState.REFUSED if bad.status == "refused" else ListState.FAILED
        return ListAnswer(dns_list, subject, state, detail=bad.detail or str(bad.status))
    if unlisted.records or any(ipaddress.ip_address(code) not in _LOOPBACK for code in codes):
        what = (
            f"it lists {unlisted_test}, which must never be listed"
            if unlisted.records
            else "its answer is not a listing code"
        )
        return ListAnswer(dns_list, subject, ListState.ANSWERS_ALL, detail=what)
    if not listed.records:
        detail = f"it does not list {listed_test}, as every list must"
        if not codes:
            return ListAnswer(dns_list, subject, ListState.EMPTY, detail=detail)
    if not codes:
        return ListAnswer(dns_list, subject, ListState.NOT_LISTED)
    (why,) = yield (DnsQuestion(name, "TXT"),)
    text = why.texts[0].text[:300] if why.texts else ""
    return ListAnswer(dns_list, subject, ListState.LISTED, _meanings(dns_list, codes), text)


def _owner(dns_list: DnsList, subject: str) -> str:
    """§2.1, §2.4: an address with its octets or nibbles turned round, a domain as it is."""
    if dns_list.kind == "domain":
        return f"{subject}.{dns_list.zone}"
    pointer = ipaddress.ip_address(subject).reverse_pointer
    return f"{pointer.removesuffix('.in-addr.arpa').removesuffix('.ip6.arpa')}.{dns_list.zone}"


def _tests(dns_list: DnsList, subject: str) -> tuple[str, str]:
    """§5: entries that must be there, and must not."""
    if dns_list.kind == "domain":
        return f"test.{dns_list.zone}", f"invalid.{dns_list.zone}"
    if ipaddress.ip_address(subject).version == 4:
        return f"2.0.0.127.{dns_list.zone}", f"1.0.0.127.{dns_list.zone}"
    listed = _owner(dns_list, "::ffff:7f00:2")
    return listed, _owner(dns_list, "::ffff:7f00:1")


def _codes(answer: DnsAnswer) -> list[str]:
    return [rdata.address for rdata in answer.records if isinstance(rdata, A)]


def _meanings(dns_list: DnsList, codes: list[str]) -> tuple[tuple[str, str], ...]:
    return tuple((code, dns_list.codes.get(code, "")) for code in codes)
