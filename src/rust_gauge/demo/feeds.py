"""What the demo's feeds received: documents of the relay Driftline in its own format, and returned messages."""

import json
from datetime import datetime, timedelta
from typing import Any

_HOUSE = "boxoffice.glasswort.example"
_WORDS = {
    "came back": "550 5.1.1 no such mailbox here",
    "waits": "421 4.7.0 too many messages from 198.51.100.21, slow down",
}


def driftline_documents(now: datetime) -> list[dict[str, Any]]:
    """Return documents with letters of the last hours: most delivered, some with trouble, three that do not fit."""
    states = ["handed over"] * 36 + ["came back"] * 2 + ["waits"] * 3 + ["grumbled"] + ["parked"] * 2
    parcels = [{"letter": _letter(now, number, state)} for number, state in enumerate(states)]
    parcels.insert(20, {"letter": '{"state": "handed over", "clock": '})  # cut off on its way
    return [{"parcels": parcels[start : start + 4]} for start in range(0, len(parcels), 4)]


def _letter(now: datetime, number: int, state: str) -> str:
    person = {"box": f"guest.{number:02d}@tidepost.example"}
    if state in _WORDS:
        person["words"] = _WORDS[state]
    return json.dumps({
        "state": state, "clock": int((now - timedelta(minutes=200 - 4 * number)).timestamp()), "house": _HOUSE,
        "purpose": "tickets", "number": f"bo-{number:03d}@{_HOUSE}", "people": [person],
    })  # fmt: skip


def returned_message(now: datetime, number: int) -> bytes:
    """Return a bounce (RFC 3464) of a ticket to a mailbox that does not exist, is full, or was closed."""
    code, status, words = (
        (550, "5.1.1", "no such mailbox here"),
        (452, "4.2.2", "mailbox full"),
        (550, "5.2.1", "this account was closed"),
    )[number]
    to = f"patron.{number}@tidepost.example"
    at = f"{now - timedelta(hours=2 + number):%a, %d %b %Y %H:%M:%S +0000}"
    lines = f"""From: mail system <postmaster@mx.driftline.example>
To: return@bounce.{_HOUSE}
Date: {at}
Subject: Not delivered
Message-ID: <return-{number}@mx.driftline.example>
MIME-Version: 1.0
Content-Type: multipart/report; report-type=delivery-status; boundary="=_b"

--=_b
Content-Type: text/plain

Your message to {to} was not delivered: {words}.

--=_b
Content-Type: message/delivery-status

Reporting-MTA: dns; mx.driftline.example
Arrival-Date: {at}

Final-Recipient: rfc822; {to}
Action: failed
Status: {status}
Diagnostic-Code: smtp; {code} {status} {words}

--=_b
Content-Type: text/rfc822-headers

From: tickets@{_HOUSE}
To: {to}
Message-ID: <ticket-{number}@{_HOUSE}>

--=_b--
"""
    return lines.replace("\n", "\r\n").encode()
