"""Looking at an address before it is mailed: its form, its domain, what kind of address it is.

Asks DNS by yielding questions, as everything in the core does. What the mailbox itself says is for a probe over SMTP,
which the service may or may not be allowed to make; what our own history says is put beside it there.
"""

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from functools import lru_cache

from dns.rdtypes.ANY.MX import MX

from rust_gauge.core.dns import AnswerStatus, DnsProgram, ask, gather
from rust_gauge.core.errors import AddressError
from rust_gauge.core.names import Address, parse_address, registered_domain


class Verdict(StrEnum):
    """What all that was found comes to."""

    GOOD = "good"
    DOUBTFUL = "doubtful"
    BAD = "bad"
    UNKNOWN = "unknown"


class Weight(StrEnum):
    """What one thing that was found means."""

    FOR = "for"
    DOUBT = "doubt"
    AGAINST = "against"
    OPEN = "open"  # it could not be found out


@dataclass(frozen=True, slots=True)
class Found:
    """One thing that was found: its word, what it means, and a sentence."""

    word: str
    weight: Weight
    detail: str


@dataclass(frozen=True, slots=True)
class Words:
    """What addresses are held against: a tenant's own lists."""

    roles: frozenset[str] = frozenset()  # local parts
    throw_away: frozenset[str] = frozenset()  # domains, with all below them
    parked: frozenset[str] = frozenset()  # domains of mail hosts that serve parked domains
    usual: tuple[str, ...] = ()  # recipient domains that the tenant's mail goes to, those with most mail first


# Words of RFC 2142, and those that mailboxes of roles commonly have.
ROLES = frozenset(
    word
    for words in (
        "abuse accounts admin administrator billing contact desk enquiries ftp help helpdesk hostmaster hr info it",
        "jobs legal list mail mailer-daemon marketing news no-reply noc noreply office orders postmaster press",
        "privacy receipts reception recruitment root sales security service spam staff support sysadmin team usenet",
        "uucp webmaster www",
    )
    for word in words.split()
)
# Endings that are typed by mistake, and what was meant.
ENDINGS = {"con": "com", "cmo": "com", "ocm": "com", "comm": "com", "vom": "com", "nte": "net", "ent": "net",
           "ogr": "org", "orgg": "org", "exmaple": "example", "exampel": "example", "examlpe": "example"}  # fmt: skip


@dataclass(frozen=True, slots=True)
class DomainFacts:
    """What DNS says of a domain's mail. `problem`: why nothing can be said. Kept for a while by whoever asks."""

    takes_mail: bool | None
    word: str
    detail: str
    hosts: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Check:
    """An address with all that was found."""

    text: str
    address: Address | None
    verdict: Verdict
    found: tuple[Found, ...] = field(default=())
    suggestion: str = ""


def domain_facts(domain: str) -> DnsProgram[DomainFacts]:
    """Return whether a domain exists and takes mail: MX, null MX (RFC 7505), else its address (RFC 5321 §5.1)."""
    mx = yield from ask(domain, "MX")
    if mx.status is AnswerStatus.NO_NAME:
        return DomainFacts(False, "no_domain", f"{domain} does not exist")
    if mx.failed:
        return DomainFacts(None, "dns_trouble", f"DNS gave no usable answer for {domain}")
    records = sorted(
        (record for record in mx.records if isinstance(record, MX)), key=lambda r: (r.preference, str(r.exchange))
    )
    hosts = tuple(record.exchange.to_text(omit_final_dot=True).lower().strip(".@") for record in records)
    if hosts == ("",):
        return DomainFacts(False, "null_mx", f"{domain} states that it accepts no mail (null MX, RFC 7505)")
    if not hosts:
        found = yield from gather([_addresses(domain)])
        if found[0] is None:
            return DomainFacts(None, "dns_trouble", f"DNS gave no usable answer for the address of {domain}")
        if not found[0]:
            return DomainFacts(False, "no_mail_host", f"{domain} has no mail host: neither MX nor an address")
        return DomainFacts(True, "address_only", f"{domain} has no MX, so its own address accepts the mail", (domain,))
    found = yield from gather([_addresses(host) for host in hosts[:4] if host])
    if any(found):
        return DomainFacts(True, "mx", f"{domain} accepts mail at {hosts[0]}", hosts)
    if None in found:
        return DomainFacts(None, "dns_trouble", f"DNS gave no usable answer for the mail hosts of {domain}", hosts)
    return DomainFacts(False, "dead_mx", f"none of the mail hosts of {domain} has an address", hosts)


def _addresses(host: str) -> DnsProgram[bool | None]:
    """Return whether a host has an address; None where DNS did not answer."""
    troubled = False
    for kind in ("A", "AAAA"):
        answer = yield from ask(host, kind)
        if answer.records:
            return True
        troubled |= answer.failed
    return None if troubled else False


def check_form(text: str) -> tuple[Address | None, Found]:
    """Parse the address, if it is one (RFC 5321, 5322, 6531)."""
    try:
        address = parse_address(text)
    except AddressError as error:
        return None, Found("no_address", Weight.AGAINST, error.why or error.what)
    if not address.local.isascii():
        says = "its local part needs SMTPUTF8 (RFC 6531), which not all hosts support"
        return address, Found("smtputf8", Weight.DOUBT, says)
    return address, Found("form", Weight.FOR, "its syntax is valid")


def check_kind(address: Address, words: Words) -> tuple[list[Found], str]:
    """Look at its words: a role, a disposable domain, a typo; and what may have been meant."""
    found: list[Found] = []
    local, domain = address
    if local.lower().partition("+")[0] in words.roles:
        found.append(Found("role", Weight.DOUBT, f"{local} is a role: its readers did not sign up"))
    if _is_below(domain, words.throw_away):
        found.append(Found("throw_away", Weight.DOUBT, f"{domain} is a disposable domain"))
    meant = _meant(domain, words.usual)
    if meant:
        found.append(Found("slip", Weight.DOUBT, f"{domain} looks like a typo of {meant}"))
        return found, f"{local}@{meant}"
    return found, ""


def check_domain(facts: DomainFacts, words: Words) -> list[Found]:
    """Return what is known of its domain, as findings."""
    if facts.takes_mail is None:
        return [Found(facts.word, Weight.OPEN, facts.detail)]
    if not facts.takes_mail:
        return [Found(facts.word, Weight.AGAINST, facts.detail)]
    parked = next((host for host in facts.hosts if _is_below(host, words.parked)), None)
    if parked is not None:
        return [Found("parked", Weight.AGAINST, f"its mail host {parked} serves parked domains")]
    return [Found(facts.word, Weight.FOR, facts.detail)]


def verdict_of(found: Iterable[Found]) -> Verdict:
    """Weigh all findings: one word against is enough, a doubt weighs more than what speaks for it."""
    weights = {finding.weight for finding in found}
    if Weight.AGAINST in weights:
        return Verdict.BAD
    if Weight.OPEN in weights:
        return Verdict.UNKNOWN
    return Verdict.DOUBTFUL if Weight.DOUBT in weights else Verdict.GOOD


@lru_cache(maxsize=20_000)  # lists name the same few domains again and again
def _is_below(domain: str, names: frozenset[str]) -> bool:
    labels = domain.split(".")
    return any(".".join(labels[start:]) in names for start in range(len(labels)))


@lru_cache(maxsize=20_000)
def _meant(domain: str, usual: tuple[str, ...]) -> str:
    """Return the domain that was probably meant; empty where this one is known itself or nothing is near it."""
    if domain in usual:
        return ""
    name, _, ending = domain.rpartition(".")
    if ending in ENDINGS and (corrected := f"{name}.{ENDINGS[ending]}") in usual:
        return corrected
    registered = registered_domain(domain)
    for known in usual:
        if known.startswith(registered) or registered.startswith(known) or known == domain:
            continue
        if _near(domain, known):
            return known
    return f"{name}.{ENDINGS[ending]}" if ending in ENDINGS else ""


def _near(one: str, other: str) -> bool:
    """One letter too many, too few or wrong, or two that changed places. Short names are too alike to tell."""
    if min(len(one), len(other)) < 8 or abs(len(one) - len(other)) > 1 or one == other:
        return False
    start = 0
    while start < min(len(one), len(other)) and one[start] == other[start]:
        start += 1
    a, b = one[start:], other[start:]
    if len(a) == len(b):
        return a[1:] == b[1:] or (len(a) > 1 and a[0] == b[1] and a[1] == b[0] and a[2:] == b[2:])
    return a[1:] == b if len(a) > len(b) else a == b[1:]
