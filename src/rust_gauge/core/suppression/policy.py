"""A tenant's policy: what events make of an address's status. Rules are asked in order; the first that fits decides.

The default policy follows one thought: only what speaks of the address may hold it. A refusal that speaks of our own
reputation, authentication or content says nothing about the address. What passes with time holds only when it lasts,
and then for a while. `docs/suppression.md` has the figures that its numbers were chosen by.
"""

from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.mailflow.event import Kind
from rust_gauge.core.replies.causes import SENDER_CAUSES, Cause, Permanence
from rust_gauge.core.suppression.reasons import Reason, Scope

DECIDED = (Kind.DELAYED, Kind.BOUNCED, Kind.COMPLAINED, Kind.UNSUBSCRIBED)  # kinds that rules may speak of
MOST_DAYS = 3650  # ten years; what is meant to last longer is permanent


class PolicyError(RustGaugeError):
    """A rule that cannot be meant."""


class Act(StrEnum):
    """What a rule does with the address."""

    HOLD = "hold"
    PROPOSE = "propose"
    WAIT = "wait"  # never holds: only advises when to try again
    NOTHING = "nothing"


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule. Empty tuples mean any. PolicyError where its parts contradict each other.

    It acts when `times` messages (by default one) met it with no delivery between, the first and the last at least
    `over_days` apart and none older than `within_days`. Before that it may advise to wait: `wait_hours` after the
    first, the second, and so on. An entry holds for `for_days` (None: no end), at each return `longer` times as long,
    up to `longest_days`.
    """

    name: str
    act: Act
    kinds: tuple[Kind, ...] = ()
    causes: tuple[Cause, ...] = ()
    permanence: Permanence | None = None
    streams: tuple[str, ...] = ()
    providers: tuple[str, ...] = ()
    reason: Reason = Reason.INVALID_ADDRESS
    scope: Scope = Scope.TENANT
    whole_domain: bool = False
    times: int = 1
    over_days: float = 0
    within_days: float = 60
    for_days: float | None = None
    longer: float = 1
    longest_days: float = 365
    ends_with_delivery: bool = False
    wait_hours: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        if self.whole_domain and (self.times > 1 or self.scope is not Scope.TENANT):
            raise PolicyError(
                f"{self.name}: a whole domain is held immediately and for all mail",
                remedy="Set times 1, scope tenant",
            )
        if self.over_days > self.within_days:
            raise PolicyError(f"{self.name}: over_days is longer than within_days, so the rule never applies")
        if self.act is Act.WAIT and not self.wait_hours:
            raise PolicyError(f"{self.name}: wait_hours is missing", remedy="Set wait_hours, such as [4, 24]")
        if self.times == 1 and self.over_days:
            raise PolicyError(f"{self.name}: one message cannot span several days", remedy="Set times to 2 or more")
        if self.scope is not Scope.TENANT and Kind.COMPLAINED in self.kinds:
            raise PolicyError(f"{self.name}: a complaint applies to all mail", remedy="Set scope to tenant")

    def fits(self, kind: Kind, cause: Cause, permanence: Permanence, stream: str, provider: str) -> bool:
        """Return whether the rule is about such an event."""
        return (
            (not self.kinds or kind in self.kinds)
            and (not self.causes or cause in self.causes)
            and (self.permanence is None or permanence is self.permanence)
            and (not self.streams or stream in self.streams)
            and (not self.providers or provider in self.providers)
        )

    @property
    def at_once(self) -> bool:
        """Return whether one event is enough to say what it asks for."""
        return self.times == 1 and self.act is not Act.WAIT

    def length(self, returns: int) -> timedelta | None:
        """How long an entry holds that came back so often; None: without end."""
        if self.for_days is None:
            return None
        return timedelta(days=min(self.for_days * self.longer**returns, max(self.longest_days, self.for_days)))

    def wait(self, refusals: int) -> timedelta | None:
        """How long to wait after so many refusals."""
        if not self.wait_hours:
            return None
        return timedelta(hours=self.wait_hours[min(refusals, len(self.wait_hours)) - 1])


@dataclass(frozen=True, slots=True)
class Proposals:
    """What is looked for from time to time and proposed, never held unasked."""

    no_life_sends: int = 12  # deliveries without an open, click or answer; 0: not looked for
    no_life_days: int = 120  # over at least so long
    role_addresses: bool = True
    revived_after_days: int = 180  # a mailbox that did not exist takes mail again after so long: a trap; 0: not


@dataclass(frozen=True, slots=True)
class Policy:
    """Rules in their order, and what is proposed."""

    rules: tuple[Rule, ...]
    proposals: Proposals = Proposals()

    def rule_for(
        self, kind: Kind, cause: Cause, permanence: Permanence, stream: str = "", provider: str = ""
    ) -> Rule | None:
        """Return the first rule that fits, None where none does or it does nothing."""
        if kind not in DECIDED:
            return None
        for rule in self.rules:
            if rule.fits(kind, cause, permanence, stream, provider):
                return None if rule.act is Act.NOTHING else rule
        return None

    @property
    def looks_back(self) -> timedelta:
        """How far back a decision may look."""
        return timedelta(days=max((rule.within_days for rule in self.rules if not rule.at_once), default=0))

    @property
    def ended_by_delivery(self) -> frozenset[Reason]:
        """Reasons whose entries end when mail is delivered after all."""
        found = {rule.reason for rule in self.rules if rule.ends_with_delivery}
        return frozenset(found | {Reason.TRY_LATER})


_GONE = (Cause.NO_SUCH_MAILBOX, Cause.MAILBOX_DISABLED)

DEFAULT_POLICY = Policy(
    (
        Rule("complaint", Act.HOLD, (Kind.COMPLAINED,), reason=Reason.COMPLAINT),
        Rule("unsubscribe", Act.HOLD, (Kind.UNSUBSCRIBED,), reason=Reason.UNSUBSCRIBED, scope=Scope.STREAM),
        Rule("delayed", Act.NOTHING, (Kind.DELAYED,)),
        Rule(
            "domain invalid", Act.HOLD, (Kind.BOUNCED,), (Cause.NO_SUCH_DOMAIN,), Permanence.PERMANENT,
            reason=Reason.DOMAIN_INVALID, whole_domain=True, for_days=30, longer=3, longest_days=365,
            ends_with_delivery=True,
        ),
        Rule("invalid address", Act.HOLD, (Kind.BOUNCED,), _GONE, Permanence.PERMANENT),
        Rule("sender rejected", Act.NOTHING, (Kind.BOUNCED,), tuple(sorted({*SENDER_CAUSES, Cause.SENDER_UNPROVEN}))),
        Rule(
            "mailbox full", Act.HOLD, (Kind.BOUNCED,), (Cause.MAILBOX_FULL,), reason=Reason.REPEATED_BOUNCES,
            times=3, over_days=7, within_days=60, for_days=14, longer=2, longest_days=180, ends_with_delivery=True,
            wait_hours=(24, 72, 168),
        ),
        Rule("greylisted", Act.WAIT, (Kind.BOUNCED,), (Cause.GREYLISTED,), within_days=7, wait_hours=(1, 4, 24)),
        Rule(
            "sent too fast", Act.WAIT, (Kind.BOUNCED,), (Cause.RATE_LIMITED,),
            within_days=7, wait_hours=(6, 24, 72),
        ),
        Rule(
            "provider trouble", Act.WAIT, (Kind.BOUNCED,), (Cause.PROVIDER_TROUBLE,),
            within_days=7, wait_hours=(4, 12, 24),
        ),
        Rule(
            "message or path", Act.NOTHING, (Kind.BOUNCED,),
            (Cause.TOO_LARGE, Cause.TLS_REQUIRED, Cause.LOOP),
        ),
        Rule(
            "repeated bounces", Act.HOLD, (Kind.BOUNCED,), reason=Reason.REPEATED_BOUNCES,
            times=3, over_days=7, within_days=60, for_days=7, longer=2, longest_days=180, ends_with_delivery=True,
            wait_hours=(4, 24, 72),
        ),
    )
)  # fmt: skip
"""What a tenant has that chose nothing."""
