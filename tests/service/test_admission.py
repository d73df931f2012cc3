"""Nobody is read at length before they are known, and nobody holds up the others."""

import socket
import threading
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from urllib.parse import urlsplit

import httpx
import pytest

from rust_gauge.contract.feeds import MappingDryRun, MappingDryRunResult, NewFeed
from rust_gauge.service.feeds import mapping
from rust_gauge.service.http.admission import UNKNOWN_BODY
from tests.conftest import Office
from tests.waiting import until


def ask(url: str, head: str, body: bytes) -> tuple[bytes, int]:
    """Send a request piece by piece until an answer comes. Returns the answer and how much was sent."""
    parts = urlsplit(url)
    with socket.create_connection((parts.hostname, parts.port), timeout=20) as connection:
        connection.sendall(head.encode())
        sent = 0
        connection.settimeout(0.2)
        while sent < len(body):
            try:
                answer = connection.recv(4096)
                return answer, sent
            except TimeoutError:
                pass
            try:
                sent += connection.send(body[sent : sent + 8192])
            except (BrokenPipeError, ConnectionResetError):
                break
        connection.settimeout(20)
        return connection.recv(4096), sent


@pytest.mark.parametrize("path", ["/api/v1/tenants/{tenant}/events/stream", "/api/v1/session", "/api/v1/intake/none",
                                  "/api/v1/tls-reports/none"])  # fmt: skip
@pytest.mark.parametrize("credentials", ["", "Authorization: Bearer rgt_wrong\r\n", "Cookie: rust_gauge_session=x\r\n"])
def test_a_long_body_of_somebody_unknown_is_not_read(office: Office, path: str, credentials: str) -> None:
    head = f"POST {path.format(tenant=office.slug)} HTTP/1.1\r\nHost: x\r\n{credentials}Content-Type: application/x-ndjson\r\n"
    answer, sent = ask(office.world.url, f"{head}Content-Length: 1000000\r\n\r\n", b"x" * 1_000_000)
    assert answer.split()[1] == b"401", answer[:300]
    assert sent <= UNKNOWN_BODY, "the length alone says that it is too much"
    chunk = b"2000\r\n" + b"x" * 8192 + b"\r\n"
    answer, sent = ask(office.world.url, f"{head}Transfer-Encoding: chunked\r\n\r\n", chunk * 200)
    assert answer.split()[1] == b"401", answer[:300]
    assert sent < 10 * UNKNOWN_BODY


def test_a_long_body_of_somebody_known_is_read(office: Office) -> None:
    with office.client() as client:
        feed = client.feeds.add(office.slug, NewFeed(name="web", kind="http"))
        reports = client.feeds.add(office.slug, NewFeed(name="reports", kind="reports"))
    body = b'{"kind":"delivered"}\n' * 6000
    assert len(body) > UNKNOWN_BODY
    for path, token in (
        (f"/api/v1/tenants/{office.slug}/events/stream", office.token),
        (f"/api/v1/intake/{feed.key}", feed.token),
    ):
        headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-ndjson"}
        answer = httpx.post(office.world.url + path, content=body, headers=headers, timeout=60)
        assert answer.status_code != 401, answer.text[:200]
    answer = httpx.post(f"{office.world.url}/api/v1/tls-reports/{reports.key}", content=body, timeout=60)
    assert answer.json()["rejected"] == 1, "no report, and read to its end"


def test_many_slow_requests_of_one_caller_hold_up_nobody_else(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    go_on = threading.Event()
    running: list[int] = []

    def slow(*_: Any) -> MappingDryRunResult:
        running.append(1)
        go_on.wait(30)
        return MappingDryRunResult(problem="")

    monkeypatch.setattr(mapping, "try_mapping", slow)
    url, trial = office.world.url, MappingDryRun(sample="{}").model_dump(mode="json")
    headers = {"Authorization": f"Bearer {office.token}"}

    def send(_: int) -> int:
        address = f"{url}/api/v1/tenants/{office.slug}/mapping-dry-runs"
        return httpx.post(address, json=trial, headers=headers, timeout=60).status_code

    with ThreadPoolExecutor(60) as pool:
        waiting = [pool.submit(send, n) for n in range(60)]
        until(lambda: len(running) >= 16)
        try:
            assert httpx.get(f"{url}/healthz", timeout=5).status_code == 200
            assert httpx.get(f"{url}/readyz", timeout=5).status_code == 200
            assert httpx.get(f"{url}/problems/busy", timeout=5).status_code == 200  # of another caller, in a thread
            assert len(running) == 16, "the share of one caller"
        finally:
            go_on.set()
        assert {each.result() for each in waiting} <= {200, 503}
    assert len(running) >= 16
