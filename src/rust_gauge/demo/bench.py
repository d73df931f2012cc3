"""The demo's bench: trays with drafts of the five tenants, one newsletter by four paths, and an application's mail."""

from collections.abc import Sequence
from datetime import datetime, timedelta
from email.utils import format_datetime
from pathlib import Path

import structlog
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from rust_gauge.contract.bench import Conversation, ConversationStep, NewTray, ReceiverRule
from rust_gauge.core.dkim import sign_message
from rust_gauge.demo.drafts import Draft, application_mail, four_paths, office_drafts, repeats, two_changes
from rust_gauge.gateways.bench_in import Delivery, Place, Step
from rust_gauge.service.bench import trays
from rust_gauge.service.bench.catching import Arrival, catch
from rust_gauge.service.bench.reports import LOCAL_PART, Limits, answer
from rust_gauge.service.runtime.context import Context
from rust_gauge.store.accounts import TenantAccess

log = structlog.get_logger()
DOMAIN = "bench.skerry.example"
OFFICE = NewTray(name="office-bench", title="Drafts of all five clients", keep_days=365)
PATHS = NewTray(name="paths", title="One newsletter, four paths", keep_days=365)
STAGING = NewTray(
    name="booking-staging", title="Booking application, staging", keep_days=365, sending_ip="192.0.2.41",
    series_header="X-Template",
    receiver=[
        ReceiverRule(recipients="gone*", action="refuse", reply="550 5.1.1 No such mailbox"),
        ReceiverRule(recipients="full@*", action="full", stage="data"),
        ReceiverRule(recipients="later@*", action="greylist", seconds=60),
        ReceiverRule(recipients="slow@*", action="slow", seconds=2),
    ],
)  # fmt: skip


def load_bench(context: Context, tenant: TenantAccess, keys: Path) -> dict[str, str]:
    """Add the tenant's trays with their messages, once. Returns passwords of trays that were added, by name."""
    there = {tray.name for tray in trays.list_trays(context, tenant)}
    now = context.clock().replace(microsecond=0)
    passwords: dict[str, str] = {}
    for new, drafts in _trays_of(tenant.slug, now):
        if new.name not in there:
            passwords[new.name] = trays.add_tray(context, tenant, new).password
            row = trays.find_tray(context, tenant, new.name)
            for draft in drafts:
                raw, arrival = (
                    _arrived(draft, keys, f"{row.address_key}@{DOMAIN}") if isinstance(draft, Draft) else draft
                )
                catch(context, row, raw, arrival)
            if new is OFFICE:
                _ask_for_report(context, _arrived(office_drafts(now)[9], keys, f"{LOCAL_PART}@{DOMAIN}"))
    return passwords


def _ask_for_report(context: Context, asked: tuple[bytes, Arrival]) -> None:
    """Mail a draft to the address for reports; the answer is where the demo's mail is."""
    raw, arrival = asked
    told = arrival.conversation
    steps = tuple(Step(step.at, step.side, step.text) for step in told.steps)
    delivery = Delivery(
        Place("report", len(raw)), arrival.mail_from, arrival.recipients, raw, told.client_ip, told.helo, told.tls,
        told.cipher, False, steps,
    )  # fmt: skip
    log.info("demo_report", reply=answer(context, delivery, None, Limits()))


def _trays_of(slug: str, now: datetime) -> list[tuple[NewTray, Sequence[Draft | tuple[bytes, Arrival]]]]:
    if slug == "marram":
        application = [
            (
                message.as_bytes().replace(b"\n", b"\r\n"),
                Arrival("smtp", "no-reply@marramferries.example", (str(message["To"]),),
                        _told("127.0.0.1", "booking-test", "no-reply@marramferries.example", [str(message["To"])],
                              signed_in=True), now - timedelta(minutes=50 - 10 * number)),
            )
            for number, message in enumerate(application_mail(now))
        ]  # fmt: skip
        return [(OFFICE, office_drafts(now)), (STAGING, application)]
    if slug == "glasswort":
        drafts = sorted([*four_paths(now), *two_changes(now), *repeats(now)], key=lambda draft: draft.at)
        return [(PATHS, drafts)]
    return []


def _arrived(draft: Draft, keys: Path, address: str) -> tuple[bytes, Arrival]:
    """Sign a draft as its sender would, and say how it came."""
    raw, path = draft.raw, draft.path
    if path.signed is not None:
        selector, domain = path.signed
        file = keys / f"{selector}.{domain}.pem"
        key = load_pem_private_key(file.read_bytes(), None) if file.exists() else _lost_key()
        assert isinstance(key, rsa.RSAPrivateKey), "the demo makes RSA keys"
        raw = sign_message(raw, key, domain=domain, selector=selector, signed_at=int(draft.at.timestamp()))
    hop = f"from {path.helo} ({path.helo} [{path.ip}])\r\n\tby {DOMAIN}; {format_datetime(draft.at)}"
    told = _told(path.ip, path.helo, path.mail_from, [address])
    arrival = Arrival("address", path.mail_from, (address,), told, draft.at)
    return f"Received: {hop}\r\n".encode() + raw, arrival


def _lost_key() -> rsa.RSAPrivateKey:
    """Return a key that nobody published: what was published in its place cannot be read."""
    return rsa.generate_private_key(public_exponent=65537, key_size=2048)


def _told(ip: str, helo: str, mail_from: str, recipients: Sequence[str], *, signed_in: bool = False) -> Conversation:
    lines = [
        ("server", "220 bench.skerry.example bench"), ("client", f"EHLO {helo}"),
        ("server", "250-bench.skerry.example"),
        ("server", "250-SIZE 41943040"), ("server", "250-STARTTLS"), ("server", "250 HELP"), ("client", "STARTTLS"),
        ("server", "220 Ready to start TLS"), ("client", f"EHLO {helo}"), ("server", "250 HELP"),
    ]  # fmt: skip
    if signed_in:
        lines += [("client", "AUTH PLAIN (hidden)"), ("server", "235 2.7.0 Authentication successful")]
    lines += [("client", f"MAIL FROM:<{mail_from}>"), ("server", "250 2.1.0 OK")]
    for recipient in recipients:
        lines += [("client", f"RCPT TO:<{recipient}>"), ("server", "250 2.1.5 OK")]
    lines += [("client", "DATA"), ("server", "354 End data with <CR><LF>.<CR><LF>"), ("server", "250 2.0.0 Caught")]
    steps = [
        ConversationStep.model_validate({"at": round(0.011 * number, 3), "side": side, "text": text})
        for number, (side, text) in enumerate(lines)
    ]
    return Conversation(
        client_ip=ip, helo=helo, tls="TLSv1.3", cipher="TLS_AES_256_GCM_SHA384", authenticated=signed_in,
        mail_from=mail_from, recipients=list(recipients), steps=steps,
    )  # fmt: skip
