"""Which DMARC record governs a domain, and which domain is its organisational domain.

Two ways, because receivers are split: by the public suffix list (RFC 7489 §3.2, §6.6.3), and by the DNS tree walk of
its successor (DMARCbis §4.10), which asks at most eight times and lets a domain say with `psd=` where it ends.
`discover` does both and tells where they differ.
"""

from dataclasses import dataclass

from rust_gauge.core.dmarc.record import DmarcRecord, is_dmarc1, read_policy
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, ask
from rust_gauge.core.names import registered_domain

WALK_LIMIT = 8  # questions of one walk
_LONG = 8  # labels from which the walk jumps to 7


@dataclass(frozen=True, slots=True)
class PolicyAt:
    """What was found at `_dmarc.` of one domain. `records` are the texts that are DMARC records; one counts."""

    domain: str
    answer: DnsAnswer
    texts: tuple[str, ...]

    @property
    def record(self) -> DmarcRecord | None:
        """The record, when there is just one: several count as none (RFC 7489 §6.6.3 step 4)."""
        return read_policy(self.texts[0]) if len(self.texts) == 1 else None


@dataclass(frozen=True, slots=True)
class Discovery:
    """One way's result. `at` is the domain whose record governs (None: no policy); `failed` an unanswered question."""

    way: str  # "suffix-list" or "tree-walk"
    domain: str
    organisation: str
    at: PolicyAt | None
    looked: tuple[PolicyAt, ...]
    failed: DnsAnswer | None = None

    @property
    def record(self) -> DmarcRecord | None:
        """The record that was found, None without one."""
        return self.at.record if self.at else None


@dataclass(frozen=True, slots=True)
class Discoveries:
    """Both ways for one domain. `exists` is False when the domain itself is NXDOMAIN."""

    domain: str
    by_list: Discovery
    by_walk: Discovery
    exists: bool | None

    @property
    def differences(self) -> tuple[str, ...]:
        """Where receivers of the two kinds come to different answers, in words."""
        out: list[str] = []
        if self.by_list.failed or self.by_walk.failed:
            return ()
        if self.by_list.organisation != self.by_walk.organisation:
            out.append(
                f"the organisational domain is {self.by_list.organisation} by the public suffix list "
                f"and {self.by_walk.organisation} by the tree walk"
            )
        ours = self.by_list.at.domain if self.by_list.at else None
        theirs = self.by_walk.at.domain if self.by_walk.at else None
        if ours != theirs:
            out.append(
                f"the policy comes from {ours or 'nowhere'} by the public suffix list "
                f"and from {theirs or 'nowhere'} by the tree walk"
            )
        first = effective_policy(self.by_list, exists=self.exists is not False)
        second = effective_policy(self.by_walk, exists=self.exists is not False)
        if first.policy != second.policy and ours == theirs:
            out.append(f"the policy is {first.policy} by RFC 7489 and {second.policy} by DMARCbis")
        return tuple(out)


@dataclass(frozen=True, slots=True)
class EffectivePolicy:
    """What receivers are asked to do with mail from a domain that does not align.

    `policy` is None where there is none. `tag` is the tag that says so (`p`, `sp` or `np`), in the record of `owner`.
    """

    policy: str | None
    tag: str
    owner: str
    percent: int = 100
    testing: bool = False


def effective_policy(found: Discovery, *, exists: bool = True) -> EffectivePolicy:
    """Return the policy for the domain of `found` (RFC 7489 §6.3, DMARCbis §4.7).

    `exists` is whether the domain exists in DNS: np= holds for subdomains that do not.
    """
    record = found.record
    if record is None or found.at is None or record.policy is None:
        return EffectivePolicy(None, "", found.at.domain if found.at else "")
    walk = found.way == "tree-walk"
    if found.at.domain == found.domain:
        policy, tag = record.policy, "p"
    elif not exists and record.absent_policy is not None:
        policy, tag = record.absent_policy, "np"
    elif record.subdomain_policy is not None:
        policy, tag = record.subdomain_policy, "sp"
    else:
        policy, tag = record.policy, "p"
    testing = walk and record.testing
    if testing:
        policy = {"reject": "quarantine", "quarantine": "none"}.get(policy, policy)
    return EffectivePolicy(policy, tag, found.at.domain, 100 if walk else record.percent, testing)


def below_policy(found: Discovery, *, exists: bool) -> str | None:
    """Return what holds for a name below this domain without a record of its own; np= for one that does not exist.

    By both ways it is taken from the organisation's record (RFC 7489 §6.6.3, DMARCbis §4.10.1), so a record of the
    domain itself counts for names below it only where the domain is the organisation.
    """
    governing = next((at for at in found.looked if at.domain == found.organisation and at.record is not None), None)
    if governing is None:
        return None
    below = Discovery(found.way, f"x.{found.organisation}", found.organisation, governing, found.looked)
    return effective_policy(below, exists=exists).policy


def discover(domain: str) -> DnsProgram[Discoveries]:
    """Both ways, and whether the domain exists."""
    exists = yield from domain_exists(domain)
    by_list = yield from discover_by_list(domain)
    by_walk = yield from discover_by_walk(domain)
    return Discoveries(domain, by_list, by_walk, exists)


def domain_exists(domain: str) -> DnsProgram[bool | None]:
    """Return False when no question gives anything but NXDOMAIN (RFC 8020); None when that is unknown."""
    answers = yield DnsQuestion(domain, "A"), DnsQuestion(domain, "AAAA"), DnsQuestion(domain, "MX")
    if any(not answer.failed and answer.status != "no_name" for answer in answers):
        return True
    return None if any(answer.failed for answer in answers) else False


def policy_at(domain: str) -> DnsProgram[PolicyAt]:
    """Ask for the record at `_dmarc.` of one domain."""
    answer = yield from ask(f"_dmarc.{domain}", "TXT")
    return PolicyAt(domain, answer, tuple(sorted(txt.text for txt in answer.texts if is_dmarc1(txt.text))))


def discover_by_list(domain: str) -> DnsProgram[Discovery]:
    """Find the domain's own record, else its organisational domain's by the public suffix list (RFC 7489 §6.6.3)."""
    organisation = registered_domain(domain)
    own = yield from policy_at(domain)
    looked: tuple[PolicyAt, ...] = (own,)
    if own.answer.failed:
        return Discovery("suffix-list", domain, organisation, None, looked, own.answer)
    if own.texts or organisation == domain:
        return Discovery("suffix-list", domain, organisation, own if len(own.texts) == 1 else None, looked)
    above = yield from policy_at(organisation)
    looked = (own, above)
    if above.answer.failed:
        return Discovery("suffix-list", domain, organisation, None, looked, above.answer)
    return Discovery("suffix-list", domain, organisation, above if len(above.texts) == 1 else None, looked)


def walk_targets(domain: str) -> tuple[str, ...]:
    """Return the domains that a walk from `domain` would ask, itself first (DMARCbis §4.10)."""
    labels = domain.split(".")
    rest = labels[-7:] if len(labels) >= _LONG else labels[1:]
    return (domain, *(".".join(rest[at:]) for at in range(len(rest))))[:WALK_LIMIT]


def walk(domain: str) -> DnsProgram[tuple[tuple[PolicyAt, ...], DnsAnswer | None]]:
    """Walk the tree: return what was found at each step, and the question that failed, if one did."""
    found: list[PolicyAt] = []
    for target in walk_targets(domain):
        at = yield from policy_at(target)
        found.append(at)
        if at.answer.status is AnswerStatus.NOT_HELD and len(found) > 1:
            break  # off line: above the zones that are held nothing is known, and nearly always nothing is there
        if at.answer.failed:
            return tuple(found), at.answer
        record = at.record
        if record is not None and record.suffix in ("y", "n"):
            break
    return tuple(found), None


def organisation_of(domain: str, steps: tuple[PolicyAt, ...]) -> str:
    """Return the organisational domain by what a walk found (DMARCbis §4.10.2)."""
    valid = [(step.domain, record) for step in steps if (record := step.record) is not None]
    for name, record in valid:
        if record.suffix == "n":
            return name
        if record.suffix == "y" and name != domain:
            below = domain.removesuffix("." + name).rpartition(".")[2]
            return f"{below}.{name}"
    return min((name for name, _ in valid), key=lambda name: name.count("."), default=domain)


def discover_by_walk(domain: str) -> DnsProgram[Discovery]:
    """Find the record of a domain, else of its organisational domain, else of its public suffix (DMARCbis §4.10.1)."""
    steps, failed = yield from walk(domain)
    organisation = organisation_of(domain, steps)
    if failed is not None and not (steps[0].record and not steps[0].answer.failed):
        return Discovery("tree-walk", domain, organisation, None, steps, failed)
    own = steps[0] if steps[0].record else None
    above = next((step for step in steps if step.domain == organisation and step.record), None)
    suffix = next((step for step in steps if (record := step.record) and record.suffix == "y"), None)
    return Discovery("tree-walk", domain, organisation, own or above or suffix, steps)


def organisational_domain(domain: str) -> DnsProgram[str]:
    """Find the organisational domain of any name by the tree walk."""
    steps, _ = yield from walk(domain)
    return organisation_of(domain, steps)
