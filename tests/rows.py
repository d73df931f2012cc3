"""Events as NDJSON, for loading."""

import json
from datetime import UTC, datetime, timedelta
from typing import Any

START = datetime(2026, 11, 19, 8, tzinfo=UTC)


def row(number: int = 0, **changes: Any) -> dict[str, Any]:
    """One event, another one for each number."""
    values = {
        "kind": "delivered",
        "time": (START + timedelta(seconds=number)).isoformat(),
        "domain": "news.d.example",
        "recipient": f"person{number}@tidepost.example",
        "message_id": f"m{number}",
        "stream": "newsletter",
        "relay": "office-1",
    }
    return {**values, **changes}


def bounce(number: int = 0, **changes: Any) -> dict[str, Any]:
    reply = {"kind": "bounced", "reply_code": 550, "diagnostic": "550 5.1.1 no such mailbox"}
    return row(number, **{**reply, **changes})


def ndjson(*rows: dict[str, Any] | str) -> bytes:
    return "\n".join(each if isinstance(each, str) else json.dumps(each) for each in rows).encode() + b"\n"
