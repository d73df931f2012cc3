"""A pytest plugin for tests of mail: `pytest_plugins = ["rust_gauge.client.testing"]` in the first conftest.py.

The fixture `tray` sends to a tray, waits for what the application sent there, and examines it:

    def test_the_reset_message(tray):
        request_password_reset("kim@tidepost.example")
        message = tray.wait(recipient="kim@tidepost.example")
        assert message.codes[0].code.isdigit()
        tray.check(message, fail_on="risk")

Settings come from RUSTGAUGE_URL, RUSTGAUGE_TOKEN, RUSTGAUGE_TENANT, RUSTGAUGE_TRAY and BENCH_PASSWORD, or from a
fixture `bench_settings` of your own. `--bench-sarif FILE` writes what `check` found as SARIF, for the build.
"""

import os
import smtplib
import ssl
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from pathlib import Path
from typing import Any

import pytest

from rust_gauge.client.assay_formats import RANK, place_text, sarif
from rust_gauge.client.synchronous.client import Client
from rust_gauge.contract.assays import Assay
from rust_gauge.contract.bench import CaughtMessage, ParsedMessage

_ASSAYS = pytest.StashKey[Any]()  # a list of (subject, assay)
_NEEDED = ("RUSTGAUGE_TOKEN", "RUSTGAUGE_TENANT", "RUSTGAUGE_TRAY")


@dataclass(frozen=True, slots=True)
class BenchSettings:
    """Where the tray is. `password` is only for `Tray.smtp` and `Tray.send`."""

    url: str
    token: str
    tenant: str
    tray: str
    password: str = ""


class Tray:
    """A tray, as a test sees it: only messages that came since the test began are waited for."""

    def __init__(self, client: Client, settings: BenchSettings, assays: list[tuple[str, Assay]]) -> None:
        self.client, self.settings = client, settings
        self._assays = assays
        newest = next(iter(client.trays.messages(settings.tenant, settings.tray)), None)
        self._after = newest.id if newest else 0

    @contextmanager
    def smtp(self) -> Iterator[smtplib.SMTP]:
        """Yield an SMTP session with TLS that is signed in to the tray."""
        there = self.client.trays.connection(self.settings.tenant, self.settings.tray)
        if not there.host:
            pytest.fail("The bench is not listening: set bench_port in the settings of the service")
        context = ssl.create_default_context(cadata=there.certificate or None)
        with smtplib.SMTP(there.host, there.starttls_port, timeout=30) as session:
            session.starttls(context=context)
            session.login(there.smtp_user, self.settings.password)
            yield session

    def send(
        self, message: EmailMessage | bytes, mail_from: str = "test@example.test", recipients: Sequence[str] = ()
    ) -> dict[str, Any]:
        """Send a message to the tray by SMTP; return refused recipients with their replies, as smtplib does.

        Without `recipients`, those of an EmailMessage's fields count. smtplib.SMTPRecipientsRefused when all were.
        """
        with self.smtp() as session:
            if isinstance(message, EmailMessage):
                return session.send_message(message, from_addr=mail_from, to_addrs=list(recipients) or None)
            return session.sendmail(mail_from, list(recipients), message)

    def wait(
        self, *, timeout: float = 30.0, recipient: str | None = None, subject: str | None = None,
        header_from: str | None = None, header: str | None = None, since: datetime | None = None,
        after: CaughtMessage | None = None,
    ) -> ParsedMessage:  # fmt: skip
        """Wait for a message that came since the test began, or after another one. NoMessageError when none came."""
        return self.client.trays.wait(
            self.settings.tenant, self.settings.tray, timeout=timeout, recipient=recipient, subject=subject,
            header_from=header_from, header=header, since=since, after=after.id if after else self._after,
        )  # fmt: skip

    def assay(self, message: CaughtMessage) -> Assay:
        """Return the assay of a message."""
        return self.client.trays.assay(self.settings.tenant, self.settings.tray, message.id)

    def check(
        self, message: CaughtMessage, *, fail_on: str = "risk", least_mark: float = 0.0, ignore: Sequence[str] = ()
    ) -> Assay:
        """Fail the test for a finding of this level or worse, or a lower mark. `ignore` names rules that may apply."""
        done = self.assay(message)
        self._assays.append((message.subject or f"message {message.id}", done))
        bad = [each for each in done.findings if RANK[each.level] <= RANK[fail_on] and each.rule not in ignore]
        lines = [
            f"{each.level} {each.rule}: {each.title}"
            + "".join(f"\n    {place_text(place)}: {place.text}" for place in each.places[:3] if place.text)
            + f"\n    {each.remedy}"
            for each in bad
        ]
        if done.mark < least_mark:
            lines.append(f"The mark is {done.mark:g}, less than {least_mark:g}")
        if lines:
            pytest.fail(f"{message.subject!r}, mark {done.mark:g}:\n" + "\n".join(lines), pytrace=False)
        return done

    def delete(self, message: CaughtMessage) -> None:
        """Delete a message."""
        self.client.trays.delete_message(self.settings.tenant, self.settings.tray, message.id)


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add --bench-sarif."""
    parser.getgroup("rust gauge").addoption(
        "--bench-sarif", metavar="FILE", help="write what assays of caught messages found, as SARIF 2.1.0"
    )


def pytest_configure(config: pytest.Config) -> None:
    """Begin without assays."""
    config.stash[_ASSAYS] = []


def pytest_sessionfinish(session: pytest.Session) -> None:
    """Write SARIF, if that was asked for."""
    path = session.config.getoption("--bench-sarif")
    if path:
        Path(path).write_text(sarif(session.config.stash[_ASSAYS]) + "\n", "utf-8")


@pytest.fixture(scope="session")
def bench_settings() -> BenchSettings:
    """Return the settings of the environment; define a fixture of this name to have others."""
    missing = [name for name in _NEEDED if not os.environ.get(name)]
    if missing:
        pytest.fail(f"Set {', '.join(missing)} in the environment, or define a fixture bench_settings")
    token, tenant, tray = (os.environ[name] for name in _NEEDED)
    url = os.environ.get("RUSTGAUGE_URL", "http://127.0.0.1:8850")
    return BenchSettings(url, token, tenant, tray, os.environ.get("BENCH_PASSWORD", ""))


@pytest.fixture
def tray(bench_settings: BenchSettings, request: pytest.FixtureRequest) -> Iterator[Tray]:
    """Yield the tray of `bench_settings`."""
    with Client(bench_settings.url, token=bench_settings.token) as client:
        yield Tray(client, bench_settings, request.config.stash[_ASSAYS])
