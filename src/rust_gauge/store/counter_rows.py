"""Counters as they are read by the hundred thousand: columns of whole numbers, all of the same length."""

from collections.abc import Sequence
from dataclasses import dataclass, fields

import numpy as np
from numpy.typing import NDArray

from rust_gauge.store.driver import RawRow

Column = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class CounterRows:
    """Counters of subjects (domains, streams, relays or sending addresses), a row for each that is not 0."""

    subject: Column  # id
    provider: Column  # id; 0 where providers are left together
    day: Column  # since the day that was asked from, 0 on; hours for `lately`
    kind: Column  # number of a Count, or HELD
    cause: Column  # number of a Cause
    permanence: Column  # number of a Permanence
    n: Column

    @classmethod
    def of(cls, rows: Sequence[RawRow]) -> "CounterRows":
        """Make columns of rows that have all of them, in this order."""
        return cls(*np.array(rows, dtype=np.int64).reshape(len(rows), len(fields(cls))).T)

    @classmethod
    def of_series(cls, rows: Sequence[RawRow]) -> "CounterRows":
        """Make columns of rows of (subject, provider, kind, cause, permanence, series), the days of which are one text,
        "day,n,day,n": reading a row for each day takes most of the time that readings need."""
        texts = [row[5] if isinstance(row[5], str) else row[5].decode() for row in rows]
        pairs = np.array([text.count(",") // 2 + 1 for text in texts], dtype=np.int64)
        keys = np.array([row[:5] for row in rows], dtype=np.int64).reshape(len(rows), 5)
        values = np.array(",".join(texts).split(",") if texts else [], dtype=np.int64).reshape(-1, 2)
        subject, provider, kind, cause, permanence = np.repeat(keys, pairs, axis=0).T
        return cls(subject, provider, values[:, 0], kind, cause, permanence, values[:, 1])

    def __len__(self) -> int:
        return len(self.n)

    def where(self, chosen: NDArray[np.bool_]) -> "CounterRows":
        """Return the rows for which `chosen` is true."""
        return CounterRows(
            self.subject[chosen], self.provider[chosen], self.day[chosen], self.kind[chosen], self.cause[chosen],
            self.permanence[chosen], self.n[chosen],
        )  # fmt: skip

    def and_also(self, others: "CounterRows") -> "CounterRows":
        """Return these rows and others."""
        pairs = ((getattr(self, field.name), getattr(others, field.name)) for field in fields(self))
        return CounterRows(*(np.concatenate(pair) for pair in pairs))


@dataclass(frozen=True, slots=True)
class SenderRows:
    """Counters of all tenants by provider and sending domain."""

    provider: Column  # id
    domain: Column  # id
    day: Column  # since the day that was asked from; 0 where days are left together
    kind: Column  # number of a Count
    cause: Column  # number of a Cause
    permanence: Column  # number of a Permanence; 0 where they are left together
    n: Column

    @classmethod
    def of(cls, rows: Sequence[RawRow]) -> "SenderRows":
        """Make columns of rows that have all of them, in this order."""
        return cls(*np.array(rows, dtype=np.int64).reshape(len(rows), len(fields(cls))).T)

    def __len__(self) -> int:
        return len(self.n)

    def where(self, chosen: NDArray[np.bool_]) -> "SenderRows":
        """Return the rows for which `chosen` is true."""
        return SenderRows(
            self.provider[chosen], self.domain[chosen], self.day[chosen], self.kind[chosen], self.cause[chosen],
            self.permanence[chosen], self.n[chosen],
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class StreamRows:
    """Sums of a period by domain and stream."""

    domain: Column  # id
    stream: Column  # id
    provider: Column  # id of what stands for "nobody takes mail", else 0
    kind: Column  # number of a Count
    cause: Column  # number of a Cause
    permanence: Column  # number of a Permanence
    n: Column

    @classmethod
    def of(cls, rows: Sequence[RawRow]) -> "StreamRows":
        """Make columns of rows that have all of them, in this order."""
        return cls(*np.array(rows, dtype=np.int64).reshape(len(rows), len(fields(cls))).T)

    def __len__(self) -> int:
        return len(self.n)
