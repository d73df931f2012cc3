"""A BIND 9 of our own that takes dynamic updates for its zones from one key."""

import base64
import contextlib
import secrets
import subprocess
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import dns.exception
import dns.message
import dns.query

from tests.gateways.servers import program
from tests.waiting import until

_ZONES = 40  # each test that changes one has its own; all may run in one process
KEY_NAME = "gauge.example"
SECRET = base64.b64encode(secrets.token_bytes(32)).decode()
_ZONE = """$TTL 300
@ IN SOA ns1.{z}. h.{z}. 1 3600 600 86400 60
@ IN NS ns1
ns1 IN A 192.0.2.1
@ IN TXT "v=spf1 mx -all"
@ IN TXT "some-service=12345"
busy IN A 192.0.2.9
"""


@dataclass
class Primary:
    """The server: tests take a zone each, by `zones.pop()`."""

    port: int
    zones: set[str]
    directory: Path

    def texts(self, name: str, rdtype: str = "TXT") -> set[str]:
        answer = dns.query.udp(dns.message.make_query(name, rdtype), "127.0.0.1", port=self.port, timeout=5)
        return {rdata.to_text() for rrset in answer.answer for rdata in rrset}

    def answers(self) -> bool:
        """Return whether it answers by UDP and TCP: it goes on without one of them where the port is taken."""
        with contextlib.suppress(OSError, EOFError, dns.exception.Timeout):
            question = dns.message.make_query("u0.example", "SOA")
            by_tcp = dns.query.tcp(question, "127.0.0.1", port=self.port, timeout=5)
            return bool(self.texts("u0.example", "SOA")) and bool(by_tcp.answer)
        return False


@contextlib.contextmanager
def primary(directory: Path, port: int) -> Iterator[Primary]:
    zones = {f"u{n}.example" for n in range(_ZONES)}
    declared = "".join(
        f'zone "{zone}" {{ type primary; file "{zone}.zone"; update-policy {{ grant {KEY_NAME} zonesub ANY; }}; }};'
        for zone in zones
    )
    for zone in zones:
        (directory / f"{zone}.zone").write_text(_ZONE.format(z=zone))
    (directory / "named.conf").write_text(
        f'options {{ directory "{directory}"; pid-file none; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }};'
        "recursion no; session-keyfile none; }; controls { };"
        f'key "{KEY_NAME}" {{ algorithm hmac-sha256; secret "{SECRET}"; }};' + declared
    )
    with (directory / "log").open("wb") as log:
        process = subprocess.Popen(
            [program("named"), "-g", "-c", str(directory / "named.conf")], stdout=log, stderr=log
        )
    made = Primary(port, zones, directory)
    try:
        until(made.answers, lambda: (directory / "log").read_text("utf-8", "replace")[-3000:])
        yield made
    finally:
        process.terminate()
        process.wait(10)
