"""Half of the top load for a long time: memory and latency stay flat.

The top is measured first: as many loads as the service takes from four clients. Then half as
many for as long as wanted, with reading beside it.
"""

import queue
import statistics
import threading
import time
import urllib.request
from collections import defaultdict

from attack.kills import events
from attack.site import TENANT, Site

_CLIENTS = 4
_TOP_FOR = 20.0  # seconds
_MEMORY, _LATENCY = 1.10, 1.5  # last third beside the second: at most so much more
_READS = (
    "/api/v1/wall",
    f"/api/v1/tenants/{TENANT}/flow",
    f"/api/v1/tenants/{TENANT}/events?limit=50",
    f"/api/v1/tenants/{TENANT}/suppression?limit=50",
    "/api/v1/worklist",
    "/readyz",
)


def run(site: Site, minutes: float) -> bool:
    """Print a line a minute; return whether all stayed flat."""
    top = _top(site)
    print(f"top: {top:.1f} loads of 100 events a second; soak at half of that for {minutes:g} minutes", flush=True)
    soak = _Soak(site, top / 2)
    soak.start()
    memory: list[float] = []
    latency: list[float] = []
    try:
        for minute in range(int(minutes)):
            time.sleep(60)
            took = soak.taken()
            memory.append(sum(site.memory().values()) - site.memory().get("mariadb", 0.0))
            latency.append(_most(took["load"]))
            reads = ", ".join(f"{kind} {_most(seconds) * 1000:.0f}" for kind, seconds in took.items() if kind != "load")
            print(
                f"minute {minute + 1}: {len(took['load'])} loads, 95 % within {latency[-1] * 1000:.0f} ms; "
                f"95 % of reads within ms: {reads}; {soak.failed} failed; memory "
                f"{memory[-1]:.0f} MB and MariaDB {site.memory().get('mariadb', 0):.0f} MB",
                flush=True,
            )
    finally:
        soak.stop()
    third = max(1, len(memory) // 3)
    grown = statistics.mean(memory[-third:]) / statistics.mean(memory[third : 2 * third] or memory)
    slower = statistics.mean(latency[-third:]) / statistics.mean(latency[third : 2 * third] or latency)
    print(f"last third beside the second: memory {grown:.2f}, latency {slower:.2f}; {soak.failed} requests failed")
    return grown <= _MEMORY and slower <= _LATENCY and soak.failed == 0


def _most(seconds: list[float]) -> float:
    """Return within how many seconds 95 % of requests were answered."""
    return sorted(seconds)[int(len(seconds) * 0.95)]


class _Soak:
    def __init__(self, site: Site, rate: float) -> None:
        self.failed = 0
        self._site, self._rate = site, rate
        self._due: queue.Queue[int] = queue.Queue()
        self._took: dict[str, list[float]] = defaultdict(list)
        self._lock, self._over = threading.Lock(), threading.Event()
        self._threads = [threading.Thread(target=self._load) for _ in range(_CLIENTS)]
        self._threads += [threading.Thread(target=self._read), threading.Thread(target=self._time)]

    def start(self) -> None:
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        self._over.set()
        for thread in self._threads:
            thread.join()

    def taken(self) -> dict[str, list[float]]:
        """Return the seconds of all requests since the last call."""
        with self._lock:
            took, self._took = self._took, defaultdict(list)
        return took

    def _time(self) -> None:
        number = 0
        begin = time.monotonic()
        while not self._over.wait(max(0.0, begin + number / self._rate - time.monotonic())):
            self._due.put(number)
            number += 1

    def _load(self) -> None:
        while not self._over.is_set():
            try:
                number = self._due.get(timeout=0.5)
            except queue.Empty:
                continue
            self._ask("load", f"/api/v1/tenants/{TENANT}/events", events(f"soak-{number}"))

    def _read(self) -> None:
        number = 0
        while not self._over.wait(0.25):
            path = _READS[number % len(_READS)]
            self._ask(path.partition("?")[0].rpartition("/")[2], path)
            number += 1

    def _ask(self, kind: str, path: str, body: bytes | None = None) -> None:
        begin = time.monotonic()
        if not _sent(self._site, path, body):
            self.failed += 1
        with self._lock:
            self._took[kind].append(time.monotonic() - begin)


def _top(site: Site) -> float:
    """Return how many loads a second are taken when nobody waits between them."""
    over, counts = threading.Event(), [0] * _CLIENTS

    def load(which: int) -> None:
        while not over.is_set():
            counts[which] += _sent(site, f"/api/v1/tenants/{TENANT}/events", events(f"top-{which}-{counts[which]}"))

    threads = [threading.Thread(target=load, args=(which,)) for which in range(_CLIENTS)]
    for thread in threads:
        thread.start()
    time.sleep(_TOP_FOR)
    over.set()
    for thread in threads:
        thread.join()
    return sum(counts) / _TOP_FOR


def _sent(site: Site, path: str, body: bytes | None) -> bool:
    headers = {"Authorization": f"Bearer {site.token}", "Content-Type": "application/x-ndjson"}
    request = urllib.request.Request(f"{site.url}{path}", body, headers)
    try:
        with urllib.request.urlopen(request, timeout=60) as answer:
            answer.read()
            return bool(answer.status == 200)
    except OSError:
        return False
