"""Where reports go, and whether that place has agreed to take them (RFC 7489 §7.1)."""

from dataclasses import dataclass

import dns.name
from dns.rdtypes.ANY.MX import MX

from rust_gauge.core.dmarc.record import is_dmarc1
from rust_gauge.core.dns import DnsProgram, DnsQuestion, ask
from rust_gauge.core.names import registered_domain


@dataclass(frozen=True, slots=True)
class Destination:
    """One address of rua= or ruf=. `agreed` is None where no answer came; `asked` is the name that has to agree.

    `takes_mail` is False where the domain has neither MX nor address, or a null MX.
    """

    tag: str
    address: str
    external: bool
    asked: str
    agreed: bool | None
    takes_mail: bool | None


def check_destination(owner: str, tag: str, address: str) -> DnsProgram[Destination]:
    """`owner` is the domain whose record names the address. An address within the same organisation needs nothing."""
    host = address.rpartition("@")[2]
    takes_mail = yield from accepts_mail(host)
    if registered_domain(host) == registered_domain(owner):
        return Destination(tag, address, False, "", True, takes_mail)
    name = f"{owner}._report._dmarc.{host}"
    answer = yield from ask(name, "TXT")
    agreed = None if answer.failed else any(is_dmarc1(txt.text) for txt in answer.texts)
    return Destination(tag, address, True, name, agreed, takes_mail)


def accepts_mail(host: str) -> DnsProgram[bool | None]:
    """Return whether a domain can receive mail (RFC 5321 §5.1, RFC 7505); None when that is unknown."""
    answer = yield from ask(host, "MX")
    if answer.failed:
        return None
    if answer.records:
        return not all(isinstance(mx, MX) and mx.exchange == dns.name.root for mx in answer.records)
    answers = yield DnsQuestion(host, "A"), DnsQuestion(host, "AAAA")
    if any(answer.records for answer in answers):
        return True
    return None if any(answer.failed for answer in answers) else False
