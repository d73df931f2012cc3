"""How many requests a caller, and a source, may send in a minute, with the headers that say how many are left.

A bucket for each key, which fills up again evenly: bursts are fine, a loop that runs away is slowed down. Headers are
`RateLimit-Policy` and `RateLimit` of the IETF's draft-ietf-httpapi-ratelimit-headers, and `Retry-After` (RFC 9110
§10.2.3).

Service processes share their buckets through the database, once a second and not while a request waits: whoever sends
to all processes at once gets, for that second, what each of them has left.
"""

import hashlib
import math
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

import structlog
from sqlalchemy import Connection

from rust_gauge.store import request_levels
from rust_gauge.store.engine import Store, StoreError

T = TypeVar("T")
log = structlog.get_logger()
_WINDOW = 60.0  # seconds
_MOST_KEYS = 50_000  # buckets that are remembered; one that is full again need not be
_SHARE_EVERY = 1.0  # seconds
_SHARED_FROM = 50  # a key is written once a fiftieth of its limit was spent here: most callers never are
_FORGET_EVERY = 60  # rounds


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
    """Buckets of `limit` requests that fill up within a minute. 0: no limit."""

    def __init__(self, name: str, limit: int, now: Callable[[], float] = time.monotonic) -> None:
        self.name, self.limit, self._now = name, limit, now
        self._levels: OrderedDict[str, tuple[float, float]] = OrderedDict()  # by key: what was left, and when
        self._unshared: dict[str, int] = {}  # requests let through that other processes do not know of
        self._lock = threading.Lock()

    @property
    def per_second(self) -> float:
        """Requests that come back in a second."""
        return self.limit / _WINDOW

    def take(self, key: str) -> Standing | None:
        """Count a request. None without a limit."""
        if not self.limit:
            return None
        with self._lock:
            now = self._now()
            left = self._left(key, now)
            wait = 0.0 if left >= 1 else (1 - left) / self.per_second
            if wait == 0:
                left -= 1
                self._unshared[key] = self._unshared.get(key, 0) + 1
            else:
                self._unshared.setdefault(key, 0)  # what others spent, or did not, decides when it goes on
            self._put(key, left, now)
        return Standing(self.name, self.limit, max(0, int(left)), (self.limit - left) / self.per_second, wait)

    def unshared(self) -> dict[str, int]:
        """Return requests by key since the last call, of all keys that were active."""
        with self._lock:
            found, self._unshared = self._unshared, {}
        return found

    def share(self, levels: Mapping[str, float], kept: Mapping[str, int]) -> None:
        """Take over levels that all processes know; `kept` are requests that were not written to them."""
        with self._lock:
            now = self._now()
            for key, n in kept.items():
                if n:
                    self._unshared[key] = self._unshared.get(key, 0) + n
            for key, left in levels.items():
                self._put(key, min(float(self.limit), left - self._unshared.get(key, 0)), now)

    def _left(self, key: str, now: float) -> float:
        left, at = self._levels.pop(key, (float(self.limit), now))
        return min(float(self.limit), left + (now - at) * self.per_second)

    def _put(self, key: str, left: float, now: float) -> None:
        self._levels[key] = (left, now)
        self._levels.move_to_end(key)
        if len(self._levels) > _MOST_KEYS:
            gone, _ = self._levels.popitem(last=False)  # whoever was silent longest
            self._unshared.pop(gone, None)


NO_LIMITS = (RateLimit("caller", 0), RateLimit("source", 0))


def tighter(first: Standing | None, second: Standing | None) -> Standing | None:
    """Return the one that leaves less."""
    found = [standing for standing in (first, second) if standing is not None]
    return min(found, key=lambda standing: (-standing.retry_after, standing.remaining), default=None)


class SharedLimits:
    """Has limits agree with those of other service processes, in a thread, until `stop`."""

    def __init__(self, store: Store, limits: Sequence[RateLimit]) -> None:
        self._store, self._limits = store, [limit for limit in limits if limit.limit]
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._run, daemon=True, name="rate limits")

    def start(self) -> None:
        """Share from now on."""
        if self._limits:
            self._thread.start()

    def stop(self) -> None:
        """Share no more."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(10)

    def _run(self) -> None:
        rounds = 0
        while not self._over.wait(_SHARE_EVERY):
            for limit in self._limits:
                self.share(limit)
            rounds += 1
            if rounds % _FORGET_EVERY == 0:
                self._quietly(request_levels.forget_old)

    def share(self, limit: RateLimit) -> None:
        """Write what was spent here, and read what is left. Without a database each process counts by itself."""
        found = limit.unshared()
        if not found:
            return
        keys = {_digest(key): key for key in found}
        spent = {digest: n for digest, key in keys.items() if (n := found[key]) and n * _SHARED_FROM >= limit.limit}

        def work(connection: Connection) -> dict[bytes, float]:
            if spent:
                request_levels.spend(connection, limit.name, limit.limit, limit.per_second, spent)
            return request_levels.levels(connection, limit.name, limit.limit, limit.per_second, keys)

        levels = self._quietly(work)
        written = spent if levels is not None else {}
        kept = {key: found[key] for digest, key in keys.items() if digest not in written}
        limit.share({keys[digest]: left for digest, left in (levels or {}).items()}, kept)

    def _quietly(self, work: Callable[[Connection], T]) -> T | None:
        try:
            return self._store.transaction(work)
        except StoreError as error:
            log.info("rate_limits_not_shared", error=str(error))
            return None


def _digest(key: str) -> bytes:
    return hashlib.blake2b(key.encode(), digest_size=16).digest()
