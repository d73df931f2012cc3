"""What is asked of DNS about reported mail: the name of an address, whom an SPF record lets send, whether a From domain
exists.
"""

from ipaddress import ip_address

from dns.rdtypes.ANY.PTR import PTR
from dns.rdtypes.IN.A import A
from dns.rdtypes.IN.AAAA import AAAA

from rust_gauge.core.dns import DnsProgram, DnsQuestion, ask
from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.spf import authorised, is_spf1, parse_spf, walk_lookups

_MAX_NAMES = 5  # of one address; more is a pool, not a host


def confirmed_host(ip: str) -> DnsProgram[tuple[str, bool]]:
    """Return the name of an address that leads back to it (RFC 1912 §2.1), empty without one, and whether DNS answered.

    Without an answer nothing is known: that is not the same as an address without a name.
    """
    address = ip_address(ip)
    answer = yield from ask(address.reverse_pointer, "PTR")
    if answer.failed:
        return "", False
    names = [each.target.to_text(omit_final_dot=True).lower() for each in answer.records if isinstance(each, PTR)]
    names = names[:_MAX_NAMES]
    if not names:
        return "", True
    forward = yield tuple(DnsQuestion(name, "A" if address.version == 4 else "AAAA") for name in names)
    for name, found in zip(names, forward, strict=True):
        if any(isinstance(each, A | AAAA) and ip_address(each.address) == address for each in found.records):
            return name, True
    return "", not any(found.failed for found in forward)


def leads_to(name: str, ip: str) -> DnsProgram[bool | None]:
    """Return whether a name that a host gives in HELO has its address (RFC 5321 §2.3.5); None without an answer."""
    address = ip_address(ip)
    answer = yield from ask(name, "A" if address.version == 4 else "AAAA")
    if answer.failed:
        return None
    return any(isinstance(each, A | AAAA) and ip_address(each.address) == address for each in answer.records)


def name_exists(name: str) -> DnsProgram[bool | None]:
    """Return whether a domain exists as `np` means it: it has A, AAAA or MX records (RFC 9091 §2.7). None where DNS did
    not answer all three, and none of them had records."""
    answers = yield tuple(DnsQuestion(name, rdtype) for rdtype in ("A", "AAAA", "MX"))
    if any(answer.records for answer in answers):
        return True
    return None if any(answer.failed for answer in answers) else False


def authorised_networks(domain: str) -> DnsProgram[tuple[tuple[str, str], ...]]:
    """Return whom a domain's SPF record lets send: (network, the record's own term that leads to it). Empty without a
    usable record. Networks that hold more addresses than any sender has are left out: they tell nothing."""
    answer = yield from ask(domain, "TXT")
    records = [each.text for each in answer.texts if is_spf1(each.text)]
    if len(records) != 1:
        return ()
    try:
        record = parse_spf(records[0])
    except RustGaugeError:
        return ()
    tree = yield from walk_lookups(domain, record)
    return tuple((each.network, each.via[0]) for each in authorised(tree).networks if not each.wide)
