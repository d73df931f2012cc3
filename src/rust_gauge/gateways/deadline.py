"""One deadline for a whole call to somebody else: a server that sends one octet at a time must not hold a worker.

Time-outs of the libraries hold for each read; here whatever is left of the deadline bounds each of them.
"""

import imaplib
import smtplib
import socket
import ssl
import time
from collections.abc import Iterable
from typing import Any

import httpcore
import httpx

TOTAL = 30.0  # seconds that a call may take, from looking for a connection to the last octet of the answer


class Deadline:
    """A moment by which a call has to be over."""

    def __init__(self, seconds: float = TOTAL) -> None:
        self._end = time.monotonic() + seconds

    def left(self, most: float | None = None) -> float:
        """Seconds that the next step may take. TimeoutError when none are left."""
        left = self._end - time.monotonic()
        if left <= 0:
            raise TimeoutError("the call took too long")
        return left if most is None else min(left, most)


def http_client(context: ssl.SSLContext, timeout: float, total: float = TOTAL) -> httpx.Client:
    """Return a client for one call: no redirects, no proxies, `timeout` for each step and `total` for all of them."""
    transport = httpx.HTTPTransport(verify=context, trust_env=False)
    transport._pool = httpcore.ConnectionPool(ssl_context=context, network_backend=_Backend(Deadline(total)))
    return httpx.Client(transport=transport, timeout=timeout, follow_redirects=False, trust_env=False)


class _Backend(httpcore.SyncBackend):
    def __init__(self, deadline: Deadline) -> None:
        self._deadline = deadline

    def connect_tcp(
        self, host: str, port: int, timeout: float | None = None, local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> httpcore.NetworkStream:  # fmt: skip
        left = _left(self._deadline, timeout, httpcore.ConnectTimeout)
        return _Stream(super().connect_tcp(host, port, left, local_address, socket_options), self._deadline)


class _Stream(httpcore.NetworkStream):
    def __init__(self, stream: httpcore.NetworkStream, deadline: Deadline) -> None:
        self._stream, self._deadline = stream, deadline

    def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        return self._stream.read(max_bytes, _left(self._deadline, timeout, httpcore.ReadTimeout))

    def write(self, buffer: bytes, timeout: float | None = None) -> None:
        self._stream.write(buffer, _left(self._deadline, timeout, httpcore.WriteTimeout))

    def close(self) -> None:
        self._stream.close()

    def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> httpcore.NetworkStream:
        left = _left(self._deadline, timeout, httpcore.ConnectTimeout)
        return _Stream(self._stream.start_tls(ssl_context, server_hostname, left), self._deadline)

    def get_extra_info(self, info: str) -> Any:
        return self._stream.get_extra_info(info)


def _left(deadline: Deadline, timeout: float | None, late: type[Exception]) -> float:
    try:
        return deadline.left(timeout)
    except TimeoutError as error:
        raise late(str(error)) from None


class Smtp(smtplib.SMTP):
    """An SMTP session whose steps together end by a deadline. `tls`: from the first octet on, with this context.

    `server_name` is what a certificate has to be for, where `host` is an address.
    """

    def __init__(
        self, host: str, port: int, local_hostname: str, timeout: float, total: float = TOTAL,
        *, tls: ssl.SSLContext | None = None, server_name: str = "",
    ) -> None:  # fmt: skip
        self._deadline, self._step, self._tls = Deadline(total), timeout, tls
        super().__init__(local_hostname=local_hostname, timeout=timeout)
        self._host = server_name or host  # for STARTTLS, too
        code, said = self.connect(host, port)
        if code != 220:
            self.close()
            raise smtplib.SMTPConnectError(code, said)

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        plain = socket.create_connection((host, port), self._deadline.left(self._step))
        if self._tls is None:
            return plain
        plain.settimeout(self._deadline.left(self._step))
        return self._tls.wrap_socket(plain, server_hostname=self._host)

    def getreply(self) -> tuple[int, bytes]:
        """Read a reply; TimeoutError when the deadline passed, also in the middle of one that never ends."""
        if self.file is None and self.sock is not None:
            # Lines are read from a file over the socket, whose reads may each take what is left.
            self.file = _Lines(self.sock, self._deadline, self._step)
        return super().getreply()


class Imap(imaplib.IMAP4):
    """An IMAP session whose steps together end by a deadline. `tls`: from the first octet on, with this context."""

    def __init__(
        self, host: str, port: int, tls: ssl.SSLContext | None, timeout: float, deadline: Deadline,
        server_name: str = "",
    ) -> None:  # fmt: skip
        self._deadline, self._step, self._tls = deadline, timeout, tls
        self._server_name = server_name or host
        super().__init__(host, port, timeout)

    def open(self, host: str = "", port: int = 143, timeout: float | None = None) -> None:
        """Connect. TimeoutError when the deadline passed."""
        self.host, self.port = host, port
        plain = socket.create_connection((host, port), self._deadline.left(self._step))
        plain.settimeout(self._deadline.left(self._step))
        self.sock = self._tls.wrap_socket(plain, server_hostname=self._server_name) if self._tls else plain
        self.file = _Lines(self.sock, self._deadline, self._step)  # type: ignore[assignment]

    def send(self, data: Any) -> None:
        """Send; TimeoutError when the deadline passed."""
        self.sock.settimeout(self._deadline.left(self._step))
        super().send(data)


class _Lines:
    """What smtplib and imaplib read from: each read of the socket is bounded by the deadline."""

    def __init__(self, sock: socket.socket, deadline: Deadline, step: float) -> None:
        self._sock, self._deadline, self._step = sock, deadline, step
        self._waiting = b""

    def readline(self, most: int) -> bytes:
        """Return a line of at most `most` octets."""
        while b"\n" not in self._waiting and len(self._waiting) < most:
            self._sock.settimeout(self._deadline.left(self._step))
            read = self._sock.recv(4096)
            if not read:
                break
            self._waiting += read
        # What is longer than a line of the protocol is cut off, and refused by whoever reads it.
        end = self._waiting.find(b"\n") + 1 or len(self._waiting)
        line, self._waiting = self._waiting[: min(end, most)], self._waiting[min(end, most) :]
        return line

    def read(self, size: int) -> bytes:
        """Return exactly `size` octets, fewer when the other side closed."""
        pieces, missing = [self._waiting[:size]], size - len(self._waiting[:size])
        self._waiting = self._waiting[size:]
        while missing > 0:
            self._sock.settimeout(self._deadline.left(self._step))
            read = self._sock.recv(min(missing, 1 << 16))
            if not read:
                break
            pieces.append(read)
            missing -= len(read)
        return b"".join(pieces)

    def close(self) -> None:
        """There is nothing to close but the socket, which the session closes."""
