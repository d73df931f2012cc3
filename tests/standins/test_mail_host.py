"""The SMTP stand-in, and what an MX host is asked and may be asked."""

import threading
from collections.abc import Iterator, Sequence

import pytest

from rust_gauge.core.dns import DnsAnswer, DnsQuestion, MailboxQuestion
from rust_gauge.gateways.mailboxes import MailboxProbe
from rust_gauge.standins.mail_host import MailHost
from tests.answers import answering

WORLD = {"mx.d.example A": ["192.0.2.43"], "inside.example A": ["10.0.0.1"]}


def look_up(questions: Sequence[DnsQuestion]) -> Sequence[DnsAnswer]:
    return answering(WORLD)(tuple(questions))


@pytest.fixture
def host() -> Iterator[MailHost]:
    made = MailHost(0, refused=("abuse",), later=("grey",))
    thread = threading.Thread(target=made.serve_forever, daemon=True)
    thread.start()
    yield made
    made.shutdown()
    made.server_close()
    thread.join(5)


@pytest.mark.parametrize(
    ("address", "host_name", "status"),
    [
        ("postmaster@d.example", "mx.d.example", "taken"),
        ("abuse@d.example", "mx.d.example", "refused"),
        ("grey@d.example", "mx.d.example", "later"),
        ("postmaster@d.example", "inside.example", "failed"),
        ("postmaster@d.example", "gone.example", "failed"),
    ],
)
def test_a_host_says_whom_it_takes_mail_for(host: MailHost, address: str, host_name: str, status: str) -> None:
    probe = MailboxProbe(5, {"192.0.2.43": ("127.0.0.1", host.server_address[1])}, "gauge.example")
    answer = probe.ask(MailboxQuestion(host_name, address), look_up)
    assert answer.status == status
    assert answer.failed is (status not in ("taken", "refused"))
    assert bool(answer.tls) is (host_name == "mx.d.example")


def test_a_host_that_is_away_is_no_missing_mailbox(host: MailHost) -> None:
    port = host.server_address[1]
    host.shutdown()
    host.server_close()
    answer = MailboxProbe(2, {"192.0.2.43": ("127.0.0.1", port)}, "x").ask(
        MailboxQuestion("mx.d.example", "a@d.example"), look_up
    )
    assert (answer.status, bool(answer.detail)) == ("failed", True)
