"""Which incidents are one incident: a broken key and the mail that fails for it are one item."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from rust_gauge.core.worklist.incident import Incident

_PROVES = ("dkim-", "spf-", "dmarc-", "stream-")  # rules whose faults make authentication or alignment fail
_FAILS = (":broke", ":unaligned")  # sources of ours whose mail is not aligned
_MOST_EVIDENCE = 14  # lines; an item has to fit a screen and a mail


def join(found: Iterable[Incident], causes: Mapping[str, Sequence[str]]) -> list[Incident]:
    """One incident for each incident. `causes`: the causes of events by the factor that they pull.

    Two of the same key are one. Failing authentication belongs to the domain's fault in SPF, DKIM, DMARC or of a
    stream, whose record fixes it, if the stream whose mail fails uses that record; a stream that is not aligned
    belongs to the fault of the record that proves nothing; a new reply to the pull of its cause; a changed record to
    the fault, or the failing authentication, of its domain; test copies that land badly to what pulls the reading of
    their domain at the same provider; mail that receivers report as not aligned to the source of ours that fails, or
    to failing authentication. What is joined leaves its key in `parts`.
    """
    by_key: dict[str, Incident] = {}
    for incident in found:
        known = by_key.get(incident.key)
        by_key[incident.key] = incident if known is None else _into(incident, known)
    pulls = [incident.key for incident in by_key.values() if incident.kind == "pull"]
    own: dict[str, list[str]] = defaultdict(list)
    for incident in by_key.values():
        if incident.subject == "domain":
            for name in dict.fromkeys((incident.name, *incident.domains)):
                own[name].append(incident.key)
    for key in list(by_key):
        part = by_key[key]
        others = [by_key[other] for other in own[part.name] if other in by_key and other != key]
        if part.kind == "reply":
            others = [by_key[other] for other in pulls if other in by_key]
        into = _incident_of(part, others, causes)
        if into is not None:
            by_key[into.key] = _into(part, into)
            del by_key[key]
    return list(by_key.values())


def _incident_of(part: Incident, others: Sequence[Incident], causes: Mapping[str, Sequence[str]]) -> Incident | None:
    """Find the incident that one belongs to, among those of its domain (for a reply: among all pulls)."""
    faults = [other for other in others if other.kind == "fault"]
    proves = [fault for fault in faults if fault.topic.startswith(_PROVES)]
    if part.kind == "pull":
        proves = [fault for fault in proves if _concerns(fault, part)]
    records = [prove for prove in proves if not prove.topic.startswith("stream-")]
    if part.kind == "pull" and part.topic == "authentication":
        return next(iter(records or proves), None)
    if part.kind == "pull" and part.topic == "alignment":
        sources = [other for other in others if other.kind == "source" and other.key.endswith(_FAILS)]
        failing = [other for other in others if other.kind == "pull" and other.topic == "authentication"]
        return next(iter(sources or records or proves or failing), None)
    if part.kind == "fault" and part.topic.startswith("stream-"):
        return next(iter(records), None)
    if part.kind == "placement":
        pulls = [other for other in others if other.kind == "pull" and set(part.providers) & set(other.providers)]
        return next((pull for pull in pulls if pull.topic == "placement"), next(iter(pulls), None))
    if part.kind == "reply":
        return next((other for other in others if part.topic in causes.get(other.topic, ())), None)
    if part.kind == "record":
        failing = [other for other in others if other.kind == "pull" and other.topic == "authentication"]
        return next(iter(proves or failing or faults), None)
    return None


def _concerns(fault: Incident, pull: Incident) -> bool:
    """Return whether a fault is of a record that the stream whose mail fails uses. An unknown stream may use any."""
    if not pull.scopes:
        return True
    if fault.scopes and not any(scope == "all" or scope in pull.scopes for scope in fault.scopes):
        return False
    if fault.topic.startswith(("spf-", "dkim-")) and pull.places and fault.places:
        return any(place in pull.places for place in fault.places)
    return True


def _into(part: Incident, whole: Incident) -> Incident:
    """Add to the whole what the part knows more."""
    said = f"{part.title}: {part.text}" if part.key != whole.key else part.text
    evidence = dict.fromkeys((*whole.evidence, said, *part.evidence))
    return replace(
        whole,
        level=min(whole.level, part.level, key=lambda level: -level.urgency),
        since=min(whole.since, part.since),
        mail=max(whole.mail, part.mail),
        evidence=tuple(evidence)[:_MOST_EVIDENCE],
        domains=tuple(dict.fromkeys((*whole.domains, *part.domains))),
        providers=tuple(dict.fromkeys((*whole.providers, *part.providers))),
        measure=max(whole.measure, part.measure),
        parts=tuple(dict.fromkeys((*whole.parts, *part.parts, *([part.key] if part.key != whole.key else [])))),
        recheck="audit" if "audit" in (whole.recheck, part.recheck) else whole.recheck,
        record=whole.record or part.record,
    )
