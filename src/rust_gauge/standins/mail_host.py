"""An SMTP host on loopback for the demo and the tests. It takes no message, or keeps what it takes in a folder.

`refused` local parts get 550, `later` ones 451; everybody else is taken at RCPT TO. At DATA a message is turned away,
or written into `keep` as one `.eml` file.
"""

import argparse
import ipaddress
import secrets
import socketserver
import time
from pathlib import Path


class _Talk(socketserver.StreamRequestHandler):
    timeout = 20

    def say(self, text: str) -> None:
        self.wfile.write(text.encode() + b"\r\n")

    def take(self, folder: Path) -> None:
        lines: list[bytes] = []
        while (line := self.rfile.readline(100_000)) not in (b".\r\n", b""):
            if len(lines) < 100_000:
                lines.append(line.removeprefix(b".") if line.startswith(b"..") else line)
        folder.mkdir(parents=True, exist_ok=True)
        name = f"{time.time_ns()}-{secrets.token_hex(3)}"
        (folder / f"{name}.part").write_bytes(b"".join(lines))
        (folder / f"{name}.part").rename(folder / f"{name}.eml")
        self.say("250 2.0.0 kept")

    def handle(self) -> None:
        server: MailHost = self.server  # type: ignore[assignment]
        self.say("220 mail host stand-in")
        while line := self.rfile.readline(2000):
            words = line.decode("utf-8", "replace").strip()
            verb = words[:4].upper()
            if verb == "EHLO":
                self.say("250-stand-in")
                self.say("250 STARTTLS" if server.tls else "250 8BITMIME")
            elif verb == "STAR":
                self.say("454 4.7.0 TLS is offered, but not available in this stand-in")
            elif verb == "RCPT":
                local = words.partition("<")[2].partition("@")[0].lower()
                if local in server.refused:
                    self.say("550 5.1.1 no such mailbox here")
                else:
                    self.say("451 4.7.1 try again later" if local in server.later else "250 2.1.5 fine")
            elif verb == "DATA":
                if server.keep is None:
                    self.say("554 5.7.1 this stand-in takes no message")
                else:
                    self.say("354 go on")
                    self.take(server.keep)
            elif verb == "QUIT":
                self.say("221 bye")
                return
            else:
                self.say("250 fine")


class MailHost(socketserver.ThreadingTCPServer):
    """Call `serve_forever`. On loopback only; with port 0 a free one is taken."""

    allow_reuse_address = True
    daemon_threads = True

    def __init__(
        self,
        port: int,
        refused: tuple[str, ...] = (),
        later: tuple[str, ...] = (),
        *,
        tls: bool = True,
        keep: Path | None = None,
    ) -> None:
        self.refused, self.later, self.tls, self.keep = refused, later, tls, keep
        super().__init__(("127.0.0.1", port), _Talk)
        assert ipaddress.ip_address(self.server_address[0]).is_loopback  # type: ignore[arg-type]


def main() -> None:
    """`python -m rust_gauge.standins.mail_host --port 2525`."""
    parser = argparse.ArgumentParser(description="An SMTP host on loopback")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--refuse", action="append", default=[], help="a local part that does not exist; repeatable")
    parser.add_argument("--keep", type=Path, help="write messages into this folder")
    arguments = parser.parse_args()
    MailHost(arguments.port, tuple(arguments.refuse), keep=arguments.keep).serve_forever()


if __name__ == "__main__":
    main()
