"""Fetching a page over HTTPS for an audit (RFC 8461 §3.3): one GET, no redirect, a bounded body, a checked address.

The host comes from somebody's DNS, so its address is looked at before anything is sent: only public addresses are
fetched from, and those that the settings name.
"""

import ipaddress
import ssl
import time
from collections.abc import Callable, Sequence
from urllib.parse import SplitResult, urlsplit

import httpx

from rust_gauge.core.dns import DnsAnswer, DnsQuestion, PageAnswer, PageQuestion
from rust_gauge.core.reachable import is_globally_reachable
from rust_gauge.gateways.deadline import http_client

_HEAD_TIMEOUT = 2.0  # seconds for a link; an assay has many
Reach = dict[str, tuple[str, int]]


def may_reach(address: str, reach: Reach) -> bool:
    """Return whether an address from DNS may be contacted: a public one, or one that the settings send elsewhere."""
    return address in reach or is_globally_reachable(address)


def _is_ip(host: str) -> bool:
    try:
        ipaddress.ip_address(host)
    except ValueError:
        return False
    return True


def _path(parts: SplitResult) -> str:
    return (parts.path or "/") + (f"?{parts.query}" if parts.query else "")


class PageFetcher:
    """`reach` sends an address to another (address, port); `ca_file` is trusted beside the usual authorities."""

    def __init__(self, timeout: float, reach: Reach, ca_file: str = "") -> None:
        self._timeout = timeout
        self._reach = reach
        self._ca_file = ca_file

    def fetch(
        self, question: PageQuestion, look_up: Callable[[Sequence[DnsQuestion]], Sequence[DnsAnswer]]
    ) -> PageAnswer:
        """Return the page, or why there is none. Never raises."""
        began = time.monotonic()
        parts = urlsplit(question.url)
        host = parts.hostname or ""
        if question.head and _is_ip(host):
            addresses = [host]
        else:
            answers = look_up([DnsQuestion(host, "A"), DnsQuestion(host, "AAAA")])
            addresses = [str(getattr(rdata, "address", "")) for answer in answers for rdata in answer.records]
        if not addresses:
            return PageAnswer(question, "failed", detail=f"{host} has no address")
        allowed = [address for address in addresses if may_reach(address, self._reach)]
        if not allowed:
            return PageAnswer(question, "failed", detail=f"{host} is at {addresses[0]}, which is not a public address")
        answer = PageAnswer(question, "failed")
        for address in allowed[:2]:
            answer = self._head(question, parts, address) if question.head else self._get(question, parts, address)
            if not answer.failed:
                break
        return PageAnswer(
            question, answer.status, answer.code, answer.content_type, answer.text, answer.detail,
            time.monotonic() - began, answer.location,
        )  # fmt: skip

    def _head(self, question: PageQuestion, parts: SplitResult, address: str) -> PageAnswer:
        """Ask a link whether it answers: no cookies, no body, no redirect followed, and little time."""
        host = parts.hostname or ""
        try:
            usual = parts.port or (443 if parts.scheme == "https" else 80)
            target, port = self._reach.get(address, (address, usual))
            shown = f"[{target}]" if ":" in target else target
            context = ssl.create_default_context()
            if self._ca_file:
                context.load_verify_locations(self._ca_file)
            with http_client(context, _HEAD_TIMEOUT, _HEAD_TIMEOUT) as client:
                response = client.head(
                    f"{parts.scheme}://{shown}:{port}{_path(parts)}", headers={"Host": parts.netloc.rpartition("@")[2]},
                    extensions={"sni_hostname": host},
                )  # fmt: skip
        except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
            return PageAnswer(question, "failed", detail=f"{host} at {address}: {error or type(error).__name__}")
        status = "found" if response.is_success else "no_data"
        return PageAnswer(
            question, status, response.status_code, response.headers.get("content-type", ""),
            location=response.headers.get("location", "")[:2000],
        )  # fmt: skip

    def _get(self, question: PageQuestion, parts: SplitResult, address: str) -> PageAnswer:
        host = parts.hostname or ""
        try:
            target, port = self._reach.get(address, (address, parts.port or 443))
            shown = f"[{target}]" if ":" in target else target
            context = ssl.create_default_context()
            if self._ca_file:
                context.load_verify_locations(self._ca_file)
            with (
                http_client(context, self._timeout) as client,
                client.stream(
                    "GET",
                    f"https://{shown}:{port}{_path(parts)}",
                    headers={"Host": parts.netloc.rpartition("@")[2], "Accept": question.accept},
                    extensions={"sni_hostname": host},
                ) as response,
            ):
                body = b""
                for chunk in response.iter_bytes():
                    body += chunk
                    if len(body) > question.limit:
                        return PageAnswer(question, "failed", response.status_code, detail="the page is too large")
                kind = response.headers.get("content-type", "")
                if response.status_code != 200:
                    return PageAnswer(question, "no_data", response.status_code, kind, detail="")
                return PageAnswer(question, "found", 200, kind, body.decode("utf-8", "replace"))
        except (httpx.HTTPError, httpx.InvalidURL, OSError, ValueError) as error:
            return PageAnswer(question, "failed", detail=f"{host} at {address}: {error or type(error).__name__}")
