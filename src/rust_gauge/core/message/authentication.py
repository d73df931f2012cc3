"""SPF, DKIM and DMARC of one message (RFC 7489 §4.3): each result, and what follows from them together."""

from collections.abc import Sequence
from dataclasses import dataclass
from email.errors import MessageError
from email.headerregistry import HeaderRegistry

from rust_gauge.core.dkim import DkimResult, DkimVerdict, HeaderField, MailMessage, split_message, verify_message
from rust_gauge.core.dmarc import DmarcOutcome, Identifier, evaluate
from rust_gauge.core.dns import DnsProgram
from rust_gauge.core.errors import AddressError, DomainNameError
from rust_gauge.core.names import normalise_domain, parse_address
from rust_gauge.core.spf import SpfCheck, SpfResult, check_mail

_registry = HeaderRegistry()


@dataclass(frozen=True, slots=True)
class Authentication:
    """`spf` is None where the connection is not known. `dmarc` holds both ways, empty without a usable From.

    `one_click` says whether the message offers to unsubscribe with one click, in signed fields (RFC 8058); None when
    that depends on a signature whose key got no answer.
    """

    header_from: str
    signatures: tuple[DkimVerdict, ...]
    spf: SpfCheck | None
    dmarc: tuple[DmarcOutcome, ...]
    problems: tuple[str, ...]
    one_click: bool | None = False


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
    one_click = _offers_one_click(message, signatures)
    return Authentication(header_from, signatures, spf, tuple(dmarc), tuple(problems), one_click)


def _offers_one_click(message: MailMessage, signatures: Sequence[DkimVerdict]) -> bool | None:
    """Return whether List-Unsubscribe has an https URI, List-Unsubscribe-Post is as it must be, and both are signed."""
    uris = [field.text.lower() for field in message.all("List-Unsubscribe")]
    posts = [field.text.strip().lower() for field in message.all("List-Unsubscribe-Post")]
    if not any("<https:" in uri for uri in uris) or posts != ["list-unsubscribe=one-click"]:
        return False
    wanted = {"list-unsubscribe", "list-unsubscribe-post"}
    results = {each.result for each in signatures if wanted <= set(each.signature.headers)}
    if DkimResult.PASS in results:
        return True
    return None if DkimResult.TEMPERROR in results else False


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
