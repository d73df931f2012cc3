"""Warm-up in made-up mail worlds: time to full volume and trust lost, with the plan, a fixed ladder, and no plan.

Each world is a new sender at five mailbox providers with hidden laws of trust, to which it is unknown: much mail at
once is a jump from nothing. `python -m bench.warmup [SEED ...]` prints the table of docs/warmup.md.
"""

import sys
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from rust_gauge.core.warmup import Shape, StepDay, Track, decide, make_steps

START, TARGET, STEPS, DAYS = 50, 20_000, 28, 90
PROVIDERS = 5
SEEDS = 3  # test copies a day at each provider
_KNOWN = 2.6  # badness at which trust is half gone; a stranger begins with some of it
_STRANGER = 0.9
_DAY_ONE = date(2026, 1, 1)
POLICIES = ("no plan", "fixed ladder", "the plan", "the plan, skipping")


@dataclass(frozen=True)
class Law:
    """How a provider's trust follows from what it sees: weights, memory in days, and how trust becomes a share of
    inbox. `sudden`: it acts at thresholds instead of by degrees.
    """

    complaint: float
    unknown: float
    authentication: float
    listed: float
    jump: float
    engagement: float
    memory: float
    sudden: bool
    reports: bool
    opens_known: bool


@dataclass(frozen=True)
class Sender:
    """A new sender: how many recipients are dead, complain and open, by share; how its mail is spread."""

    unknown: float
    annoys: float
    opens: float
    share: np.ndarray  # by provider


@dataclass
class Outcome:
    """What became of a warm-up: first day of full volume at all providers (None: never), mail that did not reach the
    inbox as a share of all, the lowest trust, and messages sent."""

    full: int | None
    aside: float
    lowest: float
    sent: float


def simulate(seed: int, policy: str) -> Outcome:
    """Send for `DAYS` days. The dice of a world are the same for each policy."""
    dice = np.random.default_rng(seed)
    laws = [make_law(dice, number) for number in range(PROVIDERS)]
    sender = Sender(
        float(np.exp(dice.normal(np.log(0.012), 0.8))), float(np.exp(dice.normal(np.log(0.0006), 0.7))),
        float(dice.uniform(0.12, 0.4)), dice.dirichlet(np.ones(PROVIDERS) * 3),
    )  # fmt: skip
    steps = make_steps(START, TARGET, STEPS, Shape.EVEN)
    at, since = [0] * PROVIDERS, [[] for _ in range(PROVIDERS)]  # type: list[int], list[list[StepDay]]
    badness, usual = np.full(PROVIDERS, _STRANGER), np.zeros(PROVIDERS)
    full: int | None = None
    aside, sent_in_all, lowest = 0.0, 0.0, 1.0
    for day in range(DAYS):
        whole = True
        for p, law in enumerate(laws):
            ceiling = steps[STEPS - 1 if policy == "no plan" else at[p]].per_day * sender.share[p]
            n = int(dice.poisson(ceiling))
            trust = trust_of(law, float(badness[p]))
            today = _day(
                dice, law, sender, trust, max(1, round(ceiling)), n, best=ceiling < 0.3 * TARGET * sender.share[p]
            )
            badness[p] = _after(law, float(badness[p]), float(usual[p]), today, sender, trust)
            usual[p] += 0.08 * (n * 7 - usual[p])
            since[p].append(today)
            aside, sent_in_all, lowest = aside + n * (1 - trust), sent_in_all + n, min(lowest, trust)
            whole = whole and at[p] == STEPS - 1 and trust > 0.85
            if policy == "fixed ladder":
                at[p] = min(STEPS - 1, at[p] + 1)
            elif policy != "no plan":
                track = Track(at[p], _DAY_ONE)
                after = track.after(decide(since[p]), _DAY_ONE + timedelta(days=1), STEPS, skip="skipping" in policy)
                if after is not track:
                    at[p], since[p] = after.step, []
            else:
                at[p] = STEPS - 1
        if whole and full is None:
            full = day + 1
    return Outcome(full, aside / max(1.0, sent_in_all), lowest, sent_in_all)


def make_law(dice: np.random.Generator, number: int) -> Law:
    """A law; the kinds differ in what they care about."""
    complaint, unknown, authentication, listed, jump, engagement = dice.uniform(0.3, 1.8, 6)
    return Law(
        complaint * 1.3, unknown, 3 * authentication, 3 * listed, 0.5 * jump, engagement,
        float(np.exp(dice.uniform(np.log(1.5), np.log(14)))), number % 3 == 2, number % 4 != 3, number % 5 != 4,
    )  # fmt: skip


def trust_of(law: Law, badness: float) -> float:
    """Return the share of mail in the inbox."""
    if law.sudden:
        return 0.15 if badness > _KNOWN else 0.6 if badness > 1.6 else 0.96
    return float(1 / (1 + np.exp(-(2.6 - badness))))


def _day(
    dice: np.random.Generator, law: Law, sender: Sender, trust: float, ceiling: int, n: int, *, best: bool
) -> StepDay:
    """Send a day's mail. The best recipients come first: they complain half as often, and few are dead."""
    dead = min(0.5, sender.unknown * (0.3 if best else 1.0))
    annoys = sender.annoys * (0.5 if best else 1.0)
    invalid = int(dice.binomial(n, dead))
    refused = int(dice.binomial(n - invalid, 0.25 * max(0.0, 0.5 - trust)))
    delivered = n - invalid - refused
    deferred = int(dice.binomial(n, min(0.95, 0.01 + 0.3 * max(0.0, 0.7 - trust))))
    complaints = int(dice.binomial(delivered, min(0.5, trust * annoys)))
    aside = int(dice.binomial(SEEDS, 1 - trust))
    return StepDay(ceiling, n, deferred, refused, invalid, delivered, complaints if law.reports else None, SEEDS, aside)


def _after(law: Law, badness: float, usual: float, day: StepDay, sender: Sender, trust: float) -> float:
    """Return the badness after a day: the jump is over what this provider is used to."""
    n = max(1, day.sent)
    jump = float(np.log2((n * 7 + 50) / (usual + 50)))
    pressed = (day.complaints or 0) / max(1, day.delivered) if law.reports else trust * sender.annoys
    blame = (
        law.complaint * pressed / 0.003 + law.unknown * day.invalid / n / 0.05 + law.jump * max(0.0, jump - 1)
        + law.engagement * max(0.0, 0.2 - sender.opens) * 4
    )  # fmt: skip
    pace = (1 - 0.5 ** (1 / law.memory)) * n / (n + 40)
    return badness + pace * (min(blame, 8.0) - badness)


def main() -> int:
    """Print the table."""
    seeds = [int(text) for text in sys.argv[1:]] or list(range(500, 600))
    print(f"{len(seeds)} worlds, {START} to {TARGET:,} a day in {STEPS} steps, {DAYS} days\n")
    print(
        "| policy | full volume, days (middle) | never within 90 days | mail not in the inbox | lowest trust (middle) |"
    )
    print("| --- | --- | --- | --- | --- |")
    for policy in POLICIES:
        found = [simulate(seed, policy) for seed in seeds]
        days = [each.full for each in found if each.full is not None]
        middle = f"{np.median(days):.0f}" if days else "-"
        never = sum(each.full is None for each in found)
        aside = sum(each.aside * each.sent for each in found) / sum(each.sent for each in found)
        lowest = float(np.median([each.lowest for each in found]))
        print(f"| {policy} | {middle} | {never} of {len(seeds)} | {100 * aside:.1f} % | {lowest:.2f} |")
    return 0


if __name__ == "__main__":
    sys.exit(main())
