"""Policies tried on made-up mailing histories whose truth is known: `python -m bench.policies`.

A year of mail, once or twice a week, to people whose mailboxes die, fill up for a while, sit behind a provider that
turns the sender away for days, or at a domain that lapses for some days or for good. Several seeds; nothing is tuned to
one of them.
"""

import random
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from rust_gauge.core.mailflow import Kind
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.core.suppression import DEFAULT_POLICY, Act, Policy, Reason, Rehearsal, Seen, Tally

_START = datetime(2026, 1, 1, tzinfo=UTC)
_PEOPLE = 4000
_PERMANENT = Permanence.PERMANENT


def history(dice: random.Random) -> list[Seen]:
    """One person's year: what each message came to, whatever any policy would have done."""
    every = dice.choice((3.5, 7.0, 7.0, 14.0))
    dies = dice.uniform(0, 365) if dice.random() < 0.06 else None
    spells: list[tuple[float, float, Cause, Permanence]] = []
    if dice.random() < 0.05:  # a mailbox that is full, mostly for weeks, and emptied one day
        begin = dice.uniform(0, 340)
        spells.append((begin, begin + dice.lognormvariate(3.0, 0.9), Cause.MAILBOX_FULL, Permanence.TRANSIENT))
    for _ in range(dice.choice((0, 0, 1, 2))):  # the provider turns the sender away
        begin = dice.uniform(0, 360)
        cause = dice.choice((Cause.REPUTATION, Cause.BLOCKLISTED, Cause.POLICY))
        spells.append((begin, begin + dice.lognormvariate(1.0, 0.8), cause, _PERMANENT))
    if dice.random() < 0.01:  # the domain lapses: some come back within days
        begin = dice.uniform(0, 340)
        length = dice.uniform(0.5, 12) if dice.random() < 0.4 else 400
        spells.append((begin, begin + length, Cause.NO_SUCH_DOMAIN, _PERMANENT))
    if dice.random() < 0.03:  # words that no rule knows, for a while
        begin = dice.uniform(0, 350)
        spells.append((begin, begin + dice.lognormvariate(2.0, 1.2), Cause.UNCLASSIFIED, Permanence.TRANSIENT))
    out, day, number = [], dice.uniform(0, every), 0
    while day < 365:
        number += 1
        at = _START + timedelta(days=day)
        spell = next((spell for spell in spells if spell[0] <= day < spell[1]), None)
        if dies is not None and day >= dies:
            out.append(Seen(at, Kind.BOUNCED, Cause.NO_SUCH_MAILBOX, _PERMANENT, "d.example", "news", str(number)))
        elif spell is not None:
            out.append(Seen(at, Kind.BOUNCED, spell[2], spell[3], "d.example", "news", str(number)))
        elif dice.random() < 0.004:  # a bad moment
            cause = dice.choice((Cause.HOST_UNREACHABLE, Cause.UNCLASSIFIED, Cause.EXPIRED))
            out.append(Seen(at, Kind.BOUNCED, cause, Permanence.TRANSIENT, "d.example", "news", str(number)))
        else:
            out.append(Seen(at, Kind.DELIVERED, domain="d.example", stream="news", message_id=str(number)))
            if dice.random() < 0.0004:
                out.append(Seen(at + timedelta(hours=5), Kind.COMPLAINED, domain="d.example", stream="news"))
        day += every * dice.uniform(0.8, 1.2)
    return out


def lasting(times: int, over_days: float, for_days: float | None = None) -> Policy:
    """The default policy with another idea of what lasts."""
    rules = []
    for rule in DEFAULT_POLICY.rules:
        if rule.reason is Reason.REPEATED_BOUNCES:
            over = over_days if times > 1 else 0
            rule = replace(rule, times=times, over_days=over, for_days=for_days or rule.for_days)
        rules.append(rule)
    return Policy(tuple(rules))


def naive() -> Policy:
    """Every bounce holds for good, whatever it says."""
    hold = replace(DEFAULT_POLICY.rules[4], name="any bounce", causes=(), permanence=None, for_days=None)
    return Policy((*DEFAULT_POLICY.rules[:3], hold))


def permanent_alone() -> Policy:
    """Every permanent bounce holds for good; nothing else does."""
    hold = replace(DEFAULT_POLICY.rules[4], name="any permanent bounce", causes=(), for_days=None)
    return Policy((*DEFAULT_POLICY.rules[:3], hold))


def domains_for_good() -> Policy:
    return Policy(
        tuple(
            replace(rule, for_days=None) if rule.reason is Reason.DOMAIN_INVALID else rule
            for rule in DEFAULT_POLICY.rules
        )
    )


def main() -> None:
    worlds = [[history(random.Random(f"{seed} {n}")) for n in range(_PEOPLE)] for seed in range(5)]
    policies = {
        "default: 3 over 7 days": DEFAULT_POLICY,
        "2 over 3 days": lasting(2, 3),
        "2 over 7 days": lasting(2, 7),
        "3 over 3 days": lasting(3, 3),
        "3 over 14 days": lasting(3, 14),
        "5 over 14 days": lasting(5, 14),
        "3 over 7 days, for 7 days both": lasting(3, 7, 7),
        "3 over 7 days, for 30 days both": lasting(3, 7, 30),
        "3 over 7 days, without end": lasting(3, 7, 3650),
        "domains without end": domains_for_good(),
        "every permanent bounce, for good": permanent_alone(),
        "every bounce, for good": naive(),
    }
    print("| policy | held | wrongly | bounces spared | deliveries lost |\n| --- | --- | --- | --- | --- |")
    for name, policy in policies.items():
        total = Tally()
        for world in worlds:
            rehearsal = Rehearsal(policy)
            for person in world:
                rehearsal.walk("all", person)
            total.add(rehearsal.by_provider["all"])
        assert policy.rules[0].act is Act.HOLD
        print(
            f"| {name} | {total.held:,} | {total.wrongly:,} ({total.wrongly / total.held:.1%}) | "
            f"{total.bounces_spared:,} of {total.bounces:,} ({total.bounces_spared / total.bounces:.0%}) | "
            f"{total.deliveries_lost:,} ({total.deliveries_lost / total.deliveries:.2%}) |"
        )


if __name__ == "__main__":
    main()
