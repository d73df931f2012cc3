"""Taking in mail by SMTP (RFC 5321) for return paths and feedback addresses: what is not for us is refused at once.

A message is acknowledged when `deliver` has stored it. A trouble of ours is 451, so that the other side tries again.
"""

import asyncio
import ssl
from collections.abc import Callable
from typing import Any

import structlog
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from rust_gauge.gateways.smtp_session import SmtpSession

log = structlog.get_logger()
_MAX_RECIPIENTS = 100  # RFC 5321 §4.5.3.1.8 asks for at least 100
_TIMEOUT = 120  # seconds


class MailIn:
    """A listener. `wanted` tells whether an address is ours, `deliver` takes (recipients, message); both may block.

    `tls`: with it STARTTLS is offered (RFC 3207), and not required: mail from elsewhere comes as its sender can.
    """

    def __init__(
        self,
        host: str,
        port: int,
        name: str,
        max_octets: int,
        wanted: Callable[[str], bool],
        deliver: Callable[[list[str], bytes], None],
        tls: ssl.SSLContext | None = None,
    ) -> None:
        self._handler = _Handler(wanted, deliver)
        self._controller = _Listener(
            self._handler, hostname=host, port=port, server_hostname=name, data_size_limit=max_octets,
            enable_SMTPUTF8=True, timeout=_TIMEOUT, tls_context=tls,
        )  # fmt: skip

    def start(self) -> None:
        """Listen, in a thread of its own. OSError when the port is taken."""
        self._controller.start()

    def stop(self) -> None:
        """Stop listening; what is being received is broken off, and senders try again."""
        self._controller.stop()


class _Listener(Controller):
    def factory(self) -> SMTP:
        return SmtpSession(self.handler, **self.SMTP_kwargs)


class _Handler:
    def __init__(self, wanted: Callable[[str], bool], deliver: Callable[[list[str], bytes], None]) -> None:
        self._wanted = wanted
        self._deliver = deliver

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if len(envelope.rcpt_tos) >= _MAX_RECIPIENTS:
            return "452 4.5.3 Too many recipients"
        try:
            wanted = await asyncio.to_thread(self._wanted, address)
        except Exception as error:  # whatever it was, the message must not be lost
            log.warning("mail_in_trouble", error=repr(error))
            return "451 4.3.0 Try again later"
        if not wanted:
            return "550 5.1.1 No feed takes mail for this address"
        envelope.rcpt_tos.append(address)
        envelope.rcpt_options.extend(options)
        return "250 2.1.5 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        content: Any = envelope.content or b""
        raw = content.encode("utf-8", "surrogateescape") if isinstance(content, str) else bytes(content)
        try:
            await asyncio.to_thread(self._deliver, list(envelope.rcpt_tos), raw)
        except Exception as error:
            log.warning("mail_in_trouble", error=repr(error))
            return "451 4.3.0 Try again later"
        return "250 2.0.0 Taken"
