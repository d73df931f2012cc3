"""Which troubles are one incident: a broken key and the mail that fails by it are told once, and mended once."""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from rust_gauge.core.worklist.trouble import Trouble

_PROVES = ("dkim-", "spf-", "dmarc-", "stream-")  # rules whose faults make authentication or alignment fail
_MOST_EVIDENCE = 14


def join(found: Iterable[Trouble], causes: Mapping[str, Sequence[str]]) -> list[Trouble]:
    """One trouble for each incident. `causes`: the causes of events by the factor that they pull.

    Two of the same key are one. Failing authentication belongs to the domain's fault in SPF, DKIM, DMARC or of a
    stream, whose record mends it; a stream that is not aligned belongs to the fault of the record that proves nothing;
    a new reply to the pull of its cause; a changed record to the fault, or the failing authentication, of its domain.
    What is joined leaves its key in `parts`.
    """
    by_key: dict[str, Trouble] = {}
    for each in found:
        known = by_key.get(each.key)
        by_key[each.key] = each if known is None else _into(each, known)
    pulls = [each.key for each in by_key.values() if each.kind == "pull"]
    own: dict[str, list[str]] = defaultdict(list)
    for each in by_key.values():
        if each.subject == "domain":
            own[each.name].append(each.key)
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


def _incident_of(part: Trouble, others: Sequence[Trouble], causes: Mapping[str, Sequence[str]]) -> Trouble | None:
    """Find the trouble that one belongs to, among those of its domain (for a reply: among all pulls)."""
    faults = [each for each in others if each.kind == "fault"]
    proves = [each for each in faults if each.topic.startswith(_PROVES)]
    records = [each for each in proves if not each.topic.startswith("stream-")]
    if part.kind == "pull" and part.topic == "authentication":
        return next(iter(records or proves), None)
    if part.kind == "fault" and part.topic.startswith("stream-"):
        return next(iter(records), None)
    if part.kind == "reply":
        return next((each for each in others if part.topic in causes.get(each.topic, ())), None)
    if part.kind == "record":
        failing = [each for each in others if each.kind == "pull" and each.topic == "authentication"]
        return next(iter(proves or failing or faults), None)
    return None


def _into(part: Trouble, whole: Trouble) -> Trouble:
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
        measure=max(whole.measure, part.measure),
        parts=tuple(dict.fromkeys((*whole.parts, *part.parts, *([part.key] if part.key != whole.key else [])))),
        remeasure="audit" if "audit" in (whole.remeasure, part.remeasure) else whole.remeasure,
        record=whole.record or part.record,
    )
