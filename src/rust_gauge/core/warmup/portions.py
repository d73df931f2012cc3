"""Cutting a list into portions that fit a plan: the most engaged recipients of each provider first.

Rows are looked at twice, and neither pass holds them. The first counts how many of each provider have which engagement,
in 65,536 classes; that says which ranks each class has, and which ranks each hour takes. The second pass puts each row
into its portion; within a class the order of the file decides.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from rust_gauge.core.warmup.window import Opening

_CLASSES = 65_536
_EPOCH = date(1970, 1, 1).toordinal()
LEFT = -1  # the portion of what does not fit into a year


@lru_cache(maxsize=100_000)
def engagement_class(text: str) -> int:
    """Return the class of what a file says of a recipient's engagement: larger is more engaged, 0 is nothing known.

    A date, or the day of a time (ISO 8601): the newest is the most engaged. A number: the largest is, with 1/128 of
    exactness.
    """
    text = text.strip()
    try:
        return min(_CLASSES - 1, max(0, date.fromisoformat(text[:10].replace("/", "-")).toordinal() - _EPOCH))
    except ValueError:
        pass
    try:
        number = np.float32(text)
    except ValueError:
        return 0
    if not number > 0 or not np.isfinite(number):
        return 0
    return 1 + int(number.view(np.uint32) >> 16)


@dataclass(frozen=True, slots=True)
class Portion:
    """What goes out from a time on: messages by track."""

    at: datetime
    by_track: tuple[int, ...]

    @property
    def messages(self) -> int:
        """Return the sum over tracks."""
        return sum(self.by_track)


@dataclass(slots=True)
class Cutting:
    """A list that is being cut for so many tracks (providers of a plan)."""

    tracks: int
    _counts: NDArray[np.int64] = field(init=False)
    _next: NDArray[np.int64] = field(init=False)
    _ends: list[NDArray[np.int64]] = field(init=False, default_factory=list)
    _numbers: list[NDArray[np.int64]] = field(init=False, default_factory=list)

    def __post_init__(self) -> None:
        self._counts = np.zeros((self.tracks, _CLASSES), np.int64)

    def count(self, tracks: NDArray[np.uint8], classes: NDArray[np.uint16]) -> None:
        """Count rows: the first pass."""
        flat = tracks.astype(np.int64) * _CLASSES + classes
        self._counts += np.bincount(flat, minlength=self._counts.size).reshape(self._counts.shape)

    @property
    def totals(self) -> list[int]:
        """Return how many rows were counted of each track."""
        return [int(n) for n in self._counts.sum(axis=1)]

    def arrange(self, rooms: Sequence[Iterable[Opening]], *, by_day: bool = False) -> list[Portion]:
        """Return the portions, in order, for what was counted. `rooms`: by track, the hours that take its mail.

        `by_day`: one for a day, at its first hour.
        """
        taken: list[tuple[list[datetime], list[int]]] = []
        for room, total in zip(rooms, self.totals, strict=True):
            times, sizes, left = list[datetime](), list[int](), total
            for opening in room:
                if left <= 0:
                    break
                n = min(left, opening.room)
                if by_day and times and times[-1].date() == opening.at.date():
                    sizes[-1] += n
                else:
                    times.append(opening.at)
                    sizes.append(n)
                left -= n
            taken.append((times, sizes))
        first: dict[datetime, datetime] = {}
        for at in (at for times, _ in taken for at in times):
            key = _key(at, by_day=by_day)
            first[key] = min(first.get(key, at), at)
        order = sorted(first)
        place = {key: number for number, key in enumerate(order)}
        by_track = np.zeros((len(order), self.tracks), np.int64)
        self._ends, self._numbers = [], []
        for track, (times, sizes) in enumerate(taken):
            numbers = np.array([place[_key(at, by_day=by_day)] for at in times], np.int64)
            by_track[numbers, track] = sizes
            self._ends.append(np.cumsum(np.array(sizes, np.int64)))
            self._numbers.append(np.append(numbers, LEFT))
        # The first rank of each class: all that are more engaged come before.
        self._next = self._counts[:, ::-1].cumsum(axis=1)[:, ::-1] - self._counts
        return [Portion(first[key], tuple(map(int, by_track[at]))) for at, key in enumerate(order)]

    def place(self, tracks: NDArray[np.uint8], classes: NDArray[np.uint16]) -> NDArray[np.int64]:
        """Return the number of each row's portion, or `LEFT`: the second pass, in the same order as the first."""
        flat = tracks.astype(np.int64) * _CLASSES + classes
        order = np.argsort(flat, kind="stable")
        ordered = flat[order]
        begins = np.flatnonzero(np.append(True, ordered[1:] != ordered[:-1])) if len(ordered) else ordered[:0]
        sizes = np.diff(np.append(begins, len(ordered)))
        within = np.arange(len(ordered)) - np.repeat(begins, sizes)
        ranks = np.empty(len(flat), np.int64)
        nexts = self._next.reshape(-1)
        ranks[order] = nexts[ordered] + within
        nexts[ordered[begins]] += sizes
        out = np.empty(len(flat), np.int64)
        for track in range(self.tracks):
            mine = tracks == track
            out[mine] = self._numbers[track][np.searchsorted(self._ends[track], ranks[mine], side="right")]
        return out


def _key(at: datetime, *, by_day: bool) -> datetime:
    """Return what openings of one portion share: their hour, or their day."""
    hour = at.replace(minute=0, second=0, microsecond=0)
    return hour.replace(hour=0) if by_day else hour
