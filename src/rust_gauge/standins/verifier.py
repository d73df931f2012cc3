"""A small outside verifier: it says whether a mailbox is there, for money.

`python -m rust_gauge.standins.verifier --port 8878 --key secret`

GET /mailbox?address=... answers about one, POST /mailboxes with {"ask": [...]} about many. It knows what the demo's
people are like: a number from 100 on at the end of the local part is a mailbox that was closed. A small share of what
it says is wrong, always the same, as with real ones.
"""

import argparse
import hashlib
import json
import re
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

_CLOSED = re.compile(r"[1-9]\d\d+$")
_MOST = 1024 * 1024  # octets of a body
_CATCH_ALL = ("peatworks.example", "mossback.example")  # take every address, so that nothing can be said


def look(address: str, wrong: float) -> tuple[str, str]:
    """Return the state of a mailbox, in the words of this verifier, and a note."""
    local, _, domain = address.lower().rpartition("@")
    if domain in _CATCH_ALL:
        return "unsure", "its host takes every address"
    closed = bool(_CLOSED.search(local))
    chance = int.from_bytes(hashlib.blake2b(address.encode(), digest_size=4).digest(), "big") / 2**32
    if chance < wrong:
        closed = not closed
    return ("closed", "no such mailbox") if closed else ("open", "")


class VerifierDesk(ThreadingHTTPServer):
    """The verifier. `asked` counts mailboxes; `down` makes it answer 503."""

    daemon_threads = True

    def __init__(
        self, port: int, key: str, *, wrong: float = 0.0, say: Callable[[str], tuple[str, str]] | None = None
    ) -> None:
        self.key, self.asked, self.down = key, 0, False
        self._say = say or (lambda address: look(address, wrong))
        self._lock = threading.Lock()
        super().__init__(("127.0.0.1", port), _Handler)

    @property
    def port(self) -> int:
        """Return the port that it listens on."""
        return int(self.server_address[1])

    def answer(self, address: str) -> dict[str, Any]:
        """Return what it says of one address."""
        with self._lock:
            self.asked += 1
        state, note = self._say(address)
        return {"address": address, "mailbox": {"state": state, "note": note}}


class _Handler(BaseHTTPRequestHandler):
    server: VerifierDesk

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        wanted = parse_qs(parts.query).get("address", [])
        if self._refused() or parts.path != "/mailbox" or not wanted:
            return
        self._give(200, self.server.answer(wanted[0]))

    def do_POST(self) -> None:
        octets = self.rfile.read(min(_MOST, int(self.headers.get("Content-Length") or 0)))
        if self._refused():
            return
        try:
            wanted = [str(each) for each in json.loads(octets)["ask"]]
        except (ValueError, KeyError, TypeError):
            self._give(400, {"error": "ask is missing"})
            return
        self._give(200, {"answers": [self.server.answer(address) for address in wanted]})

    def _refused(self) -> bool:
        if self.server.down:
            self._give(503, {"error": "closed for the day"})
        elif self.headers.get("Authorization") != f"Bearer {self.server.key}":
            self._give(401, {"error": "unknown key"})
        else:
            return False
        return True

    def _give(self, status: int, document: dict[str, Any]) -> None:
        octets = json.dumps(document).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(octets)))
        self.end_headers()
        self.wfile.write(octets)

    def log_message(self, format: str, *args: Any) -> None:
        """Nothing is logged."""


def main() -> None:
    """Serve until the process is stopped."""
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--key", required=True)
    parser.add_argument("--wrong", type=float, default=0.03)
    arguments = parser.parse_args()
    VerifierDesk(arguments.port, arguments.key, wrong=arguments.wrong).serve_forever()


if __name__ == "__main__":
    main()
