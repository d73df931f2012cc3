"""Tests of mail that an application sends: caught in a tray, waited for, read and examined.

    export RUSTGAUGE_URL=http://127.0.0.1:8850 RUSTGAUGE_TOKEN=... RUSTGAUGE_TENANT=marram
    export RUSTGAUGE_TRAY=booking-staging BENCH_PASSWORD=...
    pytest docs/examples/test_booking_mail.py --bench-sarif mail.sarif

`send_code` and `send_newsletter` stand for the application. The last test fails, as it should: its message names a
template variable that nobody filled in, and the build gets the reason.
"""

import smtplib
from email.message import EmailMessage
from email.utils import localtime, make_msgid

import pytest

from rust_gauge.client.testing import Tray

SENDER = "Marram Ferries <no-reply@marramferries.example>"


def new_message(to: str, subject: str) -> EmailMessage:
    """Return a message as the application begins it."""
    message = EmailMessage()
    message["From"], message["To"], message["Subject"] = SENDER, to, subject
    message["Date"], message["Message-ID"] = localtime(), make_msgid(domain="marramferries.example")
    return message


def send_code(tray: Tray, to: str) -> None:
    """Send what the application sends to somebody who signs in."""
    message = new_message(to, "Your sign-in code")
    message.set_content("Your sign-in code is 482913. It is valid for 15 minutes.\n")
    tray.send(message, "bounce@marramferries.example")


def send_newsletter(tray: Tray, to: str, name: str) -> None:
    """Send what the application sends to subscribers."""
    message = new_message(to, f"{name}, the winter timetable is here")
    message.set_content(f"Dear {name},\n\nthe winter timetable: https://marramferries.example/winter\n")
    tray.send(message, "bounce@marramferries.example")


def test_somebody_who_signs_in_gets_a_code(tray: Tray) -> None:
    send_code(tray, "kim@tidepost.example")
    message = tray.wait(recipient="kim@tidepost.example", subject="sign-in code")
    assert [each.code for each in message.codes] == ["482913"]
    assert message.tls.startswith("TLSv1")


def test_the_application_notices_a_mailbox_that_does_not_exist(tray: Tray) -> None:
    with pytest.raises(smtplib.SMTPRecipientsRefused) as refused:
        send_code(tray, "gone@tidepost.example")
    assert refused.value.recipients["gone@tidepost.example"][0] == 550


def test_the_newsletter_has_no_faults(tray: Tray) -> None:
    send_newsletter(tray, "kim@tidepost.example", name="{{first_name}}")
    message = tray.wait(subject="winter timetable")
    tray.check(message, fail_on="fault", ignore=["dkim-missing", "dmarc-fail"])
