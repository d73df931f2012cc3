"""What a record points to: a record is only right when that exists."""

from rust_gauge.core.dkim import looks_like_key, parse_dkim_key
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, ask
from rust_gauge.core.recordplan.record import PlannedRecord, Purpose
from rust_gauge.core.recordplan.slips import Cause
from rust_gauge.core.recordplan.spf import include_costs
from rust_gauge.core.spf import parse_spf


def broken_target(record: PlannedRecord, published: tuple[str, ...]) -> DnsProgram[Cause | None]:
    """Return why what a record points to does not work: `target-missing`; `target-unknown` without an answer."""
    if record.rdtype == "CNAME" and record.purpose is Purpose.DKIM:
        return (yield from _key(record.value))
    if record.rdtype in ("CNAME", "MX"):
        return (yield from _host(record)) if record.value else None
    if record.purpose is Purpose.SPF and record.rdtype == "TXT":
        return (yield from _includes(published[0] if published else record.value))
    return None


def _key(target: str) -> DnsProgram[Cause | None]:
    answer = yield from ask(target, "TXT")
    if answer.failed:
        return _unknown(answer)
    keys = [parse_dkim_key(txt.text) for txt in answer.texts if looks_like_key(txt.text)]
    if any(key.usable for key in keys):
        return None
    what = _why(answer)
    if keys:
        problem = "it is revoked" if keys[0].revoked else keys[0].problems[0].what
        what = f"holds a key that cannot be used: {problem}"
    text = f"as planned, but {target} {what}. Signatures fail until the relay publishes its key"
    return Cause("target-missing", text)


def _host(record: PlannedRecord) -> DnsProgram[Cause | None]:
    answers: tuple[DnsAnswer, ...] = yield DnsQuestion(record.value, "A"), DnsQuestion(record.value, "AAAA")
    if any(answer.records for answer in answers):
        return None
    failed = next((answer for answer in answers if answer.failed), None)
    if failed is not None:
        return _unknown(failed)
    if record.rdtype == "CNAME" and record.purpose is Purpose.RETURN_PATH:  # what counts there is MX and SPF
        (mx,) = yield (DnsQuestion(record.value, "MX"),)
        (txt,) = yield (DnsQuestion(record.value, "TXT"),)
        if mx.records or txt.records or mx.failed or txt.failed:
            return None
    missing = answers[0].status is AnswerStatus.NO_NAME
    what = "does not exist" if missing else "has no address"
    return Cause("target-missing", f"as planned, but {record.value} {what}")


def _includes(text: str) -> DnsProgram[Cause | None]:
    terms = [term for term in parse_spf(text).directives if term.mechanism == "include" and term.domain is not None]
    names = [term.domain.literal for term in terms if term.domain is not None and not term.domain.has_macros]
    costs = yield from include_costs(names)
    for name, cost in costs.items():
        if cost.problem == "it did not respond":
            return Cause("target-unknown", f"not verified: there is no answer for include:{name}")
        if cost.problem:
            return Cause("target-missing", f"as planned, but include:{name} does not work: {cost.problem}")
    return None


def _unknown(answer: DnsAnswer) -> Cause:
    return Cause("target-unknown", f"not verified: there is no answer for {answer.question}")


def _why(answer: DnsAnswer) -> str:
    return "does not exist" if answer.status is AnswerStatus.NO_NAME else "holds no key"
