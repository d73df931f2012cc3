"""What has to change in a zone for the plan to be published: whole RRsets, before and after.

Only what is planned is touched. Other TXT records at a name stay, and so does everything at other names. What a change
cannot do safely (a CNAME beside other data) is said instead of done.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from dns.rdtypes.txtbase import TXTBase

from rust_gauge.core.dns import DnsAnswer, DnsProgram, DnsQuestion, TxtRecord
from rust_gauge.core.recordplan.meaning import is_meant_as, means_the_same
from rust_gauge.core.recordplan.record import PlannedRecord, quoted, value_forms


@dataclass(frozen=True, slots=True)
class RrsetChange:
    """One RRset (RFC 2181 §5). Values are in the form of a zone file; an empty `after` takes it away."""

    name: str
    rdtype: str
    ttl: int
    before: tuple[str, ...]
    before_ttl: int
    after: tuple[str, ...]

    def reversed(self) -> "RrsetChange":
        """Return the change that takes this one back."""
        return RrsetChange(self.name, self.rdtype, self.before_ttl, self.after, self.ttl, self.before)


@dataclass(frozen=True, slots=True)
class ZoneChange:
    """All changes, and what stands in the way of others."""

    changes: tuple[RrsetChange, ...]
    obstacles: tuple[str, ...] = ()


def plan_changes(records: Iterable[PlannedRecord], server: str) -> DnsProgram[ZoneChange]:
    """Compare the records with what `server` holds for the zone, and say what would change."""
    wanted: dict[tuple[str, str], list[PlannedRecord]] = {}
    for record in records:
        if not record.elsewhere and not record.waits_for:
            wanted.setdefault((record.name, record.rdtype), []).append(record)
    answers = yield tuple(DnsQuestion(name, rdtype, server) for name, rdtype in wanted) or (
        DnsQuestion("invalid", "SOA", server),
    )
    changes: list[RrsetChange] = []
    obstacles: list[str] = []
    for ((name, rdtype), group), answer in zip(wanted.items(), answers, strict=False):
        if answer.failed:
            obstacles.append(f"{name} {rdtype}: no response from the server ({answer.detail or answer.status})")
        elif answer.aliases and rdtype != "CNAME":
            obstacles.append(
                f"{name} is a CNAME to {answer.aliases[0]}: remove it first, other records cannot coexist with it"
            )
        else:
            if rdtype == "CNAME" and not answer.records:
                others = yield tuple(DnsQuestion(name, other, server) for other in ("TXT", "A", "AAAA", "MX"))
                if any(other.records and not other.aliases for other in others):
                    obstacles.append(
                        f"{name} has other records: a CNAME cannot coexist with them, so remove them first"
                    )
                    continue
            change = _change(name, rdtype, group, answer)
            changes += [change] if change else []
    return ZoneChange(tuple(changes), tuple(obstacles))


def _change(name: str, rdtype: str, group: list[PlannedRecord], answer: DnsAnswer) -> RrsetChange | None:
    before = tuple(sorted(rdata.to_text() for rdata in answer.records))  # servers give them in turning order
    if rdtype == "TXT":
        after = _texts(group, answer)
    elif rdtype == "MX":
        after = tuple(value_forms(record).with_priority for record in group)
    else:
        after = tuple(value_forms(record).quoted for record in group[:1])
    if {text.lower() for text in before} == {text.lower() for text in after} and (
        rdtype != "TXT" or set(before) == set(after)
    ):
        return None
    return RrsetChange(name, rdtype, group[0].ttl, before, answer.ttl or group[0].ttl, after)


def _texts(group: list[PlannedRecord], answer: DnsAnswer) -> tuple[str, ...]:
    """Join the planned texts and the other valid ones at the name; a text with the same meaning is kept."""
    kept: list[str] = []
    settled: set[str] = set()
    for rdata in answer.records:
        if not isinstance(rdata, TXTBase):
            continue
        text = TxtRecord(rdata.strings).text
        planned = next((r for r in group if r.key not in settled and means_the_same(r, text)), None)
        if planned is not None:
            settled.add(planned.key)
            kept.append(rdata.to_text())
        elif not any(is_meant_as(record, text) for record in group):
            kept.append(rdata.to_text())
    return tuple(sorted(kept) + [quoted(record.value) for record in group if record.key not in settled])
