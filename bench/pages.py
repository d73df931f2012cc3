"""How long people wait: pages of the console to their content, daily commands, and calls, on a demo that runs.

`python -m bench.pages` beside `rustgauged demo`. Pages are opened in headless Chromium, cold (nothing cached) and warm;
the floor is the same of a page without data, in the same run. Commands stand beside one that asks nothing, calls
beside one that says who asks; events go to a tenant of their own, which is deleted afterwards. With
PAGES_CALLS=1 the calls of each page are listed, with their time and size.
"""

import itertools
import json
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import httpx
from playwright.sync_api import Browser, Page, sync_playwright

from bench.world import machine

_URL = os.environ.get("RUSTGAUGE_URL", "http://127.0.0.1:8850")
_TIMES = int(os.environ.get("PAGES_TIMES", "5"))
_CALLS = bool(os.environ.get("PAGES_CALLS"))
_FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
          "--disable-component-update", "--disable-sync"]  # fmt: skip
_FLOOR = ("an unknown address", "/nothing-here")
_PAGES = (
    ("wall", "/"),
    ("domain", "/domains/glasswort/news.glasswort.example?days=30"),
    ("domain, records", "/domains/copperline/copperline.example?view=records"),
    ("domain, reports", "/domains/thornfield/thornfieldseeds.example?view=reports&days=90"),
    ("domain, setup", "/domains/glasswort/boxoffice.glasswort.example?view=setup"),
    ("domains", "/domains"),
    ("mail flow", "/flow?tenant=glasswort&days=14"),
    ("trail", "/flow?tenant=glasswort&view=trails&find=over%20quota"),
    ("worklist", "/worklist"),
    ("readings", "/readings?days=30"),
    ("suppression", "/suppression?tenant=thornfield"),
    ("bench", "/bench?tenant=marram"),
    ("placement", "/bench?tenant=glasswort&view=placement"),
    ("report", "/report?tenant=copperline&days=7"),
    ("settings", "/settings?tenant=glasswort"),
)
_COMMANDS = (
    "--version", "wall", "worklist list", "domain list --tenant glasswort", "reading news.glasswort.example",
    "flow show --tenant glasswort", "trail --reply quota --tenant glasswort --limit 20",
    "suppression list --tenant thornfield", "clearance kim@tidepost.example --tenant glasswort",
    "dmarc sources thornfieldseeds.example",
)  # fmt: skip


_DOMAIN = "/api/v1/tenants/glasswort"
_OF = "subject=domain&name=news.glasswort.example"
# All that the console asks for when it opens a domain; the forecast is posted.
_FORECAST = f"{_DOMAIN}/readings/forecast?{_OF}"
_PAGE = (
    "/api/v1/session", f"{_DOMAIN}/readings/headroom?{_OF}", f"{_DOMAIN}/readings?{_OF}&pulls=heaviest",
    f"{_DOMAIN}/readings/explanation?{_OF}&first={date.today() - timedelta(days=7)}&last={date.today()}",
    f"{_DOMAIN}/annotations?domain=news.glasswort.example", f"{_DOMAIN}/flow?domain=news.glasswort.example",
    f"{_DOMAIN}/domains/news.glasswort.example/audits/newest",
)  # fmt: skip


def main() -> int:
    """Print the tables."""
    root = Path(__file__).parent.parent
    password, token = (root / "var" / "demo" / "access").read_text().split()
    print(f"Measured {datetime.now(UTC):%Y-%m-%d} on {machine()}; the middle of {_TIMES}.\n")
    print("| page | cold | warm | calls | octets of data | slowest call |\n| --- | --- | --- | --- | --- | --- |")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=_FLAGS)
        for name, path in (_FLOOR, *_PAGES):
            print(_measured(browser, name, path, password), flush=True)
        browser.close()
    print("\n| command | seconds |\n| --- | --- |")
    environment = {**os.environ, "RUSTGAUGE_URL": _URL, "RUSTGAUGE_TOKEN": token}
    for words in _COMMANDS:
        taken = []
        for _ in range(_TIMES):
            began = time.perf_counter()
            done = subprocess.run(
                [str(Path(sys.executable).with_name("rustgauge")), *words.split()],
                env=environment,
                capture_output=True,
                text=True,
            )
            taken.append(time.perf_counter() - began)
            if done.returncode not in (0, 3):
                print(f"{words}: {done.stderr[:200]}", file=sys.stderr)
        print(f"| rustgauge {words} | {statistics.median(taken):.2f} |", flush=True)
    print("\n| call | ms | of the floor |\n| --- | --- | --- |")
    _print_calls(token)
    return 0


def _print_calls(token: str) -> None:
    """Print the middle time of each call, one after the other, and its ratio to one that says who asks."""
    with httpx.Client(base_url=_URL, headers={"Authorization": f"Bearer {token}"}, timeout=60) as client:
        slug = f"pages-{os.getpid()}"
        client.post("/api/v1/installation/tenants", json={"slug": slug, "name": "Pages"}).raise_for_status()
        numbers = itertools.count()

        def events(count: int) -> httpx.Response:
            now = datetime.now(UTC).isoformat()
            rows = [
                {"kind": "delivered", "time": now, "domain": "news.d.example", "recipient": f"p{n}@tidepost.example",
                 "message_id": f"m{n}", "stream": "newsletter", "relay": "office-1"}
                for n in itertools.islice(numbers, count)
            ]  # fmt: skip
            body = "\n".join(map(json.dumps, rows))
            headers = {"Content-Type": "application/x-ndjson"}
            return client.post(f"/api/v1/tenants/{slug}/events", content=body, headers=headers)

        def page(_: object = None) -> httpx.Response:
            forecast = pool.submit(client.post, _FORECAST, json={"days": 28})
            for answer in pool.map(client.get, _PAGE):
                answer.raise_for_status()
            return forecast.result()

        addresses = {"addresses": ["kim@tidepost.example"]}
        calls: dict[str, Callable[[], httpx.Response]] = {
            "who asks (the floor)": lambda: client.get("/api/v1/session"),
            "a single event": lambda: events(1),
            "1,000 events": lambda: events(1000),
            "a single clearance": lambda: client.post(f"{_DOMAIN}/clearance", json=addresses),
            "the wall": lambda: client.get("/api/v1/wall"),
            "all data of a domain's page at once": page,
            "a report": lambda: client.get("/api/v1/tenants/copperline/reports?days=7"),
            "a search": lambda: client.get("/api/v1/search?text=glasswort"),
        }
        try:
            with ThreadPoolExecutor(8) as pool:
                taken = {name: _middle(call) for name, call in calls.items()}
        finally:
            client.delete(f"/api/v1/installation/tenants/{slug}", params={"confirm": slug})
        floor = next(iter(taken.values()))
        for name, milliseconds in taken.items():
            print(f"| {name} | {milliseconds:.1f} | {milliseconds / floor:.1f} |", flush=True)


def _middle(call: Callable[[], httpx.Response]) -> float:
    """Return the middle milliseconds of a call."""
    taken = []
    for _ in range(4 * _TIMES + 1):
        began = time.perf_counter()
        call().raise_for_status()
        taken.append(1000 * (time.perf_counter() - began))
    return statistics.median(taken[1:])


def _measured(browser: Browser, name: str, path: str, password: str) -> str:
    cold, warm = [], []
    calls: dict[str, tuple[float, int]] = {}
    for number in range(_TIMES):
        context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=_URL)
        signed = context.request.post("/api/v1/session", data={"email": "isla@skerry.example", "password": password})
        if not signed.ok:
            raise RuntimeError(f"signing in gave {signed.status}")
        page = context.new_page()
        cold.append(_open(page, path))
        if number == _TIMES - 1:
            calls = _calls_of(page)
        warm.append(_open(page, path))
        context.close()
    slowest = max(calls.items(), key=lambda item: item[1][0], default=("-", (0.0, 0)))
    if _CALLS:
        for call, (taken, size) in sorted(calls.items(), key=lambda item: -item[1][0]):
            print(f"    {taken:6.0f} ms {size:9,} {call}", file=sys.stderr)
    size = sum(size for _, size in calls.values())
    return (
        f"| {name} | {statistics.median(cold):.0f} ms | {statistics.median(warm):.0f} ms | {len(calls)} | {size:,} | "
        f"{slowest[0].partition('?')[0].removeprefix('/api/v1')} {slowest[1][0]:.0f} ms |"
    )


def _open(page: Page, path: str) -> float:
    """Return milliseconds until what a page is for is there: some text, and nothing that is still loading."""
    began = time.perf_counter()
    page.goto(path, wait_until="commit")
    page.wait_for_function(
        "() => (document.querySelector('main')?.innerText.trim().length ?? 0) > 20 "
        "&& !document.querySelector('[aria-busy=true]')",
        polling=10,
    )
    return 1000 * (time.perf_counter() - began)


def _calls_of(page: Page) -> dict[str, tuple[float, int]]:
    """Return the calls of a page with their milliseconds and octets of data."""
    found = page.evaluate(
        "() => performance.getEntriesByType('resource').filter((e) => e.name.includes('/api/'))"
        ".map((e) => [e.name, e.duration, e.decodedBodySize])"
    )
    return {name.removeprefix(_URL): (taken, size) for name, taken, size in found}


if __name__ == "__main__":
    sys.exit(main())
