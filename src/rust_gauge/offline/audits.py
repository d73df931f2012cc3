"""The audit, the trial of SPF and the check of a message, over a source of answers."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from rust_gauge.contract.assays import Assay, AssayComparison
from rust_gauge.contract.audits import Audit, MessageCheck, SpfCheck
from rust_gauge.core.assay import Examined, Sending, examine
from rust_gauge.core.assay.compare import compare
from rust_gauge.core.audit import AuditRequest, DomainAudit, Selector, audit_domain
from rust_gauge.core.dns import drive
from rust_gauge.core.dns.held import write_recording
from rust_gauge.core.errors import InputError
from rust_gauge.core.message import authenticate
from rust_gauge.core.names import normalise_domain
from rust_gauge.core.spf import check_mail
from rust_gauge.core.transport import DnsList
from rust_gauge.documents.assays import assay_document, comparison_document
from rust_gauge.documents.audits import audit_document
from rust_gauge.documents.messages import message_document
from rust_gauge.documents.trials import trial_document
from rust_gauge.offline.sources import Source, SourceError


@dataclass(frozen=True, slots=True)
class LocalAudit:
    """An audit, and all that was asked for it, to be recorded."""

    audit: Audit
    format: str
    answers: list[object]
    selectors: list[str]


def audit_locally(
    source: Source, domains: Iterable[str] = (), selectors: Sequence[str] = (), ips: Sequence[str] = ()
) -> list[LocalAudit]:
    """Audit the domains named, or all that the source speaks of."""
    try:
        names = [normalise_domain(name) for name in domains] or list(source.domains)
    except InputError as error:
        raise SourceError(str(error), remedy=error.remedy) from None
    if not names:
        raise SourceError("no domain is named", remedy="Name the domains to audit")
    done = []
    for name in names:
        known = source.selectors.get(name, ())
        chosen = [Selector(selector, "hand") for selector in selectors] + [Selector(text, "zone") for text in known]
        request = AuditRequest(
            name,
            tuple(chosen),
            ips=tuple(ips),
            now=int(datetime.now(UTC).timestamp()),
            ask_pages=not source.offline,
            ask_servers=not source.offline,
        )
        result: DomainAudit = source.run(audit_domain(request))
        recording = write_recording(result.answers)
        document = audit_document(result, finished_at=datetime.now(UTC), cause="offline")
        used = [selector.name for selector in request.all_selectors()]
        done.append(LocalAudit(document, str(recording["format"]), list(recording["answers"]), used))
    return done


def check_spf(source: Source, ip: str, mail_from: str, helo: str = "", record: str | None = None) -> SpfCheck:
    """Evaluate SPF for a connection. SourceError if `ip` is not an IP address."""
    try:
        return trial_document(source.run(check_mail(ip, helo, mail_from, record=record)))
    except ValueError:
        raise SourceError(f"{ip} is not an IP address", remedy="Use an address such as 192.0.2.43") from None


def check_message(source: Source, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = "") -> MessageCheck:
    """Verify SPF, DKIM and DMARC of a message. SourceError if `ip` is not an IP address."""
    now = int(datetime.now(UTC).timestamp())
    try:
        return message_document(source.run(authenticate(raw, ip=ip, helo=helo, mail_from=mail_from, now=now)))
    except ValueError:
        raise SourceError(f"{ip} is not an IP address", remedy="Use an address such as 192.0.2.43") from None


def assay_message(
    source: Source | None, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = "", lists: Sequence[str] = ()
) -> Assay:
    """Examine a message; without a source, only what needs no DNS. SourceError if it cannot be examined.

    `lists` are zones of blocklists, those of domains as `zone=domain`.
    """
    return assay_document(_examined(source, raw, Sending(ip, helo, mail_from), lists=lists))


def compare_messages(source: Source | None, messages: Sequence[tuple[str, bytes]]) -> list[AssayComparison]:
    """Compare each message with the first; each has a name. SourceError if one cannot be examined."""
    done = [(name, _examined(source, raw, Sending(), name)) for name, raw in messages]
    (first_name, first), *others = done
    return [comparison_document(compare(first, each), name, first_name) for name, each in others]


def _examined(
    source: Source | None, raw: bytes, sending: Sending, name: str = "", lists: Sequence[str] = ()
) -> Examined:
    chosen = tuple(DnsList(each.partition("=")[0], each.partition("=")[2] or "ip") for each in lists)
    program = examine(raw, sending=sending, now=datetime.now(UTC), ask_dns=source is not None, lists=chosen)
    try:
        return drive(program, lambda _: ()) if source is None else source.run(program)
    except InputError as error:
        raise SourceError(f"{name}: {error}" if name else str(error), remedy=error.remedy) from None
    except ValueError:
        what = f"{sending.ip} is not an IP address"
        raise SourceError(what, remedy="Use an address such as 192.0.2.43") from None


def read_message(raw: bytes) -> bytes:
    """The message as it is in a file; an mbox line in front is taken off."""
    if raw.startswith(b"From "):
        return raw.partition(b"\n")[2]
    return raw
