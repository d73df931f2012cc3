"""Counting events into hours: what the store adds to its counters in the same transaction as the events."""

from collections import Counter
from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from rust_gauge.core.mailflow.event import Event, Kind
from rust_gauge.core.replies import Cause, Permanence


class CounterKey(NamedTuple):
    """What a counter counts. `hour` is the beginning of the hour, UTC; `provider` as `find_provider` names it."""

    hour: datetime
    domain: str
    stream: str
    relay: str
    provider: str
    kind: Kind
    cause: Cause
    permanence: Permanence


class Tally:
    """Counts by hour. `add` takes a weight so that history can be counted without making each message again."""

    def __init__(self) -> None:
        self._counts: Counter[CounterKey] = Counter()

    def add(self, event: Event, provider: str, weight: int = 1) -> None:
        """Count an event, under the provider of its recipient."""
        self.add_key(
            CounterKey(
                event.occurred_at.replace(minute=0, second=0, microsecond=0),
                event.domain,
                event.stream,
                event.relay,
                provider,
                event.kind,
                event.cause,
                event.permanence,
            ),
            weight,
        )

    def add_key(self, key: CounterKey, weight: int) -> None:
        """Count `weight` events under one key."""
        self._counts[key] += weight

    def __iter__(self) -> Iterator[tuple[CounterKey, int]]:
        """In the order of the keys, so that two loads lock the same counters in the same order."""
        return iter(sorted(self._counts.items()))

    def __len__(self) -> int:
        return len(self._counts)
