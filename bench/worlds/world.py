"""A made-up mail world: senders of 20 to 300,000 messages a day, providers with hidden laws, and what of it is seen."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bench.worlds import incidents as happening
from bench.worlds.incidents import Incident
from bench.worlds.laws import FAMILIES, Evidence, Law
from rust_gauge.core.reputation import COUNTS

Array = NDArray[np.float64]
DAYS, WARM = 230, 50  # days of a world; the first are not judged
SENDERS, PROVIDERS = 60, len(FAMILIES)


@dataclass
class World:
    """Counts (COUNTS, senders × providers, days) as they are seen and as chance aside they would be, the true share of
    inbox, and what happened to whom when.
    """

    counts: Array
    expected: Array
    inbox: Array
    reports: NDArray[np.bool_]
    incidents: list[Incident]
    touched: NDArray[np.bool_]  # (senders, days): an incident of its own or of a shared address, and three weeks after
    volume: Array  # a day, by sender
    families: tuple[str, ...]
    outages: list[tuple[int, int]]  # provider, day
    broken: Array  # (senders, days): share of mail that neither SPF nor DKIM authenticates


def make_world(seed: int) -> World:
    """Return the world of a seed."""
    dice = np.random.default_rng(seed)
    order = [FAMILIES[n] for n in dice.permutation(PROVIDERS)]
    able = [name for name in order if name != "defers only"]
    reporting = {able[n] for n in dice.permutation(len(able))[: int(dice.integers(3, 5))]}
    laws = [Law(dice, family, SENDERS, reports=family in reporting) for family in order]
    volume = np.exp(dice.uniform(np.log(20), np.log(300_000), SENDERS))
    pool = np.where(dice.random(SENDERS) < 0.4, dice.integers(0, 5, SENDERS), -1)
    level_of = {
        "annoys": np.exp(dice.normal(np.log(0.0007), 0.8, SENDERS)),
        "dead": np.exp(dice.normal(np.log(0.006), 0.8, SENDERS)),
        "reads": np.clip(np.exp(dice.normal(np.log(0.3), 0.45, SENDERS)), 0.05, 0.8),
        "broken": np.where(dice.random(SENDERS) < 0.15, dice.uniform(0.02, 0.2, SENDERS), 0.001),
        "content": np.clip(dice.normal(0.02, 0.05, SENDERS), 0, 0.3),
    }  # fmt: skip
    drift = {name: np.exp(_wander(dice, (SENDERS, DAYS), 0.35, 40)) for name in ("annoys", "dead", "reads")}
    leaves = dice.uniform(0.0003, 0.003, SENDERS)
    tracks = dice.random(SENDERS) > 0.15  # opens are not measured by all
    found, effect = happening.draw(dice, SENDERS, DAYS, WARM, pool)
    mail_of_day = _rhythm(dice) * volume[:, None] * (1 + effect["mail"])
    share = dice.dirichlet(np.ones(PROVIDERS) * 2.5, SENDERS)
    # What nobody outside sees: a provider's own mind, and how it files beside it.
    own_mind, filing = (_wander(dice, (SENDERS, PROVIDERS, DAYS), size, 25) for size in (0.3, 0.12))
    outages = sorted((int(dice.integers(PROVIDERS)), int(dice.integers(WARM, DAYS - 5))) for _ in range(4))
    silent = [(int(dice.integers(PROVIDERS)), int(dice.integers(WARM, DAYS - 20)), int(dice.integers(5, 15)))]
    broken_on = np.zeros((SENDERS, DAYS))
    parts = {name: np.zeros((SENDERS, PROVIDERS, DAYS)) for name in COUNTS}
    hoped = {name: np.zeros((SENDERS, PROVIDERS, DAYS)) for name in COUNTS}
    inbox = np.zeros((SENDERS, PROVIDERS, DAYS))
    usual = volume[:, None] * share
    late = np.zeros((SENDERS, PROVIDERS, DAYS + 10))
    backlog = np.zeros((SENDERS, PROVIDERS))
    first_mail = np.full((SENDERS, PROVIDERS), -1)
    for day in range(DAYS):
        annoys = np.minimum(0.2, level_of["annoys"] * drift["annoys"][:, day] + effect["annoys"][:, day])
        dead = np.minimum(0.6, level_of["dead"] * drift["dead"][:, day] + effect["dead"][:, day])
        reads = np.clip(level_of["reads"] * drift["reads"][:, day] * (1 + effect["reads"][:, day]), 0.01, 0.9)
        broken = np.minimum(1.0, level_of["broken"] + effect["broken"][:, day])
        broken_on[:, day] = broken
        content = np.minimum(1.0, level_of["content"] + effect["content"][:, day])
        listed = effect["listed"][:, day]
        wanted = dice.poisson(mail_of_day[:, day, None] * share)
        for p, law in enumerate(laws):
            manner = law.manner
            outage = (p, day) in outages
            hurt = dice.uniform(0.5, 0.95) if outage else 0.0
            n = wanted[:, p] + backlog[:, p].astype(int)
            put_off = np.rint(n * hurt).astype(int)
            backlog[:, p], n = put_off, n - put_off
            first_mail[:, p] = np.where((first_mail[:, p] < 0) & (n > 0), day, first_mail[:, p])
            trust = np.clip(law.trust, 1e-3, 1 - 1e-3)
            for mates in (np.flatnonzero(pool == number) for number in range(5)):
                if len(mates) > 1:
                    mean = np.average(trust[mates], weights=usual[mates, p] + 1)
                    trust[mates] = (1 - law.shared) * trust[mates] + law.shared * np.minimum(mean, trust[mates] + 0.1)
            logit = law.steep * np.log(trust / (1 - trust)) - 0.6 + own_mind[:, p, day]
            doubt = 1 / (1 + np.exp(logit))
            inbox[:, p, day] = true = 1 / (1 + np.exp(-logit - filing[:, p, day]))
            whole_rates = {
                "invalid_addresses": dead,
                "refusals": 0.0004 + manner.refuses * np.maximum(0, doubt - 0.5) ** 1.2 + 0.02 * content,
                "listings": manner.names_lists * listed,
                "authentication": manner.checks_authentication * broken,
            }
            total = np.minimum(0.97, sum(whole_rates.values()))
            taken = dice.binomial(n, 1 - total)
            left = n - taken
            for name, rate in whole_rates.items():
                ratio = np.minimum(1.0, rate / np.maximum(total, 1e-9))
                hit = np.minimum(left, dice.binomial(n - taken, ratio))
                left = left - hit
                parts[name][:, p, day] += hit
                hoped[name][:, p, day] = n * np.minimum(rate, total)
            parts["attempted"][:, p, day] = hoped["attempted"][:, p, day] = n
            parts["delivered"][:, p, day], hoped["delivered"][:, p, day] = taken, n * (1 - total)
            grey = (day - first_mail[:, p] < manner.greylists) & (first_mail[:, p] >= 0)
            delay = np.minimum(
                0.95, manner.floor * np.exp(dice.normal(0, 0.25)) + manner.slope * doubt**manner.power * 0.5
            )
            delay = np.where(grey, np.maximum(delay, 0.5), delay)
            tries = 1 + dice.poisson(1.5, SENDERS) * (hurt > 0)
            parts["delays"][:, p, day] = dice.binomial(n, delay) + put_off * tries
            hoped["delays"][:, p, day] = n * delay + put_off * tries
            parts["greylisted"][:, p, day] = np.where(grey, parts["delays"][:, p, day], 0)
            pressed = dice.binomial(taken, np.minimum(0.5, true * annoys))
            mute = any(p == q and first <= day < first + length for q, first, length in silent)
            if manner.reports and not mute:
                for lag, part in enumerate((0.5, 0.3, 0.15, 0.05)):
                    late[:, p, day + lag] += dice.binomial(pressed, part)
                    if day + lag < DAYS:
                        hoped["complaints"][:, p, day + lag] += taken * true * annoys * part
            opened = dice.binomial(taken, np.minimum(0.95, true * reads))
            if manner.shows_opens:
                rate = np.minimum(0.97, true * reads * manner.shows_opens + manner.machine_opens)
                for lag, part in enumerate((0.65, 0.25, 0.1)):
                    if day + lag < DAYS:
                        parts["opened"][:, p, day + lag] += dice.binomial(taken, rate * part) * tracks
                        hoped["opened"][:, p, day + lag] += taken * rate * part * tracks
            parts["unsubscribes"][:, p, day] = dice.binomial(taken, true * leaves)
            hoped["unsubscribes"][:, p, day] = taken * true * leaves
            size = np.maximum(n, 1.0)
            grown = np.maximum(0.0, np.log2((n + 30) / (usual[:, p] * 1.5 + 30)))
            law.take_in(
                Evidence(
                    n.astype(float), pressed / np.maximum(taken, 1), parts["invalid_addresses"][:, p, day] / size,
                    broken, listed, content, grown, opened / np.maximum(taken * true, 1.0),
                )
            )  # fmt: skip
            usual[:, p] += 0.03 * (n - usual[:, p])
    parts["complaints"] = late[:, :, :DAYS]
    flat = (len(COUNTS), SENDERS * PROVIDERS, DAYS)
    touched = np.zeros((SENDERS, DAYS), dtype=bool)
    for one in found:
        touched[one.sender, one.first : one.last + 22] = True
        if pool[one.sender] >= 0:
            touched[pool == pool[one.sender], one.first : one.last + 22] = True
    return World(
        np.stack([parts[name] for name in COUNTS]).reshape(flat),
        np.stack([hoped[name] for name in COUNTS]).reshape(flat),
        inbox.reshape(flat[1:]), np.tile(np.array([law.manner.reports for law in laws]), SENDERS), found, touched,
        volume, tuple(order), outages, broken_on,
    )  # fmt: skip


def _wander(dice: np.random.Generator, shape: tuple[int, ...], size: float, memory: float) -> Array:
    """A quantity that wanders around 0 with a standard deviation, and forgets in so many days."""
    keeps = np.exp(-1 / memory)
    out = np.empty(shape)
    at = dice.normal(0, size, shape[:-1])
    for day in range(shape[-1]):
        at = keeps * at + dice.normal(0, size * np.sqrt(1 - keeps**2), shape[:-1])
        out[..., day] = at
    return out


def _rhythm(dice: np.random.Generator) -> Array:
    """(senders, days) around 1: weekdays, one mailing a week for some, a season, and a wandering."""
    days = np.arange(DAYS)
    out = np.empty((SENDERS, DAYS))
    for sender in range(SENDERS):
        even = dice.dirichlet(np.ones(7) * np.exp(dice.uniform(np.log(0.3), np.log(20)))) * 7
        season = 1 + 0.4 * np.sin(2 * np.pi * (days + dice.integers(365)) / 365)
        out[sender] = even[days % 7] * season
    return out * np.exp(_wander(dice, (SENDERS, DAYS), 0.2, 10))
