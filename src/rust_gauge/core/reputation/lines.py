"""Watch and stop lines for bounce and complaint rates: crossed when the posterior says so, not at the first message.

Every relay operator has a line where it warns and one where it stops a sender, and large mailbox providers publish
ceilings for complaints; the defaults are what is common.
"""

from dataclasses import dataclass

import numpy as np

from rust_gauge.core.reputation.memory import Array, chance_above, decay_of, faded


@dataclass(frozen=True, slots=True)
class Line:
    """A rate with its two lines, as fractions, and how sure one has to be that a line is crossed."""

    rate: str  # bounces or complaints
    watch: float
    stop: float
    half_life: float = 3.0  # days
    sure: float = 0.9
    worth: float = 200.0  # messages that the prior is worth: a quarter of the watch line

    @property
    def usual(self) -> float:
        """The rate at which nothing is wrong: a quarter of where `watch` begins."""
        return self.watch / 4


BOUNCES = Line("bounces", 0.02, 0.05)
COMPLAINTS = Line("complaints", 0.001, 0.003, worth=1000.0)
FEWEST = 3  # events that a crossing needs: nobody is warned of one message


@dataclass(frozen=True, slots=True)
class Standing:
    """Where a rate stands on a day: its mean, and how probable it is that it lies above each line."""

    rate: float
    watch_chance: float
    stop_chance: float
    events: float  # remembered
    mail: float


def stand(events: Array, mail: Array, line: Line) -> list[Standing]:
    """Where each of many rates stands on its last day, from (series, days) of events and mail."""
    decay = decay_of(line.half_life)
    return _standings(faded(events, decay)[:, -1], faded(mail, decay)[:, -1], line)


def _standings(seen: Array, sent: Array, line: Line) -> list[Standing]:
    """From events and mail as they are remembered."""
    a, b = seen + line.usual * line.worth, sent + line.worth
    watch, stop = chance_above(line.watch, a, b), chance_above(line.stop, a, b)
    parts = (np.minimum(1.0, a / b), watch, stop, seen, sent)
    return [Standing(*values) for values in zip(*(part.tolist() for part in parts), strict=True)]


def crossed(standing: Standing, line: Line) -> str:
    """`stop`, `watch`, or nothing."""
    if standing.events < FEWEST:
        return ""
    if standing.stop_chance >= line.sure:
        return "stop"
    return "watch" if standing.watch_chance >= line.sure else ""


_PACE_DAYS = 3  # whole days before today from which the pace is taken
SOON_DAYS = 3  # how far ahead a crossing is foreseen


def crossings_ahead(events: Array, mail: Array, line: Line) -> list[tuple[str, int]]:
    """(which line is crossed next, in how many days) if the mean of the last whole days goes on; ("", 0) if none is.

    From (series, days) of events and mail, today last. Today is not finished, so it does not say how fast it goes.
    """
    decay, pace = decay_of(line.half_life), slice(-_PACE_DAYS - 1, -1)
    seen, sent = faded(events, decay)[:, -1], faded(mail, decay)[:, -1]
    more, more_mail = (
        part[:, pace].mean(axis=1) if part[:, pace].size else np.zeros(len(part)) for part in (events, mail)
    )
    enough = events[:, pace].sum(axis=1) >= FEWEST
    now = [crossed(standing, line) for standing in _standings(seen, sent, line)]
    found = [("", 0)] * len(events)
    for days in range(1, SOON_DAYS + 1):
        seen, sent = seen * decay + more, sent * decay + more_mail
        for n, standing in enumerate(_standings(seen, sent, line)):
            later = crossed(standing, line)
            if enough[n] and not found[n][0] and later and later != now[n] and now[n] != "stop":
                found[n] = (later, days)
    return found
