"""The plan beside what is published: each record's state, how it differs, why it probably does, and where it went.

Asks the zone's own servers when it is given their addresses, else the resolver. What is not at its name is looked for
at the usual wrong ones (`places`). A server that does not answer never makes a record "missing".
"""

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from enum import StrEnum

from dns.rdata import Rdata
from dns.rdtypes.ANY.CNAME import CNAME
from dns.rdtypes.ANY.MX import MX
from dns.rdtypes.ANY.PTR import PTR
from dns.rdtypes.IN.A import A
from dns.rdtypes.IN.AAAA import AAAA

from rust_gauge.core.dkim import parse_dkim_key
from rust_gauge.core.dns import AnswerStatus, DnsAnswer, DnsProgram, DnsQuestion, TxtRecord, gather
from rust_gauge.core.recordplan.meaning import explain, is_meant_as, means_the_same
from rust_gauge.core.recordplan.places import WrongPlace, wrong_places
from rust_gauge.core.recordplan.plan import RecordPlan
from rust_gauge.core.recordplan.record import PlannedRecord, Purpose
from rust_gauge.core.recordplan.slips import Cause, Piece, differences, undo_slips
from rust_gauge.core.recordplan.targets import broken_target
from rust_gauge.core.spf import Directive, Qualifier, correct, is_spf1, parse_spf, walk_lookups

_DAY = 86_400
_CHANCE = "no-such-name-rg7"
_MAX_PARENTS = 8  # names below which a wildcard is looked for
_ALIKE = 0.85  # how like the planned value a text at a wrong name has to be
_MAX_SERVERS = 4  # authoritative servers asked for each record; one that lags shows among four


class State(StrEnum):
    """The state of a planned record.

    `dangling`: it is as planned, but what it points to does not exist; `unanswered`: nobody could be asked; `waiting`: its
    value is not known yet.
    """

    MATCHES = "matches"
    DIFFERS = "differs"
    DANGLING = "dangling"
    MISSING = "missing"
    MISPLACED = "misplaced"
    DUPLICATED = "duplicated"
    SPREADING = "spreading"
    UNANSWERED = "unanswered"
    WAITING = "waiting"


@dataclass(frozen=True, slots=True)
class Comparison:
    """One planned record beside what is published.

    `published` are the values at its name (of its kind); `found_at` is the wrong name that holds it, and `found_value`
    what stands there. `pieces` compares the closest value. `lacking` are the servers that do not have it.
    """

    record: PlannedRecord
    state: State
    published: tuple[str, ...] = ()
    causes: tuple[Cause, ...] = ()
    pieces: tuple[Piece, ...] = ()
    found_at: str = ""
    found_value: str = ""
    lacking: tuple[str, ...] = ()
    ttl: int | None = None
    detail: str = ""


def compare_plan(
    plan: RecordPlan, servers: Iterable[str] = (), selectors: tuple[str, ...] = ()
) -> DnsProgram[tuple[Comparison, ...]]:
    """Every record of a plan beside what is published. `servers` are addresses of the zone's own name servers."""
    own = tuple(servers)[:_MAX_SERVERS]
    wildcard = yield from _wildcards(plan, own[0] if own else "")
    return tuple((yield from gather([_compare(record, plan, own, selectors, wildcard) for record in plan.records])))


def _wildcards(plan: RecordPlan, server: str) -> DnsProgram[frozenset[str]]:
    """Return what names that cannot exist have, as "TYPE value": it says nothing about any name (RFC 4592)."""
    inside = [r.name.partition(".")[2] for r in plan.records if r.name.endswith(f".{plan.zone}")]
    parents = list(dict.fromkeys([plan.zone, plan.domain, *inside]))[:_MAX_PARENTS]
    questions = tuple(
        DnsQuestion(f"{_CHANCE}.{p}", rdtype, server) for p in parents for rdtype in ("TXT", "CNAME", "MX")
    )
    answers = yield questions
    found: set[str] = set()
    for question, answer in zip(questions, answers, strict=True):
        if not answer.aliases or question.rdtype == "CNAME":
            found |= {f"{question.rdtype} {_shown(rdata)}" for rdata in answer.records}
    return frozenset(found)


def _compare(
    record: PlannedRecord,
    plan: RecordPlan,
    servers: tuple[str, ...],
    selectors: tuple[str, ...],
    wildcard: frozenset[str],
) -> DnsProgram[Comparison]:
    asked = servers if servers and not record.elsewhere else ("",)
    answers = yield tuple(DnsQuestion(record.name, record.rdtype, server) for server in asked)
    if asked != ("",) and all(answer.status is AnswerStatus.NOT_HELD for answer in answers):
        asked = ("",)  # the zone's servers cannot be reached from here
        answers = yield (DnsQuestion(record.name, record.rdtype),)
    usable = [(server, answer) for server, answer in zip(asked, answers, strict=True) if not answer.failed]
    if not usable:
        return Comparison(record, State.UNANSWERED, detail=answers[0].detail or str(answers[0].status))
    if record.waits_for:
        found = _values(record, usable[0][1])
        keys = [parse_dkim_key(text) for text in found] if record.purpose is Purpose.DKIM else []
        if len(keys) == 1 and keys[0].usable:
            taken = Cause("taken-as-it-is", "a usable key is published, and the plan keeps it")
            return Comparison(record, State.MATCHES, found, (taken,), ttl=usable[0][1].ttl)
        return Comparison(record, State.WAITING, found, detail=f"The plan still needs {record.waits_for}")
    judged = [(server, judge(record, answer, plan)) for server, answer in usable]
    right = [comparison for _, comparison in judged if comparison.state is State.MATCHES]
    lacking = tuple(server for server, comparison in judged if comparison.state is not State.MATCHES)
    if right and lacking:
        behind = next(comparison for _, comparison in judged if comparison.state is not State.MATCHES)
        detail = f"{len(right)} of {len(judged)} name servers of the zone have it"
        return replace(behind, state=State.SPREADING, lacking=lacking, detail=detail)
    verdict = judged[0][1]
    if verdict.state in (State.DIFFERS, State.DUPLICATED) and _by_wildcard(usable[0][1], wildcard):
        return Comparison(record, State.MISSING, causes=(_WILDCARD,), ttl=usable[0][1].ttl)
    if verdict.state is State.MATCHES:
        return (yield from check_target(verdict))
    if record.purpose is Purpose.SPF and verdict.state in (State.DIFFERS, State.DUPLICATED):
        verdict = yield from _with_merge(verdict)
    if verdict.state in (State.MISSING, State.DIFFERS):
        verdict = yield from _look_around(record, verdict, plan, asked[0], selectors, wildcard)
    return verdict


_WILDCARD = Cause("wildcard", "a wildcard answers for this name: publish the record at the name itself")


def _with_merge(verdict: Comparison) -> DnsProgram[Comparison]:
    """Report senders that published SPF records authorise and the planned one does not, with the merged record.

    Only then is the record old: what works today is somebody's mail.
    """
    record = verdict.record
    published = [term for value in verdict.published if is_spf1(value) for term in parse_spf(value).directives]
    planned = {term.text.lower().lstrip("+") for term in parse_spf(record.value).directives}
    others: list[str] = []
    for term in published:
        known = term.text.lower().lstrip("+") in planned or _listed(term, record.value) or term.text in others
        if known or term.mechanism == "all" or term.qualifier is not Qualifier.PASS:
            continue
        tree = yield from walk_lookups(record.name, parse_spf(f"v=spf1 {term.text} -all"))
        if tree.networks or any(node.networks for node in tree.flat()):
            others.append(term.text)
    merged = correct([record.value, " ".join(["v=spf1", *others, record.value.split()[-1]])]) if others else None
    if merged is None or merged.left_out:
        return verdict
    text = (
        f"the published record also authorises {', '.join(others)}, which the plan does not know. "
        f"If they send, publish the merged record: {merged.text}"
    )
    kept = [cause for cause in verdict.causes if cause.key not in ("old-record", "other-text")]
    return replace(verdict, causes=(*kept, Cause("other-senders", text)))


def check_target(verdict: Comparison) -> DnsProgram[Comparison]:
    """Return a record that matches, unless what it points to does not exist."""
    found = yield from broken_target(verdict.record, verdict.published)
    if found is None:
        return verdict
    if found.key == "target-unknown":
        return replace(verdict, causes=(*verdict.causes, found))
    return replace(verdict, state=State.DANGLING, causes=(*verdict.causes, found))


def _by_wildcard(answer: DnsAnswer, wildcard: frozenset[str]) -> bool:
    """Return whether all records of a name are what a name that cannot exist has too."""
    shown = [f"{answer.question.rdtype} {_shown(rdata)}" for rdata in answer.records]
    return bool(shown) and all(text in wildcard for text in shown)


def _values(record: PlannedRecord, answer: DnsAnswer) -> tuple[str, ...]:
    return tuple(_shown(rdata) for rdata in answer.records)


def _shown(rdata: Rdata) -> str:
    if hasattr(rdata, "strings"):
        return TxtRecord(rdata.strings).text
    return _host_of(rdata) if not isinstance(rdata, MX) else f"{rdata.preference} {_host_of(rdata)}"


def _host_of(rdata: Rdata) -> str:
    if isinstance(rdata, MX):
        return rdata.exchange.to_text(omit_final_dot=True).lower()
    if isinstance(rdata, CNAME | PTR):
        return rdata.target.to_text(omit_final_dot=True).lower()
    return rdata.to_text()


def judge(record: PlannedRecord, answer: DnsAnswer, plan: RecordPlan) -> Comparison:
    """Compare a record with the answer at its own name."""
    if record.rdtype == "TXT":
        return _judge_text(record, answer, plan)
    if record.rdtype == "MX":
        return _judge_mx(record, answer, plan)
    return _judge_host(record, answer)


# Text


def _judge_text(record: PlannedRecord, answer: DnsAnswer, plan: RecordPlan) -> Comparison:
    texts = [txt for txt in answer.texts if is_meant_as(record, txt.text)]
    values = tuple(txt.text for txt in texts)
    alias = _alias(record, answer)
    if not texts:
        return Comparison(record, State.MISSING, causes=alias, ttl=answer.ttl)
    right = [text for text in values if means_the_same(record, text)]
    if len(texts) > 1:
        return _several(record, values, right, answer)
    if right:
        return Comparison(
            record, State.MATCHES, values, causes=(*alias, *_notes(record, texts[0], answer)), ttl=answer.ttl
        )
    causes, pieces = diagnose(record, texts[0], plan)
    return Comparison(record, State.DIFFERS, values, (*alias, *causes), pieces, ttl=answer.ttl)


def _listed(term: Directive, planned: str) -> bool:
    """Return whether the planned record authorises the network of a term anyhow."""
    network = term.network
    if network is None:
        return False
    known = [other.network for other in parse_spf(planned).directives if other.qualifier is Qualifier.PASS]
    return any(n is not None and n.version == network.version and network.subnet_of(n) for n in known)  # type: ignore[arg-type]


def _alias(record: PlannedRecord, answer: DnsAnswer) -> tuple[Cause, ...]:
    if not answer.aliases or record.rdtype == "CNAME":
        return ()
    text = f"the name is a CNAME to {answer.aliases[0]}; other records cannot coexist with it: remove the CNAME first"
    return (Cause("cname-in-the-way", text),)


def _several(record: PlannedRecord, values: tuple[str, ...], right: list[str], answer: DnsAnswer) -> Comparison:
    what = {Purpose.SPF: "SPF records", Purpose.DMARC: "DMARC records", Purpose.DKIM: "keys"}.get(
        record.purpose, "records"
    )
    if record.purpose is Purpose.PROOF and right:
        return Comparison(record, State.MATCHES, values, ttl=answer.ttl)
    for one in values:
        for other in values:
            if one is not other and not right and means_the_same(record, one + other):
                cause = Cause(
                    "split-over-records", "the value was split over two records; it belongs in one, as two strings"
                )
                return Comparison(
                    record, State.DIFFERS, values, (cause,), differences(record.value, one), ttl=answer.ttl
                )
    if right:
        old = next(value for value in values if value not in right)
        cause = Cause("old-record", f"the planned record is published, but an older one must be removed: {old[:80]}")
    elif record.purpose is Purpose.SPF:
        cause = Cause(
            "several-spf",
            "several SPF records are a permanent error (RFC 7208 §4.5): replace all of them with this one",
        )
    else:
        cause = Cause(
            "several",
            f"{len(values)} {what} are published, none of them planned: replace all of them with this one",
        )
    closest = (
        right[0] if right else max(values, key=lambda value: SequenceMatcher(None, record.value, value).quick_ratio())
    )
    return Comparison(record, State.DUPLICATED, values, (cause,), differences(record.value, closest), ttl=answer.ttl)


def _notes(record: PlannedRecord, txt: TxtRecord, answer: DnsAnswer) -> Iterator[Cause]:
    """Yield what is no mistake and may still surprise."""
    if answer.ttl is not None and answer.ttl > _DAY:
        yield Cause(
            "ttl-long", f"its TTL is {answer.ttl} s: a change takes up to {answer.ttl // _DAY} days to take effect"
        )
    if txt.text != record.value:
        yield Cause("written-otherwise", "written differently, same meaning")


def diagnose(record: PlannedRecord, txt: TxtRecord, plan: RecordPlan) -> tuple[tuple[Cause, ...], tuple[Piece, ...]]:
    """Why one published text is not the planned one, and the two character by character."""
    text = txt.text
    pieces = differences(record.value, text)
    swapped = next((r for r in plan.records if _other_kind(r, record) and r.value == text), None)
    if swapped is not None:
        return (Cause("value-of-another", f"this is the value for {swapped.name}: the two were swapped"),), pieces
    cleaned, slips, solved = undo_slips(text, lambda candidate: means_the_same(record, candidate))
    if solved:
        return slips, pieces
    seam = _seam(record, txt)
    if seam:
        return (seam,), pieces
    found = list(explain(record, cleaned, text))
    if not found and not slips:
        found = [Cause("other-text", "differs from the planned text")]
    return (*slips, *found), pieces


def _other_kind(other: PlannedRecord, record: PlannedRecord) -> bool:
    """Return whether the value of the other one cannot rightly be that of this one too."""
    return (
        bool(other.value) and other.key != record.key and (other.purpose, record.purpose) != (Purpose.SPF, Purpose.SPF)
    )


def _seam(record: PlannedRecord, txt: TxtRecord) -> Cause | None:
    """Report a blank where two strings meet, or strings in another order."""
    strings = [string.decode("utf-8", "replace") for string in txt.strings]
    if len(strings) < 2:
        return None
    if means_the_same(record, "".join(part.strip() for part in strings)):
        column = len(strings[0])
        return Cause(
            "blank-at-seam", "a space is at the join of two strings: strings are joined without one", column, 1
        )
    if means_the_same(record, " ".join(strings)) or means_the_same(record, " ".join(part.strip() for part in strings)):
        return Cause(
            "seam-without-blank",
            "two strings are joined inside the text, so the space between them is lost",
            len(strings[0]) + 1,
            1,
        )
    if means_the_same(record, "".join(reversed(strings))):
        return Cause("strings-swapped", "the strings are in the wrong order", 1, len(strings[0]))
    return None


# Hosts


def _judge_host(record: PlannedRecord, answer: DnsAnswer) -> Comparison:
    kind: tuple[type, ...] = {"CNAME": (CNAME,), "PTR": (PTR,), "A": (A,), "AAAA": (AAAA,)}[record.rdtype]
    values = tuple(_host_of(rdata) for rdata in answer.records if isinstance(rdata, kind))
    if not values:
        return Comparison(record, State.MISSING, causes=_alias(record, answer), ttl=answer.ttl)
    if record.value in values:
        if len(values) > 1 and record.rdtype == "PTR":
            cause = Cause("old-record", f"{len(values)} names are published for the address; one is enough")
            return Comparison(record, State.DUPLICATED, values, (cause,), ttl=answer.ttl)
        notes = tuple(_host_notes(answer))
        return Comparison(record, State.MATCHES, values, (*_alias(record, answer), *notes), ttl=answer.ttl)
    causes = tuple(host_causes(record, values[0]))
    return Comparison(record, State.DIFFERS, values, causes, differences(record.value, values[0]), ttl=answer.ttl)


def _host_notes(answer: DnsAnswer) -> Iterator[Cause]:
    if answer.ttl is not None and answer.ttl > _DAY:
        yield Cause(
            "ttl-long", f"its TTL is {answer.ttl} s: a change takes up to {answer.ttl // _DAY} days to take effect"
        )


def host_causes(record: PlannedRecord, found: str) -> Iterator[Cause]:
    """Why a host is not the planned one."""
    planned, zone = record.value, record.zone
    plain = re.sub(r"\\032|\\ ", " ", found).replace("\\", "")
    bare = plain.strip().strip("\"'\u201c\u201d").strip()
    end = f".{zone}"
    tail = len(planned) + 1, len(end)
    if planned and found == f"{planned}{end}":
        yield Cause(
            "last-dot-missing", f"the panel appended {zone} to the target: end it with a dot, {planned}.", *tail
        )
    elif planned and found == f"{planned}.{record.name}":
        yield Cause(
            "last-dot-missing", f"the panel appended {record.name} to the target: end it with a dot, {planned}.", *tail
        )
    elif re.match(r"https?:", bare) or bare.startswith("//"):
        yield Cause("address-of-a-page", "this is a URL: use the host only", 1, len(found))
    elif found == record.name:
        yield Cause("points-to-itself", "it points to itself", 1, len(found))
    elif bare != plain and bare in (planned, f"{planned}{end}", f"{planned}."):
        blank = plain != plain.strip()
        what = "a space was pasted with the target" if blank else "quotes were pasted with the target"
        yield Cause("blank-in-target" if blank else "quotes-in-target", what, 1, 1)
    elif re.fullmatch(rf"\d+[\s.]+{re.escape(planned)}(?:{re.escape(end)})?", bare):
        yield Cause(
            "priority-in-target",
            "the priority was pasted into the target: it has its own field",
            1,
            bare.index(planned[0]),
        )
    elif re.fullmatch(r"\d+\.\d+\.\d+\.\d+", bare.removesuffix(end)):
        yield Cause("address-for-host", "an IP address instead of a host name", 1, len(found))
    elif not found or found == ".":
        yield Cause("null-target", "it points to nothing (a single dot)")
    elif bare.endswith(end) and SequenceMatcher(None, planned, bare.removesuffix(end)).ratio() > 0.85:
        yield Cause("last-dot-missing", f"the panel appended {zone} to the target, and the target is mistyped", *tail)
    elif planned.startswith(found + ".") or found.startswith(planned + "."):
        yield Cause("cut" if len(found) < len(planned) else "text-behind",
                    "the end of the target is missing" if len(found) < len(planned) else "extra text after the target",
                    min(len(found), len(planned)) + 1, 1)  # fmt: skip
    elif planned.endswith("." + found):
        yield Cause("front-missing", "the first label of the target is missing", 1, 1)
    elif SequenceMatcher(None, planned, found).ratio() > 0.85:
        at = next(
            (i for i, (a, b) in enumerate(zip(planned, found, strict=False)) if a != b), min(len(planned), len(found))
        )
        yield Cause("mistyped", f"the target is mistyped at character {at + 1}", at + 1, 1)
    else:
        yield Cause("other-target", f"it points to {found}: an older target, or that of another relay", 1, len(found))


def _judge_mx(record: PlannedRecord, answer: DnsAnswer, plan: RecordPlan) -> Comparison:
    found = [(rdata.preference, _host_of(rdata)) for rdata in answer.records if isinstance(rdata, MX)]
    values = tuple(f"{preference} {host or '.'}" for preference, host in found)
    wanted = {(r.priority, r.value) for r in plan.records if r.rdtype == "MX" and r.name == record.name}
    if not found:
        return Comparison(record, State.MISSING, causes=_alias(record, answer), ttl=answer.ttl)
    hosts = {host for _, host in wanted}
    others = [(preference, host) for preference, host in found if host not in hosts]
    shown = f"{record.priority} {record.value or '.'}"
    if (record.priority, record.value) in found or (
        not record.value and any(not host or host == "." for _, host in found)
    ):
        if others:
            host = others[0][1] or "."
            what = (
                "a null MX, which states that the domain accepts no mail"
                if host == "."
                else f"{host}, which is not planned: an older one"
            )
            cause = Cause("old-record", f"another MX is published: {what}")
            return Comparison(record, State.DUPLICATED, values, (cause,), ttl=answer.ttl)
        return Comparison(
            record, State.MATCHES, values, (*_alias(record, answer), *_host_notes(answer)), ttl=answer.ttl
        )
    for preference, host in found:
        if host == record.value:
            cause = Cause(
                "other-priority",
                f"its priority is {preference}, expected {record.priority}",
                1,
                len(str(preference)),
            )
            return Comparison(
                record, State.DIFFERS, values, (cause,), differences(shown, f"{preference} {host}"), ttl=answer.ttl
            )
    if not others:
        return Comparison(record, State.MISSING, values, ttl=answer.ttl)
    preference, host = max(others, key=lambda pair: SequenceMatcher(None, record.value, pair[1]).ratio())
    causes = tuple(host_causes(record, host))
    return Comparison(
        record, State.DIFFERS, values, causes, differences(shown, f"{preference} {host or '.'}"), ttl=answer.ttl
    )


# Elsewhere


def _look_around(
    record: PlannedRecord, verdict: Comparison, plan: RecordPlan, server: str, selectors: tuple[str, ...],
    wildcard: frozenset[str],
) -> DnsProgram[Comparison]:  # fmt: skip
    """Look for a record that is not at its name, or is not right there, at the usual wrong names and types."""
    places = wrong_places(record, plan.domain, selectors)
    taken = {(r.name, r.rdtype) for r in plan.records}
    places = tuple(place for place in places if (place.name, record.rdtype) not in taken or place.strict)
    answers = yield tuple(DnsQuestion(place.name, record.rdtype, server) for place in places) or (
        DnsQuestion(record.name, record.rdtype, server),
    )
    for place, answer in zip(places, answers, strict=False):
        value = _held_there(record, place, answer, plan, wildcard)
        if value is None:
            continue
        causes: tuple[Cause, ...] = (Cause(place.cause, place.text),)
        if record.rdtype == "TXT" and not means_the_same(record, value):
            more, _ = diagnose(record, TxtRecord((value.encode(),)), plan)
            causes += more
        if verdict.state is State.DIFFERS:
            return replace(verdict, causes=(*verdict.causes, Cause(place.cause, f"the planned one is at {place.name}: {place.text}")),
                           found_at=place.name, found_value=value)  # fmt: skip
        return replace(verdict, state=State.MISPLACED, causes=(*verdict.causes, *causes), found_at=place.name, found_value=value,
                       pieces=differences(record.value, value))  # fmt: skip
    if verdict.state is State.MISSING:
        return (yield from _other_types(record, verdict, server))
    return verdict


def _held_there(
    record: PlannedRecord, place: WrongPlace, answer: DnsAnswer, plan: RecordPlan, wildcard: frozenset[str]
) -> str | None:
    """Return the text at a wrong name if it is this record."""
    if answer.aliases and record.rdtype != "CNAME":
        return None
    if record.rdtype == "TXT":
        texts = [txt.text for txt in answer.texts if f"TXT {txt.text}" not in wildcard]
        exact = next((text for text in texts if means_the_same(record, text)), None)
        if exact is not None or place.strict:
            return exact
        others = {r.value for r in plan.records if r.key != record.key}
        for text in texts:
            if text in others or not is_meant_as(record, text):
                continue
            alike = len(text) > 20 and SequenceMatcher(None, record.value, text).ratio() >= _ALIKE
            if alike or undo_slips(text, lambda t: means_the_same(record, t))[2]:
                return text
        return None
    known = [r for r in answer.records if f"{answer.question.rdtype} {_shown(r)}" not in wildcard]
    hosts = [_host_of(rdata) for rdata in known if isinstance(rdata, MX | CNAME | PTR | A | AAAA)]
    return next((host for host in hosts if host in (record.value, f"{record.value}.{record.zone}")), None)


def _other_types(record: PlannedRecord, verdict: Comparison, server: str) -> DnsProgram[Comparison]:
    """Nothing of the right type anywhere: what else is there?"""
    types = {"TXT": ("SPF",), "CNAME": ("TXT", "A", "AAAA", "MX")}.get(record.rdtype, ("TXT", "CNAME"))
    if record.rdtype == "TXT" and record.purpose is not Purpose.SPF:
        types = ("A",)
    answers = yield tuple(DnsQuestion(record.name, rdtype, server) for rdtype in types)
    for rdtype, answer in zip(types, answers, strict=True):
        if not answer.records or (answer.aliases and rdtype != "CNAME"):
            continue
        shown = _values(record, answer)
        if rdtype == "SPF":
            cause = Cause("type-99", "it was published with the type SPF, which is obsolete (RFC 7208 §3.1): use TXT")
        elif rdtype == "TXT" and any(record.value.lower() in value.lower() for value in shown if record.value):
            cause = Cause("wrong-type", f"it was published as TXT: the type must be {record.rdtype}")
        elif rdtype == "CNAME":
            cause = Cause(
                "cname-in-the-way", f"the name is a CNAME to {shown[0]}; other records cannot coexist with it"
            )
        elif record.rdtype == "CNAME":
            cause = Cause(
                "other-data",
                f"{rdtype} records exist at the name: a CNAME cannot coexist with them, so remove them first",
            )
        else:
            continue
        return replace(verdict, state=State.DIFFERS, published=shown, causes=(*verdict.causes, cause))
    return verdict
