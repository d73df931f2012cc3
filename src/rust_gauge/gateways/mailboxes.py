"""Asking an MX host by SMTP whether it takes mail for an address: EHLO, MAIL FROM:<>, RCPT TO, QUIT, and no message.

The host comes from somebody's DNS, so only public addresses are contacted, and those that the settings name.
"""

import smtplib
import time
from collections.abc import Callable, Sequence

from rust_gauge.core.dns import DnsAnswer, DnsQuestion, MailboxAnswer, MailboxQuestion
from rust_gauge.gateways.deadline import Smtp
from rust_gauge.gateways.pages import Reach, may_reach


class MailboxProbe:
    """`name` is what we greet with. Times in seconds."""

    def __init__(self, timeout: float, reach: Reach, name: str) -> None:
        self._timeout = timeout
        self._reach = reach
        self._name = name

    def ask(
        self, question: MailboxQuestion, look_up: Callable[[Sequence[DnsQuestion]], Sequence[DnsAnswer]]
    ) -> MailboxAnswer:
        """Return what the host says, or why it says nothing. Never raises."""
        began = time.monotonic()
        answers = look_up([DnsQuestion(question.host, "A"), DnsQuestion(question.host, "AAAA")])
        addresses = [str(getattr(rdata, "address", "")) for answer in answers for rdata in answer.records]
        allowed = [address for address in addresses if may_reach(address, self._reach)]
        if not allowed:
            where = addresses[0] if addresses else "no address"
            return MailboxAnswer(question, "failed", detail=f"{question.host} is at {where}, which is not contacted")
        answer = self._talk(question, allowed[0])
        return MailboxAnswer(question, answer.status, answer.reply, answer.tls, answer.detail, time.monotonic() - began)

    def _talk(self, question: MailboxQuestion, address: str) -> MailboxAnswer:
        host, port = self._reach.get(address, (address, 25))
        try:
            with Smtp(host, port, self._name, self._timeout) as session:
                session.ehlo()
                tls = session.has_extn("starttls")
                code, said = session.mail("")
                if code < 400:
                    code, said = session.rcpt(question.address)
        except (OSError, smtplib.SMTPException, ValueError) as error:
            return MailboxAnswer(question, "failed", detail=f"{question.host}: {error or type(error).__name__}")
        reply = f"{code} {said.decode('utf-8', 'replace')}"[:500]
        status = "taken" if 200 <= code < 300 else "refused" if code >= 500 else "later"
        return MailboxAnswer(question, status, reply, tls)
