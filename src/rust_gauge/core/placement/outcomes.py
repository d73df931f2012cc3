"""What became of copies, and what that says about a provider: shares with the interval that their number allows.

A seed that could not be read, and a copy that its outlet did not take, say nothing about the provider and are in no
share. A copy is missing only if its seed was read to the end after the waiting time.
"""

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from rust_gauge.core.mailflow.rates import Rate, rate


class FolderMeaning(StrEnum):
    """What a provider files into a folder of a seed."""

    INBOX = "inbox"
    SPAM = "spam"
    OTHER = "other"  # another category, such as offers


class Outcome(StrEnum):
    """What is known of one copy."""

    QUEUED = "queued"  # not sent yet
    SENT = "sent"  # taken by the outlet, not found yet
    INBOX = "inbox"
    SPAM = "spam"
    OTHER = "other"
    MISSING = "missing"  # the seed was read after the waiting time, and it was in none of its folders
    REFUSED = "refused"  # the outlet's server refused the seed's address or the message
    NOT_SENT = "not_sent"  # the outlet could not send at all
    UNREAD = "unread"  # the seed could not be read in time


FOUND = frozenset((Outcome.INBOX, Outcome.SPAM, Outcome.OTHER))
OPEN = frozenset((Outcome.QUEUED, Outcome.SENT))
JUDGED = FOUND | {Outcome.MISSING, Outcome.REFUSED}


@dataclass(frozen=True, slots=True)
class ProviderPlacement:
    """Copies to one provider. The rates are of the copies whose fate is known; None while there are none."""

    provider: str
    counts: dict[Outcome, int]
    inbox: Rate | None
    spam: Rate | None
    missing: Rate | None

    @property
    def judged(self) -> int:
        """Return of how many copies it is known what the provider did."""
        return sum(self.counts.get(outcome, 0) for outcome in JUDGED)

    @property
    def open(self) -> int:
        """Return how many copies are still to be sent or found."""
        return sum(self.counts.get(outcome, 0) for outcome in OPEN)


def sum_up(counted: Iterable[tuple[str, Outcome, int]]) -> tuple[ProviderPlacement, ...]:
    """Return the placement at each provider, by name, from (provider, outcome, number of copies)."""
    by_provider: dict[str, Counter[Outcome]] = {}
    for provider, outcome, number in counted:
        by_provider.setdefault(provider, Counter())[outcome] += number
    return tuple(_placement(provider, counts) for provider, counts in sorted(by_provider.items()))


def _placement(provider: str, counts: Counter[Outcome]) -> ProviderPlacement:
    judged = sum(counts[outcome] for outcome in JUDGED)
    lost = counts[Outcome.MISSING] + counts[Outcome.REFUSED]
    return ProviderPlacement(
        provider, dict(counts), rate(counts[Outcome.INBOX], judged), rate(counts[Outcome.SPAM], judged),
        rate(lost, judged),
    )  # fmt: skip
