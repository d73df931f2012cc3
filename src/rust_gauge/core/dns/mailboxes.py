"""Return whether a host would take mail for an address, asked for by the same programs that ask DNS (RFC 5321 §3.3)."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class MailboxQuestion:
    """Up to RCPT TO at one host, with an empty sender; no message is sent."""

    host: str
    address: str

    def __str__(self) -> str:
        return f"{self.address} at {self.host}"


@dataclass(frozen=True, slots=True)
class MailboxAnswer:
    """`status` is `taken` (2xx), `refused` (5xx), `later` (4xx), `not_held` (off line) or `failed`. `tls`: STARTTLS."""

    question: MailboxQuestion
    status: str
    reply: str = ""
    tls: bool | None = None
    detail: str = ""
    seconds: float = 0.0

    @property
    def failed(self) -> bool:
        """Nothing is known of the mailbox."""
        return self.status not in ("taken", "refused")
