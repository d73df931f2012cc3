"""The HTTPS stand-in, and what may be fetched from where (RFC 8461 §3.3)."""

import threading
from collections.abc import Iterator, Sequence
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from rust_gauge.core.dns import DnsAnswer, DnsQuestion, PageQuestion
from rust_gauge.gateways.pages import PageFetcher, may_reach
from rust_gauge.standins.pages import make_server
from tests.answers import answering

HOST = "mta-sts.d.example"
WORLD = {f"{HOST} A": ["192.0.2.90"], "inside.example A": ["127.0.0.1"], "other.example A": ["192.0.2.90"]}


def look_up(questions: Sequence[DnsQuestion]) -> Sequence[DnsAnswer]:
    return answering(WORLD)(tuple(questions))


@pytest.fixture(scope="module")
def pages(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Path, int]]:
    directory = tmp_path_factory.mktemp("pages")
    for name, text in (
        (".well-known/mta-sts.txt", "version: STSv1\n"),
        ("large.txt", "x" * 70_000),
        ("u?token=7", "a form"),
    ):
        path = directory / HOST / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    server = make_server(directory, "127.0.0.1", 0)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield directory, server.server_address[1]
    server.shutdown()
    server.server_close()
    thread.join(5)


def fetcher(pages: tuple[Path, int], *, trusted: bool = True) -> PageFetcher:
    directory, port = pages
    return PageFetcher(5, {"192.0.2.90": ("127.0.0.1", port)}, str(directory / "ca.pem") if trusted else "")


def test_a_page_is_fetched_with_its_certificate_checked(pages: tuple[Path, int]) -> None:
    url = f"https://{HOST}/.well-known/mta-sts.txt"
    answer = fetcher(pages).fetch(PageQuestion(url), look_up)
    assert (answer.status, answer.text, answer.content_type) == ("found", "version: STSv1\n", "text/plain")
    refused = fetcher(pages, trusted=False).fetch(PageQuestion(url), look_up)
    assert refused.failed
    assert "certificate" in refused.detail.lower()


@pytest.mark.parametrize(
    ("url", "status", "words"),
    [
        (f"https://{HOST}/gone.txt", "no_data", ""),
        (f"https://{HOST}/../ca.pem", "no_data", ""),
        (f"https://{HOST}/large.txt", "failed", "too large"),
        ("https://other.example/x", "failed", ""),  # the certificate is for another name
        ("https://gone.example/x", "failed", "no address"),
        ("https://inside.example/x", "failed", "not a public address"),
    ],
)
def test_what_cannot_or_may_not_be_fetched_says_why(pages: tuple[Path, int], url: str, status: str, words: str) -> None:
    answer = fetcher(pages).fetch(PageQuestion(url), look_up)
    assert answer.status == status
    assert words in answer.detail


@pytest.mark.parametrize(
    ("address", "allowed"),
    [("127.0.0.1", False), ("10.0.0.1", False), ("169.254.169.254", False), ("::1", False), ("fd00::1", False),
     ("192.0.2.1", False), ("9.9.9.9", True), ("192.0.2.90", True)],
)  # fmt: skip
def test_only_public_addresses_and_those_of_the_settings_are_contacted(address: str, allowed: bool) -> None:
    assert may_reach(address, {"192.0.2.90": ("127.0.0.1", 1)}) is allowed


def test_a_page_is_fetched_with_its_query(pages: tuple[Path, int]) -> None:
    assert fetcher(pages).fetch(PageQuestion(f"https://{HOST}/u?token=7"), look_up).text == "a form"
    assert fetcher(pages).fetch(PageQuestion(f"https://{HOST}/u?token=8"), look_up).code == 404


def test_a_link_is_asked_with_head_and_not_followed() -> None:
    asked: list[tuple[str, str, str]] = []

    class Handler(BaseHTTPRequestHandler):
        def do_HEAD(self) -> None:
            asked.append((self.command, self.path, self.headers["Host"]))
            self.send_response(302 if self.path.startswith("/from") else 405)
            self.send_header("Location", "https://elsewhere.example/")
            self.end_headers()

        def log_message(self, *_: object) -> None:
            """Quiet."""

    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        fetch = PageFetcher(5, {"192.0.2.90": ("127.0.0.1", server.server_address[1])}).fetch
        answer = fetch(PageQuestion("http://other.example/from?a=1", head=True), look_up)
        assert (answer.code, answer.location, answer.status) == (302, "https://elsewhere.example/", "no_data")
        assert fetch(PageQuestion("http://192.0.2.90/x", head=True), look_up).code == 405
        assert asked == [("HEAD", "/from?a=1", "other.example"), ("HEAD", "/x", "192.0.2.90")]
        for url in ("http://127.0.0.1/x", "http://inside.example/x", "http://[::1]/", "http://other.example:99999/"):
            assert fetch(PageQuestion(url, head=True), look_up).failed
        server.shutdown()
