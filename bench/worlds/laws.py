"""Hidden laws of made-up mailbox providers: how trust in a sender follows from what the provider itself sees.

Five families that differ in kind. None of them shares a formula with the readings. Each law has a state per sender,
takes in one day of evidence, and says how large a share of the next day's mail goes to the inbox.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
FAMILIES = ("thresholds", "ledger", "peers", "readers", "defers only", "thresholds and readers")


@dataclass(frozen=True)
class Evidence:
    """What a provider sees of each sender on a day, (senders,) each. Rates are fractions of `mail`.

    `pressed`: recipients who marked mail in their inbox as spam. `dead`: unknown recipients. `broken`: mail without
    valid authentication. `listed`: 1 while the sending address is on a blocklist. `content`: how suspect the messages
    themselves are, 0 to 1. `grown`: doublings of the day's mail over what is usual. `read`: opens of mail in the inbox.
    """

    mail: Array
    pressed: Array
    dead: Array
    broken: Array
    listed: Array
    content: Array
    grown: Array
    read: Array


@dataclass(frozen=True)
class Manner:
    """How a provider treats mail by its trust, and what of it can be seen from outside.

    `floor`, `slope`, `power`: deferrals. `refuses`: share of the distrusted mail that is rejected. `greylists`: how
    long the first mail of a sender is deferred, in days. `reports`: complaint reports. `shows_opens`: 0 where images
    are never fetched. `machine_opens`: share of all mail whose images a machine fetches. `names_lists`: rejections
    name a blocklist. `checks_authentication`: share of unauthenticated mail that is rejected for it.
    """

    floor: float
    slope: float
    power: float
    refuses: float
    greylists: int
    reports: bool
    shows_opens: float
    machine_opens: float
    names_lists: float
    checks_authentication: float


class Law:
    """One provider: a family, constants drawn once, and its memory of each sender."""

    def __init__(self, dice: np.random.Generator, family: str, senders: int, *, reports: bool) -> None:
        self.family = family
        draw = dice.uniform
        self.manner = Manner(
            floor=float(np.exp(draw(np.log(0.002), np.log(0.03)))), slope=draw(0.15, 0.9), power=draw(0.8, 1.6),
            refuses=0.0 if family == "defers only" else draw(0.1, 0.6), greylists=int(dice.integers(0, 8)),
            reports=reports,
            shows_opens=0.0 if family == "defers only" or dice.random() < 0.15 else draw(0.4, 1.1),
            machine_opens=draw(0.1, 0.4) if dice.random() < 0.3 else 0.0,
            names_lists=draw(0.2, 0.6) if family != "defers only" and dice.random() < 0.6 else 0.0,
            checks_authentication=draw(0.2, 0.7) if family != "defers only" and dice.random() < 0.6 else 0.0,
        )  # fmt: skip
        self.weights = draw(0.5, 1.6, 8)
        self.memory = float(np.exp(draw(np.log(2), np.log(15))))
        self.lenient = draw(0.7, 1.4)  # how much it takes
        self.steep = draw(1.5, 2.2)  # how little it does by halves
        self.shared = draw(0.1, 0.5)  # weight of the sending address beside the domain
        self.rates = np.zeros((5, senders))  # pressed, dead, broken, suspect, read
        self.rates[4] = 0.25
        self.seen = np.zeros(senders)
        self.ledger = np.full(senders, 1.5)
        self.tier = np.zeros(senders)
        self.held = np.zeros(senders)
        self.trust = np.full(senders, 0.85)

    def take_in(self, day: Evidence) -> None:
        """Remember a day of evidence and decide on the next."""
        pace = (1 - 0.5 ** (1 / self.memory)) * day.mail / (day.mail + 30)
        told = np.stack([day.pressed, day.dead, day.broken, np.maximum(day.listed, day.content), day.read])
        # Bad news is taken in faster than good news.
        faster = np.where(told[:4] > self.rates[:4], 1.6, 1.0)
        self.rates[:4] += np.minimum(1, pace * faster) * (told[:4] - self.rates[:4])
        self.rates[4] += pace * (told[4] - self.rates[4])
        self.seen = np.minimum(self.seen + day.mail, 1e6)
        ways = (
            self._thresholds, self._ledger, self._peers, self._readers, self._defers_only, self._thresholds_and_readers,
        )  # fmt: skip
        self.trust = ways[FAMILIES.index(self.family)](day, pace)

    def _blame(self, day: Evidence) -> Array:
        """Evidence against a sender in units in which 1 is much."""
        w, lenient = self.weights, self.lenient
        pressed, dead, broken, suspect, _ = self.rates
        return np.asarray(
            w[0] * pressed / (0.004 * lenient) + w[1] * dead / (0.06 * lenient) + w[2] * broken * 1.6
            + w[3] * suspect * 1.8 + 0.3 * w[4] * np.maximum(0, day.grown - 1.2)
        )  # fmt: skip

    def _thresholds(self, day: Evidence, pace: Array) -> Array:
        """Strikes; each tier is left at once downwards, upwards after some days without a strike."""
        pressed, dead, broken, suspect, _ = self.rates
        lines = ((pressed, 0.002), (dead, 0.035), (broken, 0.15), (suspect, 0.2))
        strikes = sum(
            (rate > line * self.lenient * self.weights[n]).astype(float) + (rate > 3 * line * self.weights[n])
            for n, (rate, line) in enumerate(lines)
        ) + (day.grown > 3.2)  # fmt: skip
        worse = strikes > self.tier
        self.held = np.where(worse, 0, self.held + (day.mail > 0))
        better = (strikes < self.tier) & (self.held > self.memory)
        self.tier = np.where(worse, strikes, np.where(better, self.tier - 1, self.tier))
        self.held = np.where(better, 0, self.held)
        return np.array([0.97, 0.72, 0.4, 0.12, 0.04])[np.minimum(4, self.tier).astype(int)]

    def _ledger(self, day: Evidence, pace: Array) -> Array:
        """Log-odds of trust: clean mail earns a little each day, evidence costs much, and both have ends."""
        w = self.weights
        costs = (
            0.4 * w[0] * np.log1p(day.pressed / (0.003 * self.lenient)) + 0.4 * w[1] * np.log1p(day.dead / 0.05)
            + 1.2 * w[2] * day.broken + 1.2 * w[3] * np.maximum(day.listed, day.content)
            + 0.25 * w[4] * np.maximum(0, day.grown - 1)
        )  # fmt: skip
        weight = day.mail / (day.mail + 60)
        earns = 0.3 * w[5] * np.log1p(day.read / 0.2)
        pull = (3.4 - self.ledger) / self.memory * 0.6
        self.ledger = np.clip(self.ledger + weight * (earns + pull - costs), -4.0, 3.8)
        return 1 / (1 + np.exp(-self.ledger))

    def _peers(self, day: Evidence, pace: Array) -> Array:
        """Only the place among the other senders counts."""
        blame = np.log(0.05 + self._blame(day)) - 0.35 * self.weights[5] * np.log(0.05 + self.rates[4])
        middle = np.median(blame)
        spread = 1.48 * np.median(np.abs(blame - middle)) + 0.15
        return 1 / (1 + np.exp(-(2.9 / self.lenient - 1.7 * np.maximum(-1, (blame - middle) / spread))))

    def _readers(self, day: Evidence, pace: Array) -> Array:
        """Who reads gets it; the rest is filed by how the sender's readers compare, and by complaints a little."""
        level = np.log2((self.rates[4] + 0.02) / (np.median(self.rates[4]) + 0.02))
        engaged = np.minimum(0.9, 1.6 * self.rates[4])
        score = 2.4 + 1.6 * self.weights[5] * np.minimum(1.0, level + 0.3) - 0.9 * self._blame(day)
        return engaged * 0.995 + (1 - engaged) / (1 + np.exp(-score))

    def _defers_only(self, day: Evidence, pace: Array) -> Array:
        """Says nothing: defers what it does not trust, and files the rest of it as spam."""
        weight = day.mail / (day.mail + 40)
        target = 3.2 - 1.5 * self._blame(day)
        self.ledger += weight * (1 - 0.5 ** (1 / self.memory)) * 1.5 * (np.maximum(-4, target) - self.ledger)
        return 1 / (1 + np.exp(-self.ledger))

    def _thresholds_and_readers(self, day: Evidence, pace: Array) -> Array:
        return np.sqrt(self._thresholds(day, pace) * self._readers(day, pace))
