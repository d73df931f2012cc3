"""One record that ought to be published, and the forms in which control panels want it typed.

Panels differ: some add the zone's name to the host by themselves, some want `@` for the zone itself, some want quotes
around text, some refuse them. Each form here is exactly what is to be pasted, without a blank around it.
"""

from dataclasses import dataclass
from enum import StrEnum

_STRING = 255  # octets in one string of a TXT record (RFC 1035 §3.3)


class Purpose(StrEnum):
    """What a record is for."""

    SPF = "spf"
    DKIM = "dkim"
    DMARC = "dmarc"
    MX = "mx"
    RETURN_PATH = "return_path"
    TRACKING = "tracking"
    MTA_STS = "mta_sts"
    TLS_RPT = "tls_rpt"
    HELO = "helo"
    PTR = "ptr"
    PROOF = "proof"


@dataclass(frozen=True, slots=True)
class PlannedRecord:
    """A record to publish. `name` and host names in `value` are A-labels in lower case without the last dot.

    `value` is the text of a TXT record, the host of a CNAME, MX or PTR, the address of an A or AAAA; empty where it
    is not known yet (`waits_for` says what is missing). `elsewhere` is True for records outside the domain's own
    zone, which somebody else has to publish: reverse DNS, or names of a relay.
    """

    purpose: Purpose
    zone: str
    name: str
    rdtype: str
    value: str
    priority: int | None = None
    ttl: int = 3600
    why: str = ""
    relay: str = ""
    waits_for: str = ""
    elsewhere: bool = False

    @property
    def key(self) -> str:
        """Stable while the plan stays the same in kind: what it is for, where, and which of several."""
        more = f" {self.value}" if self.rdtype in ("MX", "A", "AAAA") else ""
        return f"{self.purpose} {self.name} {self.rdtype}{more}"


@dataclass(frozen=True, slots=True)
class HostForms:
    """A host as panels want it: within the zone (`@` for the zone itself, or nothing), and whole, with the dot."""

    relative: str
    relative_or_blank: str
    full: str
    full_with_dot: str


def host_forms(name: str, zone: str) -> HostForms:
    """Return the forms of a host. One that is not in the zone has only the full ones."""
    if name == zone:
        return HostForms("@", "", name, f"{name}.")
    inside = name.removesuffix(f".{zone}")
    return HostForms(inside, inside, name, f"{name}.")


def quoted(text: str) -> str:
    """Text as a zone file has it (RFC 1035 §5.1): strings of at most 255 octets in quotes, with a blank between."""
    octets = text.encode("utf-8")
    parts = [octets[start : start + _STRING] for start in range(0, len(octets), _STRING)] or [b""]
    return " ".join('"' + "".join(_escaped(octet) for octet in part) + '"' for part in parts)


def _escaped(octet: int) -> str:
    if octet in b'"\\':
        return "\\" + chr(octet)
    return chr(octet) if 32 <= octet < 127 else f"\\{octet:03d}"


@dataclass(frozen=True, slots=True)
class ValueForms:
    """A value as panels want it. For text `quoted` is split at 255 octets; for a host it ends in a dot."""

    plain: str
    quoted: str
    with_priority: str  # for panels that have no field for it


def value_forms(record: PlannedRecord) -> ValueForms:
    """Return the forms of a record's value."""
    if record.rdtype == "TXT":
        return ValueForms(record.value, quoted(record.value), record.value)
    if record.rdtype in ("A", "AAAA"):
        return ValueForms(record.value, record.value, record.value)
    dotted = f"{record.value}." if record.value else "."
    lead = "" if record.priority is None else f"{record.priority} "
    return ValueForms(record.value or ".", dotted, f"{lead}{dotted}")


def zone_line(record: PlannedRecord) -> str:
    """One line of a zone file (RFC 1035 §5.1), with full names, so that it means the same under any $ORIGIN."""
    forms = value_forms(record)
    value = forms.quoted if record.rdtype == "TXT" else forms.with_priority
    return f"{record.name}. {record.ttl} IN {record.rdtype} {value}"
