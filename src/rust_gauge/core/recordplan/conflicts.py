"""What may stand together at one name: one SPF record (RFC 7208 §4.5), and nothing beside a CNAME (RFC 1034 §3.6.2)."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

from rust_gauge.core.recordplan.record import PlannedRecord, Purpose
from rust_gauge.core.spf import correct

Conflict = tuple[str, str, str]  # title, why, name


def one_each(planned: Iterable[PlannedRecord]) -> tuple[tuple[PlannedRecord, ...], list[Conflict]]:
    """Return the records that can be published together, and what could not stay.

    Equal records are one. Several SPF records of a name are merged. Of a CNAME and other records at its name the first
    that was planned stays.
    """
    unique = list({(r.name, r.rdtype, r.value, r.purpose): r for r in planned}.values())
    by_name: dict[str, list[PlannedRecord]] = {}
    for record in unique:
        by_name.setdefault(record.name, []).append(record)
    out: list[PlannedRecord] = []
    conflicts: list[Conflict] = []
    for name, records in by_name.items():
        kept, left = _beside_cname(records)
        for record in left:
            title = f"{name} cannot hold the {record.rdtype} record of {record.relay or record.purpose} as well"
            there = f"{kept[0].relay or kept[0].purpose} needs {kept[0].rdtype} there"
            why = f"A CNAME must be alone at its name, and {there}. Give one of the relays another label"
            conflicts.append((title, why, name))
        out += _one_spf(kept)
        relays = list(dict.fromkeys(r.relay for r in kept if r.purpose is Purpose.RETURN_PATH))
        if len(relays) > 1 and len({r.value for r in kept if r.purpose is Purpose.RETURN_PATH}) > 1:
            title = f"{' and '.join(relays)} share the return path {name}"
            why = "A bounce may reach the MX of the other relay and be lost. Give one of them another label"
            conflicts.append((title, why, name))
    order = {id(record): n for n, record in enumerate(unique)}
    return tuple(sorted(out, key=lambda record: order.get(id(record), _place(record, unique)))), conflicts


def _place(record: PlannedRecord, unique: Sequence[PlannedRecord]) -> int:
    """Return the place of a merged record: that of the first of those it was made from."""
    return next(n for n, each in enumerate(unique) if (each.name, each.purpose) == (record.name, record.purpose))


def _beside_cname(records: list[PlannedRecord]) -> tuple[list[PlannedRecord], list[PlannedRecord]]:
    if not any(record.rdtype == "CNAME" for record in records) or len(records) == 1:
        return records, []
    if records[0].rdtype == "CNAME":
        return records[:1], records[1:]
    return [r for r in records if r.rdtype != "CNAME"], [r for r in records if r.rdtype == "CNAME"]


def _one_spf(records: list[PlannedRecord]) -> list[PlannedRecord]:
    spf = [record for record in records if record.purpose in (Purpose.SPF, Purpose.HELO) and record.rdtype == "TXT"]
    if len(spf) < 2:
        return records
    merged = correct([record.value for record in spf])
    if merged is None:
        return [record for record in records if record not in spf[1:]]
    why = "; ".join(dict.fromkeys(record.why for record in spf))
    one = replace(spf[0], value=merged.text, why=why)
    return [one if record is spf[0] else record for record in records if record not in spf[1:]]
