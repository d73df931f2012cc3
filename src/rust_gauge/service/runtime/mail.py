"""Messages of our own: to prove an address, about items of the worklist, reports."""

from email.message import EmailMessage

from rust_gauge.core.dns import split_server
from rust_gauge.gateways.mail_out import send
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.settings import Settings


def relay_of(settings: Settings, relay: str = "") -> tuple[str, int]:
    """Return host and port of the relay of this name, or of the first.

    ServiceProblem `mail-not-sent` where none is set, `invalid-request` for a name that is none.
    """
    relays = settings.mail_relays
    if not relays:
        raise ServiceProblem(
            "mail-not-sent",
            "No relay is configured for outgoing messages",
            remedy="Set mail_relays in the service settings",
        )
    if relay and relay not in relays:
        what = f"{relay[:60]} is not a configured mail relay"
        raise ServiceProblem("invalid-request", what, remedy=f"Choose one of {', '.join(sorted(relays))}")
    return split_server(relays[relay] if relay else next(iter(relays.values())))


def send_mail(settings: Settings, message: EmailMessage, to: str, relay: str = "") -> None:
    """Hand a message to a relay. MailNotSent says what the relay answered; ServiceProblem where there is none."""
    host, port = relay_of(settings, relay)
    send(host, port, message, settings.mail_from, to, settings.mail_from.rpartition("@")[2])
