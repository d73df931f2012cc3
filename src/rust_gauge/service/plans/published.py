"""The DMARC record that a domain publishes now, or that covers it."""

from dataclasses import dataclass

from rust_gauge.core.dmarc import is_dmarc1
from rust_gauge.core.dmarc.discovery import discover, effective_policy
from rust_gauge.core.dns import DnsProgram, ask
from rust_gauge.service.runtime.context import Context

_WITHIN = 10.0  # seconds


@dataclass(frozen=True, slots=True)
class Governing:
    """A record of a domain above that holds for one without its own, and the policy that it asks for there."""

    domain: str
    record: str
    policy: str


def published_policy(context: Context, domain: str) -> str:
    """Return the record at `_dmarc` of a domain; empty where there is none, several, or no answer."""

    def program() -> DnsProgram[str]:
        answer = yield from ask(f"_dmarc.{domain}", "TXT")
        records = [each.text for each in answer.texts if is_dmarc1(each.text)]
        return records[0] if len(records) == 1 else ""

    return context.resolver.run(program(), within=_WITHIN)


def governing_policy(context: Context, domain: str) -> Governing | None:
    """Return the record above that covers a domain without one of its own (RFC 7489 §6.6.3); None where there is none,
    or none is known for want of an answer."""
    found = context.resolver.run(discover(domain), within=_WITHIN).by_list
    policy = effective_policy(found).policy
    if found.at is None or found.at.domain == domain or policy is None:
        return None
    return Governing(found.at.domain, found.at.texts[0], policy)
