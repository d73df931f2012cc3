"""The DMARC record that a domain publishes now, or that covers it. No record and no answer are told apart."""

from dataclasses import dataclass

from rust_gauge.contract.receiver_reports import RecordState
from rust_gauge.core.dmarc.discovery import Discovery, discover_by_list, effective_policy
from rust_gauge.core.dns import DnsProgram
from rust_gauge.service.runtime.context import Context

_WITHIN = 10.0  # seconds


@dataclass(frozen=True, slots=True)
class Governing:
    """A record of a domain above that holds for one without its own, and the policy that it asks for there."""

    domain: str
    record: str
    policy: str


@dataclass(frozen=True, slots=True)
class PublishedPolicy:
    """What is at `_dmarc` of a domain. `record` is empty unless `state` is published: receivers use none of several
    (RFC 7489 §6.6.3). `unanswered` is the question that DNS gave no answer to, with how it ended."""

    state: RecordState
    record: str = ""
    governing: Governing | None = None
    unanswered: str = ""


def published_policy(context: Context, domain: str) -> PublishedPolicy:
    """Return what a domain publishes now, and without a record of its own the one above that covers it."""
    return context.resolver.run(look_up_policy(domain), within=_WITHIN)


def look_up_policy(domain: str) -> DnsProgram[PublishedPolicy]:
    """The same, as questions to DNS."""
    return _of((yield from discover_by_list(domain)))


def _of(found: Discovery) -> PublishedPolicy:
    own = found.looked[0]
    if own.texts:
        return PublishedPolicy("published", own.texts[0]) if len(own.texts) == 1 else PublishedPolicy("several")
    if found.failed is not None:
        return PublishedPolicy("no_answer", unanswered=f"{found.failed.question.name} ({found.failed.status})")
    policy = effective_policy(found).policy
    if found.at is None or policy is None:
        return PublishedPolicy("none")
    return PublishedPolicy("none", governing=Governing(found.at.domain, found.at.texts[0], policy))
