"""Relays: paths by which mail leaves, the records that they need, and what they allow."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model

RelayName = Annotated[str, StringConstraints(min_length=1, max_length=60, pattern=r"^[^\s/][^/\x00-\x1f]*$")]
_Label = Annotated[str, StringConstraints(pattern=r"^[A-Za-z0-9_]([A-Za-z0-9_.-]{0,61}[A-Za-z0-9_])?$")]
_Name = Annotated[str, StringConstraints(max_length=253)]


class RelayHost(Model):
    """An address that mail leaves from, and its HELO name."""

    ip: str = Field(max_length=45, examples=["192.0.2.41"])
    helo: str = Field("", max_length=253, examples=["mta1.skerry.example"])


class RelayKey(Model):
    """A key that the relay signs with: a CNAME to the relay's own record, or a TXT record to copy."""

    selector: _Label
    type: Literal["CNAME", "TXT"] = "CNAME"
    value: str = Field("", max_length=4000, description="Target or record; may hold {domain} and {dashed}")


class RelayRecord(Model):
    """A host below the sending domain that belongs to the relay."""

    label: _Label = Field(examples=["bounce"])
    type: Literal["CNAME", "MX"] = "CNAME"
    value: _Name = Field(min_length=1, description="Target; may hold {domain} and {dashed}")
    priority: int = Field(10, ge=0, le=65535, description="For MX")
    spf: str = Field("", max_length=1000, description="SPF record of an MX host; empty: made from the include")


class RelayInbound(Model):
    """A host that receives mail for the domain."""

    priority: int = Field(10, ge=0, le=65535)
    host: _Name = Field(min_length=1)


class RelayLimit(Model):
    """Sending limits of the relay. Empty: not known."""

    region: str = Field("", max_length=60)
    per_hour: int | None = Field(None, ge=0)
    per_day: int | None = Field(None, ge=0)
    trial: bool = Field(False, description="Sandbox: only verified recipients may be mailed")


class RelayLines(Model):
    """The relay's own rates at which it warns and stops, as fractions. Empty: the defaults."""

    bounce_watch: float | None = Field(None, ge=0, le=1, examples=[0.05])
    bounce_stop: float | None = Field(None, ge=0, le=1, examples=[0.1])
    complaint_watch: float | None = Field(None, ge=0, le=1, examples=[0.001])
    complaint_stop: float | None = Field(None, ge=0, le=1, examples=[0.005])


class RelayDescription(Model):
    """The description of a relay: what it is, which records it needs, what it allows."""

    own: bool = Field(False, description="Own MTA; otherwise an external service")
    hosts: list[RelayHost] = Field(default=[], max_length=200)
    include: _Name = Field("", description="Target of the SPF include")
    networks: list[Annotated[str, StringConstraints(max_length=49)]] = Field(default=[], max_length=200)
    dkim: list[RelayKey] = Field(default=[], max_length=20)
    return_path: RelayRecord | None = None
    tracking: RelayRecord | None = None
    inbound: list[RelayInbound] = Field(default=[], max_length=20)
    limits: list[RelayLimit] = Field(default=[], max_length=50)
    lines: RelayLines = RelayLines()
    note: str = Field("", max_length=2000)


class Relay(RelayDescription):
    """A relay of a tenant. One that appears only in events is not `described` yet."""

    name: str
    described: bool
    domains: list[str] = Field(default=[], description="Sending domains with a stream over this relay")
