"""Postfix's mail log: lines of many processes, put together by queue id.

cleanup tells the message id, qmgr the envelope sender, smtp (lmtp, pipe, virtual ...) each attempt with its relay,
delays, enhanced code, status and reply; qmgr that a message expired or was removed. Times stand in two forms: that of
syslog, without year and zone, and RFC 3339.

What is known of open messages can be written down (`state`), so that reading goes on in the middle of a log.
"""

import re
from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Any

from rust_gauge.core.replies import cut_reply

MAX_LINE = 32 * 1024  # characters
MAX_OPEN = 20_000  # messages that are remembered
_MAX_RECIPIENTS = 1000  # of one message
_HEAD = re.compile(
    r"(?P<time>\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d{1,9})?(?:Z|[+-]\d\d:?\d\d)|"
    r"[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) "
    r"(?P<host>\S+) [\w.-]*postfix[\w.-]*/(?:[\w.-]+/)?(?P<program>[\w-]+)\[(?P<process>\d+)\]: (?P<summary>.*)\Z",
    re.DOTALL,
)
# Short queue ids are hexadecimal, long ones of digits and letters without vowels (postconf enable_long_queue_ids).
_QUEUE = re.compile(r"(?P<id>[0-9A-F]{5,20}|[0-9B-DF-HJ-NP-TV-Zb-df-hj-np-tv-z]{10,25}): (?P<rest>.*)\Z", re.DOTALL)
_ATTEMPT = re.compile(
    r"to=<(?P<to>[^>]*)>,(?: orig_to=<(?P<orig>[^>]*)>,)? relay=(?P<relay>[^,]*),(?: conn_use=\d+,)? "
    r"delay=(?P<delay>[\d.]+),(?: delays=(?P<delays>[\d./]+),)?(?: dsn=(?P<dsn>[245]\.\d{1,3}\.\d{1,3}),)? "
    r"status=(?P<status>[\w-]+)(?: \((?P<reply>.*)\))?\s*\Z",
    re.DOTALL,
)
_FROM = re.compile(r"from=<(?P<from>[^>]*)>, (?:size=\d+|status=(?P<status>[\w-]+))")
_RELAY = re.compile(r"(?P<host>[^\[\]]+)\[(?P<ip>[^\]]*)\]")
_TLS = re.compile(
    r"(?:Verified|Trusted|Untrusted|Anonymous) TLS connection established to (?P<to>[^\[\]]{1,255}\[[^\]]{1,45}\])"
)
_TLS_KEY = "*tls*"  # in the state, beside the queue ids
_MAX_TLS = 200  # processes whose connection is remembered
_MONTHS = {
    name: n
    for n, name in enumerate(["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1)
}
_STATUS = {"sent": "delivered", "deferred": "delayed", "bounced": "bounced", "expired": "bounced"}
_CODE = re.compile(r"(?:^|said: |to me: |\s)([245]\d\d)[ -]")


@dataclass(frozen=True, slots=True)
class LogLine:
    """A line of Postfix: when, on which host, which program, which message, and what it says of it."""

    at: datetime  # UTC
    host: str
    program: str
    queue_id: str
    summary: str
    process: str = ""


def parse_line(text: str, now: datetime, zone: tzinfo = UTC) -> LogLine | None:
    """One line; None for a line that is not Postfix's or speaks of no message.

    `zone` is where a time of syslog's form was written; its year is the latest that does not lie ahead of `now`.
    """
    if len(text) > MAX_LINE:
        return None
    head = _HEAD.match(text.rstrip("\r\n"))
    queued = _QUEUE.match(head["summary"]) if head else None
    if head is None or queued is None:
        return None
    at = _time(head["time"], now, zone)
    return LogLine(at, head["host"], head["program"], queued["id"], queued["rest"], head["process"]) if at else None


def _time(text: str, now: datetime, zone: tzinfo) -> datetime | None:
    try:
        if text[0].isdigit():
            return datetime.fromisoformat(re.sub(r"(\.\d{6})\d+", r"\1", text)).astimezone(UTC)
        local = now.astimezone(zone)
        hour, minute, second = map(int, text[7:15].split(":"))
        for year in (local.year, local.year - 1, local.year - 2, local.year - 3, local.year - 4):
            try:
                at = datetime(year, _MONTHS[text[:3]], int(text[4:6]), hour, minute, second, tzinfo=zone)
            except ValueError:
                continue  # the 29th of February
            if at <= local + timedelta(days=1):
                return at.astimezone(UTC)
    except (ValueError, KeyError):
        pass
    return None


@dataclass(slots=True)
class _Message:
    """A message in the queue, as far as the log told of it."""

    since: str = ""  # when it was first seen
    message_id: str = ""
    mail_from: str | None = None
    recipients: dict[str, list[Any]] = field(default_factory=dict)  # attempts, and the last reply when deferred


class LogReader:
    """Puts lines together into rows of events. `relay` and `domain` stand where the log tells none."""

    def __init__(
        self, *, relay: str = "", domain: str = "", zone: tzinfo = UTC, state: dict[str, Any] | None = None
    ) -> None:
        self._relay = relay
        self._domain = domain
        self._zone = zone
        self.skipped = 0  # lines of Postfix that could not be used
        kept = dict(state or {})
        # To whom each process has an encrypted connection. Nothing is said of TLS until the log tells of any.
        self._encrypted: dict[str, str] | None = kept.pop(_TLS_KEY, None)
        self._open: dict[str, _Message] = {key: _Message(**values) for key, values in kept.items()}

    def state(self) -> dict[str, Any]:
        """Return what is known of messages that are still open."""
        told = {_TLS_KEY: self._encrypted} if self._encrypted is not None else {}
        return told | {key: asdict(message) for key, message in self._open.items()}

    def read(self, text: str, now: datetime) -> list[dict[str, Any]]:
        """Return the rows that a line gives, most often none."""
        if " TLS connection established to " in text:
            self._note_tls(text)
        line = parse_line(text, now, self._zone)
        return list(self._rows(line)) if line is not None else []

    def _note_tls(self, text: str) -> None:
        """Remember an encrypted connection: the line names no message, only the process."""
        head = _HEAD.match(text.rstrip("\r\n")) if len(text) <= MAX_LINE else None
        found = _TLS.match(head["summary"]) if head else None
        if head is None or found is None:
            return
        known = self._encrypted = self._encrypted or {}
        if len(known) >= _MAX_TLS:
            del known[next(iter(known))]
        key = f"{head['host']} {head['process']}"
        known.pop(key, None)
        known[key] = found["to"]

    def _tls_tag(self, line: LogLine, relay: str, reused: bool) -> list[str]:
        """Return the tag that says whether a delivery was encrypted; none where the log does not tell."""
        if self._encrypted is None:
            return []
        if self._encrypted.get(f"{line.host} {line.process}") == relay.rpartition(":")[0]:
            return ["tls"]
        return [] if reused else ["no-tls"]  # a connection that another process opened

    def _rows(self, line: LogLine) -> Iterator[dict[str, Any]]:
        said = line.summary
        if line.program == "cleanup" and said.startswith(("message-id=", "resent-message-id=")):
            self._message(line).message_id = said.partition("=")[2].strip().strip("<>")[:255]
        elif line.program in ("qmgr", "oqmgr", "nqmgr"):
            if said.startswith("removed"):
                self._open.pop(line.queue_id, None)
                return
            found = _FROM.match(said)
            if found is not None:
                message = self._message(line)
                message.mail_from = found["from"]
                if found["status"] in ("expired", "force-expired"):
                    yield from self._expired(line, message)
        elif said.startswith("to=<"):
            yield from self._attempt(line)
        elif said.startswith(("client=", "uid=", "from=<")):
            self._message(line)

    def _message(self, line: LogLine) -> _Message:
        message = self._open.get(line.queue_id)
        if message is None:
            if len(self._open) >= MAX_OPEN:
                del self._open[next(iter(self._open))]
            message = self._open[line.queue_id] = _Message(line.at.isoformat())
        return message

    def _attempt(self, line: LogLine) -> Iterator[dict[str, Any]]:
        found = _ATTEMPT.match(line.summary)
        if found is None:
            self.skipped += 1
            return
        kind = _STATUS.get(found["status"])
        message = self._message(line)
        if kind is None or message.mail_from == "" or "@" not in found["to"]:
            return  # probes, notices, and what stays on the machine
        recipient = found["to"]
        known = message.recipients.get(recipient)
        if known is None:
            if len(message.recipients) >= _MAX_RECIPIENTS:
                return
            known = message.recipients[recipient] = [0, ""]
            delay = float(found["delay"])
            began = line.at - timedelta(seconds=delay) if delay < 30 * 86400 else line.at
            yield self._row(line, message, recipient, "accepted", began.replace(microsecond=0))
        known[0] += 1
        reply = " ".join((found["reply"] or "").split())
        known[1] = reply[:1000] if kind == "delayed" else ""
        row = self._row(line, message, recipient, kind, line.at) | _told(found, reply, known[0])
        if kind == "delivered" and (tags := self._tls_tag(line, found["relay"], "conn_use=" in line.summary)):
            row["tags"] = tags
        yield row

    def _expired(self, line: LogLine, message: _Message) -> Iterator[dict[str, Any]]:
        """Given up: whoever was still deferred gets it no more."""
        for recipient, (attempts, reply) in message.recipients.items():
            if reply and message.mail_from:
                row = self._row(line, message, recipient, "bounced", line.at)
                yield row | {"diagnostic": cut_reply(f"message expired in the queue; last: {reply}"),
                             "cause": "expired",
                             "permanence": "transient", "attempt": attempts}  # fmt: skip

    def _row(self, line: LogLine, message: _Message, recipient: str, kind: str, at: datetime) -> dict[str, Any]:
        domain = self._domain or (message.mail_from or "").rpartition("@")[2]
        row: dict[str, Any] = {
            "kind": kind,
            "time": at.isoformat(),
            "id": f"{line.host} {line.queue_id}",
            "recipient": recipient,
            "relay": self._relay or line.host.partition(".")[0][:60],
            "message_id": message.message_id,
        }
        if domain:
            row["domain"] = domain
        return row


def _told(found: re.Match[str], reply: str, attempt: int) -> dict[str, Any]:
    """Return what an attempt tells beside its kind."""
    row: dict[str, Any] = {"attempt": attempt, "diagnostic": cut_reply(reply)}
    relay = _RELAY.match(found["relay"])
    if relay is not None:
        row["remote_host"] = relay["host"][:255]
    if found["dsn"]:
        row["enhanced_code"] = found["dsn"]
    code = _CODE.search(reply)
    if code is not None:
        row["reply_code"] = int(code[1])
    if found["status"] == "sent":
        row["seconds_taken"] = float(found["delay"])
    return row
