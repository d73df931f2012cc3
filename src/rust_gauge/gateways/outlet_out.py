"""Sending copies through an outlet by SMTP submission (RFC 6409), with each failure told apart.

OutletError has a `kind`: `unreachable`, `tls`, `no-tls`, `authentication`, `sender-refused`, `recipient-refused`,
`message-refused`, `deferred` for a 4xx about one message, or `ended` for a connection that broke off.
"""

import contextlib
import smtplib
import ssl
from collections.abc import Iterator
from dataclasses import dataclass

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.gateways.deadline import TOTAL, Smtp
from rust_gauge.gateways.destination import Destination

REFUSED = ("recipient-refused", "message-refused")  # kinds: for good (RFC 5321 §4.2.1), so that it says something
_STEP = 15.0  # seconds of one step


class OutletError(RustGaugeError):
    """An outlet that did not do what was asked. `reply` is the server's own answer; empty when there was none."""

    def __init__(self, kind: str, what: str, *, why: str = "", remedy: str = "", reply: str = "") -> None:
        super().__init__(what, why=why, remedy=remedy)
        self.kind, self.reply = kind, reply


@dataclass(frozen=True, slots=True)
class OutletAccess:
    """How to talk to an outlet. `security` is `starttls`, `tls` or `none`; without a user nobody signs in."""

    security: str
    user: str
    password: str
    name: str = "localhost"  # what we greet with
    ca_file: str = ""


class OutletSession:
    """A session that is signed in. Messages go one after another."""

    def __init__(self, session: Smtp, host: str) -> None:
        self._session, self._host = session, host

    def try_sender(self, mail_from: str) -> None:
        """See whether the server takes mail from an address; nothing is sent. OutletError `sender-refused`."""
        with _told_apart(self._host):
            self._mail(mail_from)
            self._session.rset()

    def send(self, raw: bytes, mail_from: str, to: str) -> str:
        """Hand a message over, and return the reply. OutletError."""
        with _told_apart(self._host):
            self._mail(mail_from)
            code, said = self._session.rcpt(to)
            if code // 100 != 2:
                self._session.rset()
                reply = _reply(code, said)
                kind = "recipient-refused" if code // 100 == 5 else "deferred"
                raise OutletError(kind, f"{self._host} refuses mail to {to}", why=reply, reply=reply)
            code, said = self._session.data(raw)
            reply = _reply(code, said)
            if code // 100 != 2:
                kind = "message-refused" if code // 100 == 5 else "deferred"
                raise OutletError(kind, f"{self._host} refuses the message", why=reply, reply=reply)
            return reply

    def _mail(self, mail_from: str) -> None:
        code, said = self._session.mail(mail_from)
        if code // 100 != 2:
            self._session.rset()
            reply = _reply(code, said)
            raise OutletError(
                "sender-refused", f"{self._host} refuses {mail_from} as the sender", why=reply, reply=reply,
                remedy="Use an envelope address that this user may send from, or have it allowed there",
            )  # fmt: skip


@contextlib.contextmanager
def outlet_session(access: OutletAccess, there: Destination, total: float = TOTAL) -> Iterator[OutletSession]:
    """Open a session with TLS and sign in, as the outlet is set up; it ends after `total` seconds. OutletError."""
    context = ssl.create_default_context()
    if access.ca_file:
        context.load_verify_locations(access.ca_file)
    session = None
    with _told_apart(there.host):
        tls = context if access.security == "tls" else None
        session = Smtp(there.address, there.port, access.name, _STEP, total, tls=tls, server_name=there.host)
    try:
        with _told_apart(there.host):
            session.ehlo()
            if access.security == "starttls":
                if not session.has_extn("starttls"):
                    raise OutletError(
                        "no-tls", f"{there.host} does not offer STARTTLS at port {there.port}",
                        remedy="Use the port for submission, 587, or TLS from the start, usually at 465",
                    )  # fmt: skip
                session.starttls(context=context)
                session.ehlo()
            if access.user:
                session.login(access.user, access.password)
        yield OutletSession(session, there.host)
    finally:
        with contextlib.suppress(OSError, smtplib.SMTPException):
            session.quit()
        session.close()


@contextlib.contextmanager
def _told_apart(host: str) -> Iterator[None]:
    """Turn whatever smtplib and the socket raise into an OutletError."""
    try:
        yield
    except smtplib.SMTPAuthenticationError as error:
        reply = _reply(error.smtp_code, error.smtp_error)
        raise OutletError(
            "authentication", f"{host} refuses user and password", why=reply, reply=reply,
            remedy="Check both; many providers want an application password here, not the one for the web",
        ) from None  # fmt: skip
    except smtplib.SMTPNotSupportedError as error:
        raise OutletError(
            "authentication", f"{host} offers no way to sign in that is supported", why=str(error),
            remedy="It may offer one over TLS only, or at the port for submission, 587",
        ) from None  # fmt: skip
    except ssl.SSLCertVerificationError as error:
        raise OutletError(
            "tls", f"The certificate of {host} is not valid", why=error.verify_message or str(error),
            remedy="Use the host name that the certificate is for, or have it renewed",
        ) from None  # fmt: skip
    except ssl.SSLError as error:
        raise OutletError(
            "tls", f"No TLS with {host}", why=str(error.reason or error)[:200],
            remedy="TLS from the start is usually at port 465, STARTTLS at 587",
        ) from None  # fmt: skip
    except smtplib.SMTPResponseException as error:
        reply = _reply(error.smtp_code, error.smtp_error)
        raise OutletError("ended", f"{host} does not go on", why=reply, reply=reply, remedy="Try again later") from None
    except (ConnectionRefusedError, TimeoutError) as error:
        refused = isinstance(error, ConnectionRefusedError)
        raise OutletError(
            "unreachable", f"Nobody answers at {host}", why="the port is closed" if refused else "no answer in time",
            remedy="Check host and port; some networks let out no SMTP, and 25 least of all",
        ) from None  # fmt: skip
    except (OSError, smtplib.SMTPException, ValueError) as error:
        why = str(error) or type(error).__name__
        raise OutletError("ended", f"The connection to {host} broke off", why=why[:200], remedy="Try again") from None


def _reply(code: int, said: bytes | str) -> str:
    text = said.decode("utf-8", "replace") if isinstance(said, bytes) else said
    return f"{code} {' '.join(text.split())}"[:500]
