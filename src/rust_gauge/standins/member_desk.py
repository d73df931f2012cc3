"""A small example application: members of a club, and whether they may be mailed, as webhooks tell it.

`python -m rust_gauge.standins.member_desk --port 8877 --keep members.json --secret-file secret`

It shows what an application has to do: check the signature, drop what it has seen, mark its own record, answer 204.
Members are whoever is named in the file; others are noted when they are first heard of.
"""

import argparse
import html
import json
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from rust_gauge.core.webhooks import WebhookRefused, verify

_MOST = 1024 * 1024  # octets of a webhook body
_SEEN = 5000  # message ids that are remembered


class MemberDesk(ThreadingHTTPServer):
    """The application. `members` by address: what may be sent, since when, and why not."""

    daemon_threads = True

    def __init__(self, port: int, keep: Path, secret: str | Path) -> None:
        self._keep, self._secret = keep, secret
        self._lock = threading.Lock()
        self._seen: list[str] = []
        self.members: dict[str, dict[str, Any]] = json.loads(keep.read_text("utf-8")) if keep.exists() else {}
        super().__init__(("127.0.0.1", port), _Handler)

    def secret(self) -> str:
        return self._secret.read_text("ascii").strip() if isinstance(self._secret, Path) else self._secret

    def heard(self, message_id: str, changes: list[dict[str, Any]]) -> None:
        """Mark members, once for each message."""
        with self._lock:
            if message_id in self._seen:
                return
            for change in changes:
                member = self.members.setdefault(change["address"], {"held": {}})
                key = f"{change['scope']} {change['scope_name']}".strip()
                if change["state"] == "held":
                    member["held"][key] = {"why": change["reason"], "since": change["at"], "until": change["until"]}
                elif change["state"] == "ended" and member["held"].get(key, {}).get("why") == change["reason"]:
                    del member["held"][key]
            self._seen = [*self._seen[-_SEEN:], message_id]
            if self._keep.parent.is_dir():
                self._keep.write_text(json.dumps(self.members, indent=1), "utf-8")


class _Handler(BaseHTTPRequestHandler):
    server: MemberDesk

    def do_POST(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        if not 0 <= length <= _MOST:
            self._say(413, "Too long")
            return
        body = self.rfile.read(length)
        headers = {name.lower(): value for name, value in self.headers.items()}
        try:
            message_id = verify(self.server.secret(), headers, body, int(time.time()))
            message = json.loads(body)
        except (WebhookRefused, OSError, ValueError) as error:
            self._say(401, str(error))
            return
        if message.get("type") == "suppression.changed":
            self.server.heard(message_id, message["data"]["changes"])
        self._say(204, "")

    def do_GET(self) -> None:
        if self.path == "/members.json":
            self._say(200, json.dumps(self.server.members), "application/json")
            return
        rows = "".join(
            f"<tr><td>{html.escape(address)}<td>{_status(member)}"
            for address, member in sorted(self.server.members.items())
        )
        text = (
            "<!doctype html><html lang=en><meta charset=utf-8><title>Members</title><h1>Members</h1>"
            f"<table><tr><th>Address<th>Mail{rows}</table>"
        )
        self._say(200, text, "text/html")

    def _say(self, status: int, text: str, kind: str = "text/plain") -> None:
        octets = text.encode()
        self.send_response(status)
        self.send_header("Content-Type", f"{kind}; charset=utf-8")
        self.send_header("Content-Length", str(len(octets)))
        self.end_headers()
        self.wfile.write(octets)

    def log_message(self, *_: object) -> None: ...


def _status(member: dict[str, Any]) -> str:
    held = [
        f"no {html.escape(key)}: {html.escape(held_one['why'])}" for key, held_one in sorted(member["held"].items())
    ]
    return "; ".join(held).replace("no tenant", "no mail").replace("_", " ") or "yes"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--keep", type=Path, required=True, help="the members, as JSON")
    parser.add_argument("--secret-file", type=Path, required=True, help="holds the webhook's secret")
    arguments = parser.parse_args()
    MemberDesk(arguments.port, arguments.keep, arguments.secret_file).serve_forever()


if __name__ == "__main__":
    main()
