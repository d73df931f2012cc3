"""A receiver of webhooks on loopback: keeps what comes, and answers as configured."""

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


class Receiver:
    """`answer` is the status of the next answers; `got` are (headers in lower case, body)."""

    def __init__(self) -> None:
        self.answer = 204
        self.headers: dict[str, str] = {}
        self.got: list[tuple[dict[str, str], bytes]] = []
        self.port = 0

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/desk"

    def bodies(self) -> list[Any]:
        return [json.loads(body) for _, body in self.got]


@contextmanager
def receiving(port: int = 0) -> Iterator[Receiver]:
    receiver = Receiver()

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers["Content-Length"]))
            receiver.got.append(({name.lower(): value for name, value in self.headers.items()}, body))
            self.send_response(receiver.answer)
            for name, value in receiver.headers.items():
                self.send_header(name, value)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, *_: object) -> None: ...

    server = ThreadingHTTPServer(("127.0.0.1", port), Handler)
    receiver.port = server.server_address[1]
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield receiver
    finally:
        server.shutdown()
        thread.join(10)
        server.server_close()
