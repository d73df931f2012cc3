"""SPF, DKIM and DMARC of one message (RFC 7489 §4.3): each result, and what follows from them together."""

from collections.abc import Sequence
from dataclasses import dataclass
from email.errors import MessageError
from email.headerregistry import HeaderRegistry

from rust_gauge.core.dkim import DkimResult, DkimVerdict, HeaderField, split_message, verify_message
from rust_gauge.core.dmarc import DmarcOutcome, Identifier, evaluate
from rust_gauge.core.dns import DnsProgram
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import normalise_domain, parse_address
from rust_gauge.core.spf import SpfCheck, SpfResult, check_mail

_registry = HeaderRegistry()


@dataclass(frozen=True, slots=True)
class Authentication:
    """`spf` is None where the connection is not known. `dmarc` holds both ways, empty without a usable From."""

    header_from: str
    signatures: tuple[DkimVerdict, ...]
    spf: SpfCheck | None
    dmarc: tuple[DmarcOutcome, ...]
    problems: tuple[str, ...]


def header_from_domain(fields: Sequence[HeaderField]) -> tuple[str, str]:
    """Return the domain of From in A-labels, and what is wrong with From. One of the two is empty (RFC 7489 §6.6.1)."""
    if not fields:
        return "", "the message has no From"
    if len(fields) > 1:
        return "", f"the message has {len(fields)} From fields; receivers reject it or choose one"
    text = fields[0].text
    try:
        addresses = getattr(_registry("From", text[:2000]), "addresses", ())
        domains = {normalise_domain(address.domain) for address in addresses if address.domain}
    except (DomainNameError, MessageError, ValueError, LookupError, AttributeError, TypeError, RecursionError):
        domains = set()  # the parser of the standard library trips over some of what people send
    if not domains:
        try:
            domains = {parse_address(text).domain}
        except AddressError as error:
            return "", f"From has no usable address: {error.why}"
    if len(domains) > 1:
        return "", f"From has addresses of {len(domains)} domains: {', '.join(sorted(domains))}"
    return domains.pop(), ""


def authenticate(
    raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = "", now: int | None = None
) -> DnsProgram[Authentication]:
    """Verify a message as a receiver would. Without `ip`, SPF is left out. ValueError if `ip` is not an IP address."""
    message = split_message(raw)
    problems = []
    if message.strays:
        problems.append(f"{len(message.strays)} lines of the header are not fields: {message.strays[0]}")
    header_from, wrong = header_from_domain(message.all("From"))
    if wrong:
        problems.append(wrong)
    signatures = yield from verify_message(raw, now)
    spf = (yield from check_mail(ip, helo, mail_from)) if ip else None
    dmarc: list[DmarcOutcome] = []
    if header_from:
        identifiers = _identifiers(signatures, spf)
        for method in ("suffix-list", "tree-walk"):
            dmarc.append((yield from evaluate(header_from, identifiers, way=method)))
    return Authentication(header_from, signatures, spf, tuple(dmarc), tuple(problems))


def _identifiers(signatures: Sequence[DkimVerdict], spf: SpfCheck | None) -> list[Identifier]:
    found = []
    if spf is not None:
        outcome = spf.mail_from
        found.append(Identifier("spf", spf.mail_from_domain, outcome.result is SpfResult.PASS, str(outcome.result)))
    for signature in signatures:
        if signature.signature.domain:
            passed = signature.result is DkimResult.PASS
            found.append(
                Identifier("dkim", signature.signature.domain, passed, f"{signature.result}: {signature.reason}")
            )
    return found
