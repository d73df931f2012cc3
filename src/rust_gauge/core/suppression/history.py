"""What a recipient's events ask for by a policy, whatever order they came in; and trying a policy on the past."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import NamedTuple

from rust_gauge.core.mailflow.event import Kind
from rust_gauge.core.replies.causes import Cause, Permanence
from rust_gauge.core.suppression.policy import Act, Policy, Rule
from rust_gauge.core.suppression.reasons import FROM_BOUNCES, Change, Reason, Scope, State
from rust_gauge.core.suppression.status import Status, Wish, ask, end, is_over


class Seen(NamedTuple):
    """An event of one recipient, as far as a policy looks at it."""

    at: datetime
    kind: Kind
    cause: Cause = Cause.NONE
    permanence: Permanence = Permanence.NONE
    domain: str = ""
    stream: str = ""
    message_id: str = ""
    diagnostic: str = ""
    provider: str = ""


class Asked(NamedTuple):
    """A wish, what it is about, and the events behind it. `scope_name` names the domain or stream."""

    reason: Reason
    scope: Scope
    scope_name: str
    whole_domain: bool
    wish: Wish
    rule: str
    evidence: tuple[Seen, ...]


def asked_by(seen: Seen, rule: Rule, streak: Sequence[Seen]) -> Asked | None:
    """Return what this event asks for by its rule. `streak`: events that met it since a delivery, this the last.

    None while the rule waits for more and gives no advice.
    """
    recent = [event for event in streak if seen.at - event.at <= timedelta(days=rule.within_days)]
    messages = {event.message_id or str(event.at): event for event in reversed(recent)}
    first = min(event.at for event in recent)
    if rule.act is not Act.WAIT and len(messages) >= rule.times and seen.at - first >= timedelta(days=rule.over_days):
        state = State.PROPOSED if rule.act is Act.PROPOSE else State.HELD
        wish = Wish(seen.at, first if not rule.at_once else seen.at, state, length=rule.length)
        scope, name = reach_of(rule, seen)
        return Asked(rule.reason, scope, name, rule.whole_domain, wish, rule.name, tuple(recent[-5:]))
    wait = rule.wait(len(messages))
    if wait is None:
        return None
    rest = Wish(seen.at, seen.at, State.RESTING, until=seen.at + wait)
    return Asked(Reason.TRY_LATER, Scope.TENANT, "", False, rest, rule.name, (seen,))


def reach_of(rule: Rule, seen: Seen) -> tuple[Scope, str]:
    """How far a rule's entry reaches. Mail without a stream is not told apart, so then it reaches all."""
    if rule.scope is Scope.STREAM and seen.stream:
        return Scope.STREAM, seen.stream
    if rule.scope is Scope.DOMAIN:
        return Scope.DOMAIN, seen.domain
    return Scope.TENANT, ""


def standing_wishes(history: Iterable[Seen], policy: Policy) -> list[Asked]:
    """Return what a recipient's history asks for in the end: the newest wish for each reason and scope.

    What a later delivery ended is not among them.
    """
    found: dict[tuple[Reason, Scope, str], Asked] = {}
    streaks: dict[str, list[Seen]] = {}
    for seen in sorted(history):
        if seen.kind is Kind.DELIVERED:
            streaks.clear()
            for key in [key for key in found if key[0] in policy.ended_by_delivery]:
                del found[key]
            continue
        rule = policy.rule_for(seen.kind, seen.cause, seen.permanence, seen.stream, seen.provider)
        if rule is None:
            continue
        streak = [seen] if rule.at_once else [*streaks.get(rule.name, ()), seen]
        streaks[rule.name] = streak
        asked = asked_by(seen, rule, streak)
        if asked is not None:
            found[asked.reason, asked.scope, asked.scope_name] = asked
    return list(found.values())


# Trying a policy on the past


@dataclass(slots=True)
class Tally:
    """What a policy would have done, for one provider or all."""

    held: int = 0  # addresses
    wrongly: int = 0  # of those held for bounces: took mail after all while they would have been held
    bounces_spared: int = 0
    complaints_spared: int = 0
    deliveries_lost: int = 0  # messages that were delivered, and would have been withheld
    bounces: int = 0  # all that there were
    complaints: int = 0
    deliveries: int = 0

    def add(self, other: "Tally") -> None:
        """Add the counts of another tally."""
        for name in Tally.__slots__:
            setattr(self, name, getattr(self, name) + getattr(other, name))


@dataclass(slots=True)
class Rehearsal:
    """A policy tried on recipients' histories, one recipient after the other."""

    policy: Policy
    by_provider: dict[str, Tally] = field(default_factory=dict)
    by_reason: dict[Reason, Tally] = field(default_factory=dict)

    def walk(self, provider: str, history: Iterable[Seen]) -> None:
        """Go through one recipient's events in time. Mail that would have been withheld has no effect of its own:
        it would not have bounced, and would not have shown that the address works.
        """
        total = self.by_provider.setdefault(provider, Tally())
        standing: dict[tuple[Reason, Scope, str], Status] = {}
        streaks: dict[str, list[Seen]] = {}
        ever: dict[Reason, set[str]] = {}
        for seen in sorted(history):
            if seen.kind in (Kind.DELIVERED, Kind.BOUNCED, Kind.COMPLAINED):
                _count_all(total, seen.kind)
            holds = self._holding(standing, seen)
            if holds is not None and seen.kind in (Kind.DELIVERED, Kind.BOUNCED, Kind.COMPLAINED):
                reason = self.by_reason.setdefault(holds, Tally())
                if seen.kind is Kind.DELIVERED and holds not in FROM_BOUNCES:
                    continue  # who complained or left would have taken the mail, and is not meant to get it
                for tally in (total, reason):
                    _count_spared(tally, seen.kind)
                if seen.kind is Kind.DELIVERED:
                    ever.setdefault(holds, set()).add("wrongly")
                continue
            if seen.kind is Kind.DELIVERED:
                streaks.clear()
                for key, status in standing.items():
                    if key[0] in self.policy.ended_by_delivery:
                        standing[key] = end(status, Change.DELIVERED, seen.at, seen.at)
                continue
            rule = self.policy.rule_for(seen.kind, seen.cause, seen.permanence, seen.stream, seen.provider or provider)
            if rule is None:
                continue
            streak = streaks.setdefault(rule.name, [])
            streak.append(seen)
            asked = asked_by(seen, rule, streak)
            if asked is None or asked.wish.state is not State.HELD:
                continue
            where = (asked.reason, asked.scope, asked.scope_name)
            standing[where] = ask(standing.get(where), asked.wish, seen.at)
            ever.setdefault(asked.reason, set()).add("held")
        total.held += bool(ever)
        total.wrongly += any("wrongly" in verdicts for verdicts in ever.values())
        for reason_held, what in ever.items():
            tally = self.by_reason.setdefault(reason_held, Tally())
            tally.held += "held" in what
            tally.wrongly += "wrongly" in what

    @staticmethod
    def _holding(standing: dict[tuple[Reason, Scope, str], Status], seen: Seen) -> Reason | None:
        """Return the reason by which mail of this event's stream would have been withheld then."""
        for (reason, scope, name), status in standing.items():
            if status.state is not State.HELD or is_over(status, seen.at) or status.since > seen.at:
                continue
            if scope is Scope.TENANT or name == (seen.stream if scope is Scope.STREAM else seen.domain):
                return reason
        return None


def _count_all(tally: Tally, kind: Kind) -> None:
    if kind is Kind.DELIVERED:
        tally.deliveries += 1
    elif kind is Kind.BOUNCED:
        tally.bounces += 1
    else:
        tally.complaints += 1


def _count_spared(tally: Tally, kind: Kind) -> None:
    if kind is Kind.DELIVERED:
        tally.deliveries_lost += 1
    elif kind is Kind.BOUNCED:
        tally.bounces_spared += 1
    else:
        tally.complaints_spared += 1
