"""A stricter DMARC policy tried on past reports (RFC 7489 §6.3): what it would have done to whose mail.

A report tells whether mail aligned under the modes that were published then. Strict modes are tried by whether SPF or
DKIM passed for exactly the From domain, which reports tell as well.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from rust_gauge.core.reports.outcomes import Outcome

_MILDER = {"reject": "quarantine", "quarantine": "none", "none": "none"}


@dataclass(frozen=True, slots=True)
class TriedPolicy:
    """A policy to try. `sp` is empty where subdomains have that of `p`, `np` where those that do not exist have that of
    other subdomains; `percent` is of RFC 7489, `testing` of its successor, where a policy under test is applied one
    step milder."""

    p: str
    sp: str = ""
    np: str = ""
    percent: int = 100
    testing: bool = False
    strict_spf: bool = False
    strict_dkim: bool = False

    def applied_to(self, outcome: Outcome, *, missing: bool = False) -> str:
        """Return what receivers are asked to do with mail that does not align. `missing`: its From domain does not
        exist, which counts below the domain of the policy only (RFC 9091 §2.2)."""
        policy = self.p
        if outcome & Outcome.SUBDOMAIN:
            policy = (self.np if missing else "") or self.sp or self.p
        return _MILDER[policy] if self.testing else policy


@dataclass(slots=True)
class Tried:
    """What a policy would have done to mail: messages that align, and expected numbers of the others. With a
    percentage, the rest of rejected mail is quarantined (RFC 7489 §6.6.4)."""

    messages: int = 0
    aligned: int = 0
    quarantined: float = 0.0
    rejected: float = 0.0

    @property
    def hit(self) -> float:
        """Return how many messages would be quarantined or rejected."""
        return self.quarantined + self.rejected

    def add(self, policy: TriedPolicy, outcome: Outcome, n: int, missing: int = 0) -> None:
        """Count messages that fared alike, so many of them from domains that do not exist."""
        if 0 < missing < n:
            self.add(policy, outcome, n - missing)
            n = missing
        self.messages += n
        if outcome.aligned_under(strict_spf=policy.strict_spf, strict_dkim=policy.strict_dkim):
            self.aligned += n
            return
        share = policy.percent / 100
        applied = policy.applied_to(outcome, missing=missing > 0)
        if applied == "reject":
            self.rejected += n * share
            self.quarantined += n * (1 - share)
        elif applied == "quarantine":
            self.quarantined += n * share


def would_hit(policy: TriedPolicy, outcome: Outcome, n: int = 1, missing: int = 0) -> bool:
    """Return whether mail that fared so would be quarantined or rejected, or some of it."""
    tried = Tried()
    tried.add(policy, outcome, n, missing)
    return tried.hit > 0


def try_policy(policy: TriedPolicy, mail: Iterable[tuple[Outcome, int]]) -> Tried:
    """Return what a policy would have done to mail: (outcome, messages)."""
    out = Tried()
    for outcome, n in mail:
        out.add(policy, outcome, n)
    return out
