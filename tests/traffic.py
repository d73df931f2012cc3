"""Mail as a sender reports it and as an MTA logs it, for tests that kill what takes it in."""

from datetime import timedelta
from typing import Any

from rust_gauge.service.runtime.context import utc_now


def mail(number: int) -> list[dict[str, Any]]:
    """Events of one message: some are deferred first, some bounce, some after they were delivered."""
    start = utc_now().replace(microsecond=0) - timedelta(hours=3)
    base = {"domain": "news.d.example", "recipient": f"p{number}@tidepost.example", "message_id": f"m{number}",
            "stream": "newsletter", "relay": "office-1", "campaign": f"c{number % 3}"}  # fmt: skip

    def event(kind: str, seconds: int, **more: Any) -> dict[str, Any]:
        return {**base, "kind": kind, "time": (start + timedelta(seconds=number % 3000 + seconds)).isoformat(), **more}

    out = [event("delivered", 60, seconds_taken=2.5)]
    if number % 4 == 0:
        out += [event("delayed", n, reply_code=451, diagnostic=f"451 4.7.1 wait {n}") for n in (5, 20)]
    if number % 5 == 0:
        out.append(event("bounced", 90, reply_code=550, diagnostic="550 5.1.1 no such mailbox"))
    if number % 7 == 0:
        out.append(event("complained", 5000))
    return out


def lines(number: int) -> str:
    at = (utc_now() - timedelta(hours=2)).replace(microsecond=0) + timedelta(seconds=number)
    stamp, queue = at.isoformat(), f"{number + 0xA0000:X}"
    status = "status=bounced (host summary: 550 5.1.1 no)" if number % 6 == 0 else "status=sent (250 ok)"
    return (
        f"{stamp} mta1 postfix/cleanup[1]: {queue}: message-id=<log{number}@d.example>\n"
        f"{stamp} mta1 postfix/qmgr[1]: {queue}: from=<returns@log.d.example>, size=9, nrcpt=1 (queue active)\n"
        f"{stamp} mta1 postfix/smtp[1]: {queue}: to=<l{number}@tidepost.example>, relay=mx.tidepost.example[192.0.2.1]:25, "
        f"delay=1, delays=0/0/0/1, dsn=2.0.0, {status}\n"
        f"{stamp} mta1 postfix/qmgr[1]: {queue}: removed\n"
    )
