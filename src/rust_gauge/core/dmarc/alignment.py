"""Alignment (RFC 7489 §3.1, DMARCbis §4.4): whether what SPF and DKIM proved is the domain that people see in From,
and what would happen to the message."""

from collections.abc import Iterable
from dataclasses import dataclass

from rust_gauge.core.dmarc.discovery import (
    Discovery,
    EffectivePolicy,
    discover_by_list,
    discover_by_walk,
    domain_exists,
    effective_policy,
    organisational_domain,
)
from rust_gauge.core.dns import DnsProgram
from rust_gauge.core.names import a_labels, registered_domain


@dataclass(frozen=True, slots=True)
class Identifier:
    """A domain that was proved, or would be: by `spf` (the envelope's) or `dkim` (d=), and whether the check passed."""

    kind: str  # spf or dkim
    domain: str
    passed: bool
    detail: str = ""  # such as the selector, or why it did not pass


@dataclass(frozen=True, slots=True)
class Aligned:
    """One identifier beside From. `organisation` is its organisational domain."""

    identifier: Identifier
    organisation: str
    relaxed: bool
    strict: bool
    mode: str  # what the record asks for: relaxed or strict
    counts: bool  # it passed, and aligns in the mode that is asked for

    @property
    def aligned(self) -> bool:
        """Return whether the domains match by the mode that the record asks for (RFC 7489 §3.1)."""
        return self.strict if self.mode == "strict" else self.relaxed


@dataclass(frozen=True, slots=True)
class DmarcOutcome:
    """`result` is pass, fail, none (no policy) or temperror; `disposition` what receivers are asked to do.

    `disposition` is deliver, quarantine or reject; `share` the percentage of failing mail that it is asked for.
    """

    header_from: str
    organisation: str
    way: str
    result: str
    disposition: str
    share: int
    policy: EffectivePolicy
    aligned: tuple[Aligned, ...]
    reason: str


def evaluate(
    header_from: str, identifiers: Iterable[Identifier], *, way: str = "suffix-list"
) -> DnsProgram[DmarcOutcome]:
    """DMARC for one message or one stream. `way` is `suffix-list` (RFC 7489) or `tree-walk` (DMARCbis)."""
    name = a_labels(header_from).lower().removesuffix(".")
    exists = yield from domain_exists(name)
    found = yield from (discover_by_walk(name) if way == "tree-walk" else discover_by_list(name))
    compared = []
    for identifier in identifiers:
        domain = a_labels(identifier.domain).lower().removesuffix(".")
        organisation = found.organisation
        if domain != name:
            organisation = (
                (yield from organisational_domain(domain)) if way == "tree-walk" else registered_domain(domain)
            )
        compared.append((identifier, domain, organisation))
    return judge(found, exists is not False, compared)


def judge(found: Discovery, exists: bool, compared: list[tuple[Identifier, str, str]]) -> DmarcOutcome:
    """Put together what was asked: (identifier, its domain, that one's organisational domain)."""
    record = found.record
    aligned = []
    for identifier, domain, organisation in compared:
        strict = domain == found.domain
        relaxed = bool(domain) and organisation == found.organisation
        asked = record is not None and (record.strict_spf if identifier.kind == "spf" else record.strict_dkim)
        counts = identifier.passed and (strict if asked else relaxed)
        aligned.append(Aligned(identifier, organisation, relaxed, strict, "strict" if asked else "relaxed", counts))
    policy = effective_policy(found, exists=exists)
    good = [a for a in aligned if a.counts]
    if good:
        by = " and ".join(f"{a.identifier.kind.upper()} by {a.identifier.domain}" for a in good)
        result, disposition, reason = "pass", "deliver", f"{by} aligns with {found.domain}"
    else:
        result, disposition = (
            "fail",
            {"quarantine": "quarantine", "reject": "reject"}.get(policy.policy or "", "deliver"),
        )
        reason = _why_not(found.domain, aligned)
    if found.failed is not None and policy.policy is None:
        result, disposition = "temperror", "deliver"
        reason = f"no usable answer for {found.failed.question}"
    elif policy.policy is None:
        result = "none"
        reason = f"{found.domain} has no DMARC policy; {reason}"
    share = policy.percent if disposition in ("quarantine", "reject") else 100
    return DmarcOutcome(
        found.domain, found.organisation, found.way, result, disposition, share, policy, tuple(aligned), reason
    )


def _why_not(domain: str, aligned: list[Aligned]) -> str:
    if not aligned:
        return f"nothing authenticated that could align with {domain}"
    parts = []
    for identity in aligned:
        kind, name = identity.identifier.kind.upper(), identity.identifier.domain or "nothing"
        if not identity.identifier.passed:
            parts.append(f"{kind} did not pass for {name}")
        elif identity.relaxed:
            parts.append(f"{kind} passed for {name}, which aligns in relaxed mode only, but strict is required")
        else:
            parts.append(f"{kind} passed for {name}, which belongs to another organisation than {domain}")
    return "; ".join(parts)
