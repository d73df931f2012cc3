"""Return whether the sending addresses and the domain are on the lists that the tenant follows (RFC 5782)."""

from rust_gauge.core.audit.examination import CheckState, Examination
from rust_gauge.core.audit.findings import Finding, Level, Place
from rust_gauge.core.audit.request import AuditRequest
from rust_gauge.core.dns import DnsProgram, gather
from rust_gauge.core.transport import ListAnswer, ListState, ask_list

_MAX_SUBJECTS = 64  # times every list: DNS list operators block clients that ask too much
_USELESS = {
    ListState.REFUSED: "refuses queries",
    ListState.ANSWERS_ALL: "lists everything",
    ListState.EMPTY: "lists nothing, not even its test entry",
    ListState.FAILED: "does not respond",
}


def examine_lists(request: AuditRequest) -> DnsProgram[Examination]:
    """Ask each list about each address, or about the domain."""
    out = Examination()
    asked = [(dns_list, subject) for dns_list in request.lists for subject in _subjects(request, dns_list.kind)]
    answers: list[ListAnswer] = yield from gather([ask_list(dns_list, subject) for dns_list, subject in asked])
    out.lists = answers
    for answer in answers:
        if answer.state is ListState.LISTED:
            out.findings.append(_listed(answer))
    useless = {a.list.zone: a for a in out.lists if a.state in _USELESS}
    for answer in useless.values():
        out.findings.append(_unusable(answer))
    heard = [answer for answer in out.lists if answer.state in (ListState.LISTED, ListState.NOT_LISTED)]
    if not request.lists:
        out.point("lists", "Blocklists", CheckState.UNMEASURED, "No lists configured; add them in the audit settings")
    elif not heard:
        out.point("lists", "Blocklists", CheckState.UNMEASURED, "No list gave a usable answer")
    else:
        listed = sum(answer.state is ListState.LISTED for answer in heard)
        zones = len({answer.list.zone for answer in heard})
        said = f"{listed} listing{'' if listed == 1 else 's'} on {zones} list{'' if zones == 1 else 's'}"
        out.point("lists", "Blocklists", CheckState.GOOD, said)
    return out


def _subjects(request: AuditRequest, kind: str) -> tuple[str, ...]:
    if kind == "domain":
        return (request.domain,)
    return request.all_ips()[:_MAX_SUBJECTS]


def _listed(answer: ListAnswer) -> Finding:
    codes = tuple(f"{code}: {meaning}" if meaning else code for code, meaning in answer.codes)
    return Finding(
        rule="listed-domain" if answer.list.kind == "domain" else "listed-ip",
        level=Level.FAULT,
        title=f"{answer.subject} is on the list {answer.list.name}",
        place=Place(answer.list.zone, "A"),
        topic=answer.subject,
        evidence=codes + ((answer.text,) if answer.text else ()),
        reason="Receivers that use this list reject the mail or send it to spam.",
        remedy="Find and stop the mail that caused the listing first; then request delisting.",
        reference="RFC 5782 §2.1",
    )


def _unusable(answer: ListAnswer) -> Finding:
    return Finding(
        rule="listed-useless",
        level=Level.NOTE,
        title=f"The list {answer.list.name} {_USELESS[answer.state]}",
        place=Place(answer.list.zone, "A"),
        evidence=(answer.detail, *(f"{code} {meaning}".strip() for code, meaning in answer.codes)),
        reason="Its answers mean nothing, so it was ignored.",
        remedy="Query it through your own resolver, or remove it from the settings.",
        reference="RFC 5782 §5",
        scope="none",
    )
