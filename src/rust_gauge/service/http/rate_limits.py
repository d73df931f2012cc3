"""How many requests a caller, and a source, may send in a minute, with the headers that say how many are left.

A bucket for each key, which fills up again evenly: bursts are fine, a loop that runs away is slowed down. Headers are
`RateLimit-Policy` and `RateLimit` of the IETF's draft-ietf-httpapi-ratelimit-headers, and `Retry-After` (RFC 9110
§10.2.3). Counted by process.
"""

import math
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass

_WINDOW = 60.0  # seconds
_MOST_KEYS = 50_000  # buckets that are remembered; one that is full again need not be


@dataclass(frozen=True, slots=True)
class Standing:
    """Where a key stands after a request. Times in seconds; `retry_after` is 0 for a request that is let through."""

    name: str
    limit: int
    remaining: int
    full_in: float
    retry_after: float

    def headers(self) -> dict[str, str]:
        """Return the headers of a response."""
        found = {
            "RateLimit-Policy": f'"{self.name}";q={self.limit};w={int(_WINDOW)}',
            "RateLimit": f'"{self.name}";r={self.remaining};t={math.ceil(self.full_in)}',
        }
        return found | ({"Retry-After": str(math.ceil(self.retry_after))} if self.retry_after else {})


class RateLimit:
    """Buckets of `limit` requests that fill up within a minute. Used from one event loop. 0: no limit."""

    def __init__(self, name: str, limit: int, now: Callable[[], float] = time.monotonic) -> None:
        self._name, self._limit, self._now = name, limit, now
        self._levels: OrderedDict[str, tuple[float, float]] = OrderedDict()  # by key: what was left, and when

    def take(self, key: str) -> Standing | None:
        """Count a request. None without a limit."""
        if not self._limit:
            return None
        now, rate = self._now(), self._limit / _WINDOW
        left, at = self._levels.pop(key, (float(self._limit), now))
        left = min(float(self._limit), left + (now - at) * rate)
        wait = 0.0 if left >= 1 else (1 - left) / rate
        left -= 1 if wait == 0 else 0
        self._levels[key] = (left, now)
        if len(self._levels) > _MOST_KEYS:
            self._levels.popitem(last=False)  # whoever was silent longest
        return Standing(self._name, self._limit, int(left), (self._limit - left) / rate, wait)


def tighter(first: Standing | None, second: Standing | None) -> Standing | None:
    """Return the one that leaves less."""
    found = [standing for standing in (first, second) if standing is not None]
    return min(found, key=lambda standing: (-standing.retry_after, standing.remaining), default=None)
