"""Whether the mail that carried a report is authentic: a signature of its From domain that holds (RFC 6376)."""

from collections.abc import Sequence
from dataclasses import dataclass

from rust_gauge.core.dkim import DkimResult, DkimVerdict, split_message, verify_message
from rust_gauge.core.message.authentication import header_from_domain
from rust_gauge.core.names import registered_domain
from rust_gauge.service.runtime.context import Context

_WITHIN = 10.0  # seconds for all keys


@dataclass(frozen=True, slots=True)
class Authenticity:
    """`state` is `signed`, `other` (signed by somebody else than From), `unsigned`, `failed`, `no_answer` or
    `not_mail`; `domain` is whose signature holds, or the From domain."""

    state: str
    domain: str


def judge_mail(context: Context, raw: bytes) -> Authenticity:
    """Verify the signatures of a report's mail. What DNS does not answer is not held against it."""
    header_from, _ = header_from_domain(split_message(raw).all("From"))
    now = int(context.clock().timestamp())
    verdicts = context.resolver.run(verify_message(raw, now), within=_WITHIN)
    return _judged(verdicts, header_from)


def _judged(verdicts: Sequence[DkimVerdict], header_from: str) -> Authenticity:
    if not verdicts:
        return Authenticity("unsigned", header_from)
    passed = [each.signature.domain.lower() for each in verdicts if each.result is DkimResult.PASS]
    own = [name for name in passed if header_from and registered_domain(name) == registered_domain(header_from)]
    if own:
        return Authenticity("signed", own[0][:253])
    if passed:
        return Authenticity("other", passed[0][:253])
    unanswered = any(each.result is DkimResult.TEMPERROR for each in verdicts)
    return Authenticity("no_answer" if unanswered else "failed", header_from)
