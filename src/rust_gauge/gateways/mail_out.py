"""Sending a message of our own by SMTP (RFC 5321), to a host that the service's settings name."""

import contextlib
import smtplib
import ssl
from email.message import EmailMessage

from rust_gauge.core.errors import RustGaugeError
from rust_gauge.gateways.deadline import Smtp

# Relays are named by the settings of the service and often have certificates of their own (RFC 7435).
_ANY_CERTIFICATE = ssl.create_default_context()
_ANY_CERTIFICATE.check_hostname = False
_ANY_CERTIFICATE.verify_mode = ssl.CERT_NONE


class MailNotSent(RustGaugeError):
    """The relay did not take the message."""


def send(
    host: str, port: int, message: EmailMessage, mail_from: str, to: str, name: str, timeout: float = 15.0
) -> None:
    """Hand a message over; TLS where the relay offers it. MailNotSent says what it answered."""
    try:
        with Smtp(host, port, name, timeout) as session:
            session.ehlo()
            if session.has_extn("starttls"):
                # A relay that offers it and cannot do it now (454, RFC 3207 §4) still gets the message.
                with contextlib.suppress(smtplib.SMTPResponseException):
                    session.starttls(context=_ANY_CERTIFICATE)
                session.ehlo()
            session.send_message(message, mail_from, [to])
    except smtplib.SMTPRecipientsRefused as error:
        code, said = next(iter(error.recipients.values()))
        reply = f"{code} {said.decode('utf-8', 'replace')}"[:300]
        raise MailNotSent(f"The relay refuses {to}", why=reply, remedy="Check the address") from None
    except smtplib.SMTPResponseException as error:
        text = error.smtp_error.decode("utf-8", "replace") if isinstance(error.smtp_error, bytes) else error.smtp_error
        raise MailNotSent("The relay did not take the message", why=f"{error.smtp_code} {text}"[:300],
                          remedy="Try another relay") from None  # fmt: skip
    except (OSError, smtplib.SMTPException) as error:
        why = str(error) or type(error).__name__
        raise MailNotSent(
            f"The relay at {host} port {port} cannot be reached", why=why, remedy="Try another relay"
        ) from None
