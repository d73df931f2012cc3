"""SMTP for the bench (RFC 5321, 3207, 4954): catches messages, keeps the conversation, and can be a difficult receiver.

Who may send, where a recipient's mail goes and what is answered is asked of a `Bench`, whose methods may block.
"""

import asyncio
import ssl
import threading
import time
from collections import Counter
from collections.abc import Hashable
from dataclasses import dataclass, field
from functools import partial
from typing import Any, Protocol

import structlog
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import MISSING, SMTP, AuthResult, Envelope, LoginPassword, Session

from rust_gauge.core.bench import Answer
from rust_gauge.core.bench.receiver import Does
from rust_gauge.gateways.smtp_session import SmtpSession

log = structlog.get_logger()
MAX_MESSAGE = 40 * 2**20  # octets
_MAX_RECIPIENTS = 100
_TIMEOUT = 120  # seconds without a command, or without an octet of a message
_BUDGET = 96 * 2**20  # octets of messages that are received at the same time
_PATIENCE = 30.0  # seconds that a message waits for its share of the budget
_CONNECTIONS, _OF_ONE_ADDRESS = 500, 100
_MAX_STEPS = 400  # of a conversation that are kept
_LONGEST_STEP = 1000  # characters
_SIGN_INS = 10  # that may fail on one connection; libraries try every mechanism
_SLACK = 64 * 1024  # octets that a message may be longer than it said (RFC 1870 §6.1)


@dataclass(frozen=True, slots=True)
class Step:
    """One line of a conversation; `at` in seconds since the client connected."""

    at: float
    side: str
    text: str


@dataclass(frozen=True, slots=True)
class Place:
    """Where mail goes: a tray, or whatever else the bench knows by this key."""

    key: Hashable
    max_bytes: int


@dataclass(frozen=True, slots=True)
class Delivery:
    """A message that came, for one place."""

    place: Place
    mail_from: str
    recipients: tuple[str, ...]
    raw: bytes
    client_ip: str
    helo: str
    tls: str
    cipher: str
    authenticated: bool
    steps: tuple[Step, ...]  # up to the reply that `Bench.take` returns


class Bench(Protocol):
    """What a listener asks."""

    def sign_in(self, user: str, password: str) -> Place | None:
        """Return where mail of this user goes; None when user and password do not match."""

    def place_of(self, address: str) -> Place | None:
        """Return where mail from outside to this address goes; None when it is not ours."""

    def answer(self, place: Place, client_ip: str, mail_from: str, recipient: str) -> Answer:
        """Return what a difficult receiver does with a recipient."""

    def take(self, delivery: Delivery) -> str:
        """Store a message; return the reply."""


class BenchIn:
    """The listeners: with STARTTLS, and with TLS from the start where `tls_port` is given."""

    def __init__(self, host: str, port: int, tls_port: int, name: str, bench: Bench, tls: ssl.SSLContext) -> None:
        self.open: Counter[str] = Counter()
        self.lock = threading.Lock()
        self.budget = _Budget(_BUDGET)
        self._tls = tls
        make = partial(_Listener, _Handler(bench), hostname=host, server_hostname=name)
        self._controllers = [make(port=port, owner=self, starttls=tls)]
        if tls_port:
            self._controllers.append(make(port=tls_port, owner=self, ssl_context=tls))

    def start(self) -> None:
        """Listen, in a thread for each port. OSError when a port is taken."""
        for controller in self._controllers:
            controller.start()

    def stop(self) -> None:
        """Stop listening; what is being received is broken off."""
        for controller in self._controllers:
            controller.stop()


class _Listener(Controller):
    def __init__(self, handler: Any, *, owner: BenchIn, starttls: ssl.SSLContext | None = None, **named: Any) -> None:
        self._owner, self._starttls = owner, starttls
        super().__init__(handler, **named)

    def factory(self) -> SMTP:
        return _BenchSession(
            self.handler, self._owner, hostname=self.SMTP_kwargs["hostname"], ident="bench", loop=self.loop,
            data_size_limit=MAX_MESSAGE, enable_SMTPUTF8=True, timeout=_TIMEOUT, tls_context=self._starttls,
            # With TLS from the start the session is encrypted, which aiosmtpd does not know.
            auth_require_tls=self._starttls is not None, authenticator=_as_given,
        )  # fmt: skip


def _as_given(_server: SMTP, _session: Session, _envelope: Envelope, _mechanism: str, given: Any) -> AuthResult:
    """Pass on what the client gave; the session verifies it without holding up the others."""
    return AuthResult(success=True, auth_data=given)


@dataclass
class _Transaction:
    """What is known of the message that is being sent."""

    places: dict[Hashable, tuple[Place, list[str]]] = field(default_factory=dict)
    at_data: Answer | None = None
    declared: int | None = None


class _BenchSession(SmtpSession):
    """One session, which notes what is said."""

    def __init__(self, handler: "_Handler", owner: BenchIn, **named: Any) -> None:
        super().__init__(handler, **named)
        self._owner, self._handler = owner, handler
        self._began = time.monotonic()
        self._opening: list[Step] = []  # before the first message
        self._steps: list[Step] = []  # of this message
        self._in_message = False
        self._refused = False
        self._counted = ""
        self._failed_sign_ins = 0
        self.pause = 0.0  # seconds before each reply
        self.place: Place | None = None  # of whoever signed in
        self.transaction = _Transaction()
        self._smtp_methods = {name: partial(self._noted, name, method) for name, method in self._smtp_methods.items()}

    # Connections

    def connection_made(self, transport: Any) -> None:
        """Take the connection, unless there are too many of them."""
        if self._counted:  # TLS within the same connection
            super().connection_made(transport)
            return
        ip = str((transport.get_extra_info("peername") or ("unknown",))[0])
        with self._owner.lock:
            total = self._owner.open.total()
            self._refused = total >= _CONNECTIONS or self._owner.open[ip] >= _OF_ONE_ADDRESS
            if not self._refused:
                self._owner.open[ip] += 1
                self._counted = ip
        if self._refused:
            transport.write(b"421 4.3.2 Too many connections, try again later\r\n")
            transport.close()
            return
        super().connection_made(transport)

    def connection_lost(self, error: Exception | None) -> None:
        """Count the connection no more."""
        if self._refused:
            return
        if self._counted:
            with self._owner.lock:
                self._owner.open[self._counted] -= 1
                self._owner.open += Counter()  # without those that have none
            self._counted = ""
        super().connection_lost(error)

    def data_received(self, data: bytes) -> None:
        if not self._refused:
            super().data_received(data)

    def eof_received(self) -> bool | None:
        return None if self._refused else super().eof_received()

    # The conversation

    async def _noted(self, name: str, method: Any, arg: str | None) -> None:
        if name == "MAIL":
            self._in_message, self._steps = True, []
        shown = f"{name} {_hidden(arg)}" if name == "AUTH" else f"{name} {arg}" if arg else name
        self.note("client", shown)
        await method(arg)

    def note(self, side: str, text: str) -> None:
        """Add a line to the conversation."""
        steps = self._steps if self._in_message else self._opening
        if len(steps) < _MAX_STEPS:
            readable = text.encode("utf-8", "replace").decode("utf-8")[:_LONGEST_STEP]
            steps.append(Step(round(time.monotonic() - self._began, 4), side, readable))

    def conversation(self) -> tuple[Step, ...]:
        """Return what was said until now."""
        return (*self._opening, *self._steps)

    async def push(self, status: Any) -> None:
        """Send a reply and note it; a slow receiver takes its time."""
        text = status.decode("utf-8", "replace") if isinstance(status, bytes) else str(status)
        if self.pause:
            self._reset_timeout(self.pause + _TIMEOUT)
            await asyncio.sleep(self.pause)
        self.note("server", text)
        await super().push(status)

    def _set_rset_state(self) -> None:
        super()._set_rset_state()  # type: ignore[no-untyped-call]
        self.transaction = _Transaction()
        self.pause = 0.0

    def _set_post_data_state(self) -> None:
        super()._set_post_data_state()  # type: ignore[no-untyped-call]
        self.transaction = _Transaction()

    # Signing in

    async def challenge_auth(self, *args: Any, **named: Any) -> Any:
        """Ask for a part of the credentials, which is noted as hidden."""
        given = await super().challenge_auth(*args, **named)
        if given is not MISSING:
            self.note("client", "(hidden)")
        return given

    async def auth_PLAIN(self, server: Any, args: list[str]) -> AuthResult:
        """AUTH PLAIN (RFC 4616)."""
        return await self._verified(await super().auth_PLAIN(server, args))

    async def auth_LOGIN(self, server: Any, args: list[str]) -> AuthResult:
        """AUTH LOGIN, which no standard describes and many programs use."""
        return await self._verified(await super().auth_LOGIN(server, args))

    async def _verified(self, given: AuthResult) -> AuthResult:
        if not given.success or not isinstance(given.auth_data, LoginPassword):
            return given
        user, password = (part.decode("utf-8", "replace") for part in given.auth_data)
        try:
            self.place = await asyncio.to_thread(self._handler.bench.sign_in, user, password)
        except Exception as error:  # whatever it was, the client may try again
            log.warning("bench_trouble", error=repr(error))
            return AuthResult(success=False, handled=False, message="454 4.7.0 Try again later")
        if self.place is not None:
            return AuthResult(success=True, auth_data=given.auth_data)
        self._failed_sign_ins += 1
        if self._failed_sign_ins >= _SIGN_INS:
            await self.push("421 4.7.0 Too many failed attempts")
            if self.transport is not None:
                self.transport.close()
            return AuthResult(success=False, handled=True)
        return AuthResult(success=False, handled=False)

    # Messages

    def message_limit(self) -> int:
        """Return what the smallest place takes, and no more than the client announced."""
        limits = [place.max_bytes for place, _ in self.transaction.places.values()]
        announced = self.transaction.declared
        return min([*limits, MAX_MESSAGE if announced is None else announced + _SLACK])

    async def smtp_DATA(self, arg: str) -> None:
        """Wait for a share of the memory, and read the message."""
        octets = self.message_limit()
        if not await self._owner.budget.take(octets, _PATIENCE):
            await self.push("452 4.3.1 Too much mail at the moment, try again later")
            return
        try:
            await super().smtp_DATA(arg)
        finally:
            self._owner.budget.give_back(octets)

    def tls_of(self) -> tuple[str, str]:
        """Return TLS version and cipher; empty without TLS."""
        transport: Any = self.transport
        found = transport.get_extra_info("ssl_object") if transport is not None else None
        if found is None:
            return "", ""
        return found.version() or "", (found.cipher() or ("",))[0]


class _Handler:
    def __init__(self, bench: Bench) -> None:
        self.bench = bench

    async def handle_MAIL(
        self, server: _BenchSession, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        sizes = [option.partition("=")[2] for option in options if option.upper().startswith("SIZE=")]
        server.pause = 0.0  # what made the message before slow need not be so for this one
        server.transaction = _Transaction(declared=int(sizes[0][:12]) if sizes and sizes[0].isdigit() else None)
        envelope.mail_from = address
        envelope.mail_options.extend(options)
        return "250 2.1.0 OK"

    async def handle_RCPT(
        self, server: _BenchSession, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if len(envelope.rcpt_tos) >= _MAX_RECIPIENTS:
            return "452 4.5.3 Too many recipients"
        try:
            place = server.place or await asyncio.to_thread(self.bench.place_of, address)
            if place is None:
                return "550 5.1.1 No tray has this address; sign in to send to any address"
            declared = server.transaction.declared
            if declared is not None and declared > place.max_bytes:
                return f"552 5.3.4 This tray takes {place.max_bytes} octets at most"
            sender = _plain(envelope.mail_from)
            answer = await asyncio.to_thread(self.bench.answer, place, _ip(session), sender, address)
        except Exception as error:  # whatever it was, the message must not be lost
            log.warning("bench_trouble", error=repr(error))
            return "451 4.3.0 Try again later"
        if answer.does is Does.SLOW:
            server.pause = max(server.pause, answer.seconds)
        elif answer.reply and not answer.at_data:
            return answer.reply
        elif answer.does is not Does.ACCEPT:
            server.transaction.at_data = server.transaction.at_data or answer
        envelope.rcpt_tos.append(address)
        server.transaction.places.setdefault(place.key, (place, []))[1].append(address)
        return "250 2.1.5 OK"

    async def handle_DATA(self, server: _BenchSession, session: Session, envelope: Envelope) -> str:
        later = server.transaction.at_data
        if later is not None and later.seconds:
            server._reset_timeout(later.seconds + _TIMEOUT)
            await asyncio.sleep(later.seconds)
        raw = bytes(envelope.original_content or b"")
        server.note("client", f"(message of {len(raw):,} octets)")
        if later is not None and later.reply:
            return later.reply
        tls, cipher = server.tls_of()
        replies: list[str] = []
        for place, recipients in server.transaction.places.values():
            delivery = Delivery(
                place, _plain(envelope.mail_from), tuple(recipients), raw, _ip(session), str(session.host_name or ""),
                tls, cipher, server.place is not None, server.conversation(),
            )  # fmt: skip
            try:
                replies.append(await asyncio.to_thread(self.bench.take, delivery))
            except Exception as error:
                log.warning("bench_trouble", error=repr(error))
                return "451 4.3.0 Try again later"
        return next((reply for reply in replies if not reply.startswith("2")), replies[0])


class _Budget:
    """Octets that may be in memory at the same time. Used from several event loops, of one listener each."""

    def __init__(self, octets: int) -> None:
        self._left = octets
        self._lock = threading.Lock()

    async def take(self, octets: int, seconds: float) -> bool:
        """Wait until so many octets are free, and take them. False when that lasts too long."""
        end = time.monotonic() + seconds
        while True:
            with self._lock:
                if octets <= self._left:
                    self._left -= octets
                    return True
            if time.monotonic() > end:
                return False
            await asyncio.sleep(0.05)

    def give_back(self, octets: int) -> None:
        """Free octets that were taken."""
        with self._lock:
            self._left += octets


def _hidden(arg: str | None) -> str:
    mechanism, _, given = (arg or "").partition(" ")
    return f"{mechanism} (hidden)" if given else mechanism


def _plain(address: str | None) -> str:
    """Return an address without brackets; empty for the null sender."""
    return (address or "").strip().removeprefix("<").removesuffix(">")


def _ip(session: Session) -> str:
    peer: Any = session.peer
    return str(peer[0]) if isinstance(peer, tuple) else ""
