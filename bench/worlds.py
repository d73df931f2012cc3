"""Made-up mail worlds: mailbox providers with hidden laws of trust, senders with incidents, and what of it is seen.

Each provider holds a trust in each sender by a law of its own, and files mail accordingly. A reading sees counters
only; it is judged by tomorrow's true inbox share. `python -m bench.worlds [SEED ...]` prints the figures of
docs/reputation.md.
"""

import sys
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.reputation import COUNTS, NO_VALUE, Readings, Surroundings, common_delay, openness, read
from rust_gauge.core.reputation.factors import FACTORS

Array = NDArray[np.float64]
DAYS, WARM = 200, 40  # days of a world; the first are not judged
SENDERS, PROVIDERS = 60, 5
SEEDED = (
    ("ours, 3 seeds weekly", 3, 7),
    ("ours, 3 seeds every second day", 3, 2),
    ("ours, 5 seeds daily", 5, 1),
)
"""How copies are sent to each provider: name, copies, every so many days."""
CAUSES = ("complaints", "unknown", "authentication", "listed", "blast")


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


@dataclass
class World:
    """Counts (COUNTS, senders × providers, days), the true inbox share, and what happened to whom when."""

    counts: Array
    expected: Array
    inbox: Array
    reports: NDArray[np.bool_]
    incidents: dict[int, tuple[str, int, int]]  # by sender: what, first and last day
    volume: Array  # a day, by sender
    outages: list[tuple[int, int]]  # provider, day


def make_world(seed: int) -> World:
    dice = np.random.default_rng(seed)
    laws = [make_law(dice, n) for n in range(PROVIDERS)]
    volume = np.exp(dice.uniform(np.log(30), np.log(30_000), SENDERS))
    annoys = np.exp(dice.normal(np.log(0.0004), 0.6, SENDERS))  # complaints of those who see a message
    unknown = np.exp(dice.normal(np.log(0.006), 0.6, SENDERS))
    opens = dice.uniform(0.12, 0.5, SENDERS)
    reads = dice.uniform(0.6, 1.2, PROVIDERS)  # images are not shown everywhere
    leaves = dice.uniform(0.0003, 0.002, SENDERS)
    rhythm = np.array([dice.dirichlet(np.ones(7) * dice.uniform(0.4, 8)) * 7 for _ in range(SENDERS)])
    drift = np.cumsum(dice.normal(0, 0.01, (SENDERS, DAYS)), axis=1)
    incidents, levels = _incidents(dice)
    outages = [(int(dice.integers(PROVIDERS)), int(dice.integers(WARM, DAYS - 5))) for _ in range(3)]
    share = dice.dirichlet(np.ones(PROVIDERS) * 3, SENDERS)

    parts = {name: np.zeros((SENDERS, PROVIDERS, DAYS)) for name in COUNTS}
    hoped = {name: np.zeros((SENDERS, PROVIDERS, DAYS)) for name in COUNTS}
    inbox = np.zeros((SENDERS, PROVIDERS, DAYS))
    badness = np.zeros((SENDERS, PROVIDERS))
    usual = volume[:, None] * share * 7
    late = np.zeros((SENDERS, PROVIDERS, DAYS + 10))
    for day in range(DAYS):
        blast = 1 + 7 * levels["blast"][:, day]
        mail = volume[:, None] * share * (rhythm[:, day % 7] * np.exp(drift[:, day]) * blast)[:, None]
        mail = dice.poisson(mail).astype(float)
        seen_rate = annoys + 0.008 * levels["complaints"][:, day] + 0.003 * levels["blast"][:, day]
        dead = np.minimum(0.5, unknown + 0.09 * levels["unknown"][:, day] + 0.01 * levels["blast"][:, day])
        broken = 0.6 * levels["authentication"][:, day]
        listed = levels["listed"][:, day]
        for p, law in enumerate(laws):
            n = mail[:, p]
            trust = 1 / (1 + np.exp(-(2.6 - badness[:, p])))
            if law.sudden:
                trust = np.where(badness[:, p] > 2.6, 0.15, np.where(badness[:, p] > 1.6, 0.6, 0.96))
            inbox[:, p, day] = trust
            outage = (p, day) in outages
            rates = {
                "invalid_addresses": dead,
                "refusals": 0.0003 + 0.25 * np.maximum(0, 0.5 - trust),
                "listings": 0.3 * listed * (law.listed > 1.0),
                "authentication": 0.3 * broken * (law.authentication > 1.0),
            }
            whole = np.minimum(0.95, sum(rates.values()))
            taken = dice.binomial(n.astype(int), 1 - whole)
            left = n - taken
            for name, rate in rates.items():
                hit = np.minimum(left, dice.binomial(left.astype(int), np.minimum(1.0, rate / np.maximum(whole, 1e-9))))
                parts[name][:, p, day] += hit
                hoped[name][:, p, day] = n * rate
            parts["attempted"][:, p, day] = hoped["attempted"][:, p, day] = n
            parts["delivered"][:, p, day] = taken
            hoped["delivered"][:, p, day] = n * (1 - whole)
            delay = np.minimum(0.95, 0.01 + 0.3 * np.maximum(0, 0.7 - trust) + 0.8 * outage)
            parts["delays"][:, p, day] = dice.binomial(n.astype(int), delay)
            hoped["delays"][:, p, day] = n * delay
            complaints = dice.binomial(taken, np.minimum(0.5, trust * seen_rate))
            if law.reports:
                for lag, part in enumerate((0.55, 0.3, 0.15)):
                    late[:, p, day + lag] += complaints * part
                    if day + lag < DAYS:
                        hoped["complaints"][:, p, day + lag] += taken * trust * seen_rate * part
            if law.opens_known:
                rate = trust * opens * reads[p] * (1 - 0.4 * levels["unknown"][:, day])
                parts["opened"][:, p, day] = dice.binomial(taken, rate)
                hoped["opened"][:, p, day] = taken * rate
            parts["unsubscribes"][:, p, day] = dice.binomial(taken, trust * leaves)
            hoped["unsubscribes"][:, p, day] = taken * trust * leaves
            # What the provider itself sees: every "this is spam" press, whether it reports them or not.
            size = np.maximum(n, 1.0)
            jump = np.log2((n * 7 + 50) / (usual[:, p] + 50))
            pressed = complaints / np.maximum(taken, 1.0)
            opened = dice.binomial(taken, np.minimum(1, trust * opens)) / np.maximum(taken, 1.0)
            blame = (
                law.complaint * pressed / 0.003 + law.unknown * parts["invalid_addresses"][:, p, day] / size / 0.05
                + law.authentication * broken + law.listed * listed + law.jump * np.maximum(0, jump - 1)
                + law.engagement * np.maximum(0, 0.2 - opened / np.maximum(trust, 0.1)) * 4
            )  # fmt: skip
            # Little mail says little: it moves trust little.
            pace = (1 - 0.5 ** (1 / law.memory)) * n / (n + 40)
            badness[:, p] += pace * (np.minimum(blame, 8.0) - badness[:, p])
            usual[:, p] += 0.03 * (n * 7 - usual[:, p])
    parts["complaints"] = dice.poisson(late[:, :, :DAYS]).astype(float)
    flat = (len(COUNTS), SENDERS * PROVIDERS, DAYS)
    return World(
        np.stack([parts[name] for name in COUNTS]).reshape(flat),
        np.stack([hoped[name] for name in COUNTS]).reshape(flat),
        inbox.reshape(flat[1:]), np.tile(np.array([law.reports for law in laws]), SENDERS), incidents, volume, outages,
    )  # fmt: skip


def make_law(dice: np.random.Generator, number: int) -> Law:
    """A law; the kinds differ in what they care about."""
    complaint, unknown, authentication, listed, jump, engagement = dice.uniform(0.3, 1.8, 6)
    return Law(
        complaint * 1.3, unknown, 3 * authentication, 3 * listed, 0.5 * jump, engagement,
        float(np.exp(dice.uniform(np.log(1.5), np.log(14)))), number % 3 == 2, number % 4 != 3, number % 5 != 4,
    )  # fmt: skip


def _incidents(dice: np.random.Generator) -> tuple[dict[int, tuple[str, int, int]], dict[str, Array]]:
    """Half of the senders have one, each some days long."""
    levels = {name: np.zeros((SENDERS, DAYS)) for name in CAUSES}
    found = {}
    for sender in range(0, SENDERS, 2):
        what = CAUSES[int(dice.integers(len(CAUSES)))]
        first = int(dice.integers(WARM + 20, DAYS - 60))
        last = first + (2 if what in ("authentication", "blast") else int(dice.integers(4, 20)))
        levels[what][sender, first : last + 1] = dice.uniform(0.5, 1.5)
        found[sender] = (what, first, last)
    return found, levels


def with_seeds(world: World, seed: int, copies: int, every: int) -> World:
    """Return the world with test copies to each provider, so many every so many days, filed as its mail is."""
    dice = np.random.default_rng([seed, copies, every])
    counts = world.counts.copy()
    sent = np.zeros(counts.shape[1:])
    sent[:, ::every] = copies
    aside = dice.binomial(sent.astype(int), 1 - world.inbox).astype(float)
    counts[COUNTS.index("copies")], counts[COUNTS.index("placement")] = sent, aside
    return replace(world, counts=counts)


# Readings, and scores to hold them against


def readings_of(world: World, counts: Array) -> Readings:
    common = np.zeros(counts.shape[1:])
    for p in range(PROVIDERS):
        common[p::PROVIDERS] = common_delay(counts[COUNTS.index("delays"), p::PROVIDERS], counts[0, p::PROVIDERS])
    shape = (SENDERS, PROVIDERS)
    opened, delivered = (
        counts[COUNTS.index(name)][:, :WARM].sum(axis=1).reshape(shape) for name in ("opened", "delivered")
    )
    peers = {"engagement": np.tile(openness(opened, delivered), SENDERS)}
    sender = np.repeat(np.arange(SENDERS), PROVIDERS)
    return read(counts, Surroundings(world.reports, sender, common, peers))


def trailing(world: World) -> Array:
    """A usual score: raw rates of the last seven days on the same lines."""
    total = np.cumsum(world.counts, axis=-1)
    week = total - np.concatenate([np.zeros((*total.shape[:-1], 7)), total[..., :-7]], axis=-1)
    return _scored(world, week)


def averaged(world: World) -> Array:
    """Another: plain exponential averages of each day's raw rates."""
    mail = np.maximum(world.counts[0], 1.0)
    rates = world.counts / mail
    out = np.zeros_like(rates)
    carried = np.zeros(rates.shape[:-1])
    for day in range(DAYS):
        carried = 0.75 * carried + 0.25 * rates[..., day]
        out[..., day] = carried
    out[0] = 1.0
    return _scored(world, out)


def _scored(world: World, sums: Array) -> Array:
    score = np.full(sums.shape[1:], 100.0)
    mail = np.maximum(sums[0], 1e-9)
    for factor in FACTORS:
        if factor.name in ("complaints", "invalid_addresses", "refusals", "listings", "authentication", "delays"):
            rate = np.where(sums[0] > 0, np.minimum(1.0, sums[COUNTS.index(factor.name)] / mail), 0.0)
            score -= factor.weight * factor.share_of_weight(rate)
    return np.maximum(score, 0.0)


# Judging


def ranks(values: Array) -> Array:
    order = np.argsort(values, kind="stable")
    out = np.empty(len(values))
    out[order] = np.arange(len(values))
    # Equal values share their middle rank.
    _, inverse, counts = np.unique(values, return_inverse=True, return_counts=True)
    sums = np.bincount(inverse, out)
    return np.asarray((sums / counts)[inverse])


def rank_correlation(one: Array, other: Array) -> float:
    return float(np.corrcoef(ranks(one), ranks(other))[0, 1])


def auc(score: Array, bad: NDArray[np.bool_]) -> float:
    """How often a bad case scores below a good one."""
    rank = ranks(-score)
    n, m = bad.sum(), (~bad).sum()
    return float((rank[bad].sum() - n * (n - 1) / 2) / (n * m)) if n and m else float("nan")


def judge(world: World, score: Array, known: NDArray[np.bool_]) -> dict[str, float]:
    """The figures of one score."""
    today = slice(WARM, DAYS - 1)
    tomorrow = world.inbox[:, WARM + 1 :]
    use = known[:, today]
    said, true = score[:, today][use], tomorrow[use]
    sender = np.arange(score.shape[0]) // PROVIDERS
    shows, missed = [], 0
    for who, (_, first, last) in world.incidents.items():
        mine = score[sender == who]
        hurt = world.inbox[sender == who][:, first : last + 10].min(axis=1) < 0.8
        if not hurt.any():
            continue  # nobody reacted
        base = mine[hurt][:, first - 10 : first].mean(axis=1, keepdims=True)
        fell = (mine[hurt][:, first : last + 10] < np.minimum(80.0, base - 10)).any(axis=0)
        if fell.any():
            shows.append(int(np.argmax(fell)))
        else:
            missed += 1
    clean = np.isin(sender, [n for n in range(SENDERS) if n not in world.incidents])
    fine = clean[:, None] & (world.inbox > 0.85)
    alarms = (score < 80) & known & fine
    small = clean & (world.volume[sender] < 300)
    steps = np.abs(np.diff(score[small][:, WARM:], axis=1))[(known[small][:, WARM + 1 :])]
    return {
        "rank correlation": rank_correlation(said, true),
        "AUC": auc(said, true < 0.8),
        "days until shown": float(np.mean(shows)) if shows else float("nan"),
        "missed": float(missed),
        "false alarms": float(alarms[:, WARM:].sum() / max(1, (known & fine)[:, WARM:].sum())),
        "flicker": float(steps.mean()),
    }


def coverage(world: World, readings: Readings) -> float:
    """How often the reading that the true rates would give lies within the margin."""
    true = readings_of(world, world.expected * 1000)
    use = (readings.tenths != NO_VALUE)[:, WARM:]
    away = np.abs(true.tenths.astype(float) - readings.tenths)[:, WARM:][use]
    return float((away <= readings.margin[:, WARM:][use] + 0.5).mean())


def outage_drop(world: World, readings: Readings) -> float:
    """Points that a provider's outage takes off the readings there, on average."""
    drops = []
    for p, day in world.outages:
        mine = readings.tenths[p::PROVIDERS]
        use = (mine[:, day] != NO_VALUE) & (mine[:, day - 1] != NO_VALUE)
        drops.append(float((mine[use, day - 1] - mine[use, day]).mean() / 10))
    return float(np.mean(drops))


def main() -> int:
    seeds = [int(text) for text in sys.argv[1:]] or list(range(101, 109))
    names = ("ours", *(name for name, _, _ in SEEDED), "trailing 7-day rates", "moving averages")
    totals: dict[str, list[dict[str, float]]] = {name: [] for name in names}
    covered, drops = [], []
    for seed in seeds:
        world = make_world(seed)
        readings = readings_of(world, world.counts)
        known = readings.tenths != NO_VALUE
        totals["ours"].append(judge(world, readings.tenths / 10, known))
        for name, copies, every in SEEDED:
            seeded = with_seeds(world, seed, copies, every)
            totals[name].append(judge(world, readings_of(seeded, seeded.counts).tenths / 10, known))
        totals["trailing 7-day rates"].append(judge(world, trailing(world), known))
        totals["moving averages"].append(judge(world, averaged(world), known))
        covered.append(coverage(world, readings))
        drops.append(outage_drop(world, readings))
    figures = list(totals["ours"][0])
    print("| score | " + " | ".join(figures) + " |")
    print("| --- |" + " --- |" * len(figures))
    for name, found in totals.items():
        cells = [f"{np.nanmean([document_[figure] for document_ in found]):.3f}" for figure in figures]
        print(f"| {name} | " + " | ".join(cells) + " |")
    print(f"\ncoverage of the margin {np.mean(covered):.3f}; an outage takes {np.mean(drops):.2f} points")
    return 0


if __name__ == "__main__":
    sys.exit(main())
