"""SIGKILL of each part in random order while events come in by HTTP and from a log: nothing acknowledged is lost,
nothing is there twice, every counter equals a recount, and each part is back within seconds.
"""

import json
import os
import random
import signal
import socket
import threading
import time
import urllib.error
import urllib.request
from collections import defaultdict
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from attack.site import TENANT, Site
from rust_gauge.launch.mariadb import PrivateMariaDb
from rust_gauge.store.engine import Store
from rust_gauge.store.recount import counters, recount

_ROWS = 100  # events of a request
_GOAL = 5.0  # seconds until a part is back
_PAUSE = (0.5, 4.0)  # seconds between two kills


class Load:
    """Requests with events of their own, each repeated until it is acknowledged; and lines of a log."""

    def __init__(self, site: Site) -> None:
        self.site, self.over = site, threading.Event()
        self.acknowledged = self.lines = self.refused = 0
        self.longest = 0.0  # seconds until a request was acknowledged, with all its repeats
        self._log = site.home / "mail.log"
        self._log.touch()
        self._threads = [threading.Thread(target=self._post, args=(number,)) for number in (0, 1)]
        self._threads.append(threading.Thread(target=self._write))

    def start(self) -> None:
        """Begin."""
        for thread in self._threads:
            thread.start()

    def stop(self) -> None:
        """Finish what was begun, and end."""
        self.over.set()
        for thread in self._threads:
            thread.join()

    def _post(self, number: int) -> None:
        batch = 0
        while not self.over.is_set():
            body, begin = events(f"{number}-{batch}"), time.monotonic()
            while not self._sent(body):
                self.refused += 1
                time.sleep(0.2)
            self.longest = max(self.longest, time.monotonic() - begin)
            self.acknowledged += 1
            batch += 1
            time.sleep(0.05)

    def _sent(self, body: bytes) -> bool:
        request = urllib.request.Request(
            f"{self.site.url}/api/v1/tenants/{TENANT}/events", body,
            {"Authorization": f"Bearer {self.site.token}", "Content-Type": "application/x-ndjson"},
        )  # fmt: skip
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:
                return bool(answer.status == 200)
        except OSError:
            return False

    def _write(self) -> None:
        with self._log.open("a") as file:
            while not self.over.wait(0.02):
                file.write(_lines(self.lines))
                file.flush()
                self.lines += 1


def events(name: str) -> bytes:
    start = datetime.now(UTC).replace(microsecond=0) - timedelta(hours=2)
    rows = []
    for number in range(_ROWS):
        event: dict[str, object] = {
            "kind": "delivered", "time": (start + timedelta(seconds=number)).isoformat(), "domain": "news.d.example",
            "recipient": f"p{name}-{number}@tidepost.example", "message_id": f"{name}-{number}", "stream": "newsletter",
            "relay": "office-1",
        }  # fmt: skip
        if number % 9 == 0:
            event |= {"kind": "bounced", "reply_code": 550, "diagnostic": "550 5.1.1 no such mailbox"}
        rows.append(json.dumps(event))
    return "\n".join(rows).encode()


def _lines(number: int) -> str:
    stamp = (datetime.now(UTC) - timedelta(minutes=5)).replace(microsecond=0).isoformat()
    queue = f"{number + 0xA00000:X}"
    return (
        f"{stamp} mta1 postfix/cleanup[1]: {queue}: message-id=<log{number}@d.example>\n"
        f"{stamp} mta1 postfix/qmgr[1]: {queue}: from=<returns@log.d.example>, size=9, nrcpt=1 (queue active)\n"
        f"{stamp} mta1 postfix/smtp[1]: {queue}: to=<l{number}@tidepost.example>, "
        f"relay=mx.tidepost.example[192.0.2.1]:25, delay=1, delays=0/0/0/1, dsn=2.0.0, status=sent (250 ok)\n"
        f"{stamp} mta1 postfix/qmgr[1]: {queue}: removed\n"
    )


def run(site: Site, rounds: int, seed: int = 1) -> bool:
    """Print what came of it; return whether all is well."""
    _add_feed(site)
    load, chance = Load(site), random.Random(seed)
    took: dict[str, list[float]] = defaultdict(list)
    load.start()
    try:
        for number in range(rounds):
            time.sleep(chance.uniform(*_PAUSE))
            name, pid = chance.choice(sorted(site.parts().items()))
            os.kill(pid, signal.SIGKILL)
            begin = time.monotonic()
            _wait(lambda name=name, pid=pid: _is_back(site, name, pid))  # type: ignore[misc]
            took[name].append(time.monotonic() - begin)
            print(f"{number + 1:3} {name:10} back after {took[name][-1]:.2f} s", flush=True)
    finally:
        load.stop()
    wanted = load.acknowledged * _ROWS + load.lines * 2
    private = PrivateMariaDb((site.home / "var" / "mariadb").resolve())
    _wait(private.runs)
    store = Store(private.url)
    try:
        _wait(lambda: _count(store) >= wanted, within=120)
        stored = _count(store)
        held, right = store.transaction(lambda c: (counters(c, 1), recount(c, 1)))
    finally:
        store.close()
    for name, seconds in sorted(took.items()):
        print(f"{name}: {len(seconds)} times, back after {max(seconds):.2f} s at most")
    print(
        f"{load.acknowledged * _ROWS:,} events acknowledged and {load.lines * 2:,} from the log: {stored:,} stored of "
        f"{wanted:,}; {load.refused} requests were repeated, the longest took {load.longest:.1f} s; "
        f"counters {'equal a recount' if held == right else 'DIFFER from a recount'}"
    )
    return stored == wanted and held == right and max(max(each) for each in took.values()) <= _GOAL


def _add_feed(site: Site) -> None:
    from rust_gauge.client import Client
    from rust_gauge.contract.feeds import FeedSource, NewFeed

    path = str(site.home / "mail.log")
    (site.home / "mail.log").touch()
    with Client(site.url, token=site.token) as client:
        client.installation.assign("folder", path, TENANT)
        client.feeds.add(TENANT, NewFeed(name="mta1", kind="log", source=FeedSource(path=path)))


def _is_back(site: Site, name: str, dead: int) -> bool:
    if site.parts().get(name) in (None, dead):
        return False
    if name in ("service", "mariadb"):
        return site.is_ready()
    port = {"feeds": "RUSTGAUGE_SMTP_PORT", "gates": "RUSTGAUGE_POLICY_PORT"}.get(name)
    if port is None:
        return True
    try:
        socket.create_connection(("127.0.0.1", int(site.environment[port])), timeout=1).close()
    except OSError:
        return False
    return True


def _count(store: Store) -> int:
    return int(store.transaction(lambda c: c.exec_driver_sql("SELECT COUNT(*) FROM event").scalar() or 0))


def _wait(what: Callable[[], bool], within: float = 60) -> None:
    begin = time.monotonic()
    while not what():
        if time.monotonic() - begin > within:
            return
        time.sleep(0.02)
