"""Readings, and the wall that shows them all."""

from datetime import date
from typing import Literal

from pydantic import Field

from rust_gauge.contract.common import Model, UtcTime

Condition = Literal["sound", "tarnished", "corroded", "seized"]


class Pull(Model):
    """What one factor at one provider takes off a reading."""

    factor: str = Field(examples=["complaints"])
    provider: str
    label: str
    points: float
    rate: float
    low: float
    high: float
    watch: float
    stop: float


class Reading(Model):
    """One day's reading: 100 minus its pulls. Without `value` there was too little mail to say."""

    day: date
    value: float | None
    margin: float | None
    condition: Condition | None
    mail: float = Field(description="Messages it rests on, recent ones counting most")
    provisional: bool = Field(description="The day is not over")
    pulls: list[Pull]


class ReadingSeries(Model):
    """Readings of one domain, overall or at one provider, a day each."""

    tenant: str
    domain: str
    provider: str
    label: str
    computed_at: UtcTime | None
    readings: list[Reading]


class WallCell(Model):
    """A crossing on the wall: the newest reading, and how it came there."""

    provider: str
    value: float | None
    margin: float | None
    condition: Condition | None
    trend: list[float | None]


class WallRow(Model):
    """One domain."""

    tenant: str
    tenant_name: str
    domain: str
    delivered: int
    cells: list[WallCell]
    heaviest: Pull | None = None
    lacks: list[str] = Field(default=[], description="Streams whose From is not proven or not aligned, in words")
    faults: int | None = Field(None, description="Faults in the newest audit; absent where there was none")
    fault: str | None = Field(None, description="The first of them, in words")
    remedy: str | None = None
    record: str | None = Field(None, description="The record that mends it, where one can be given")


class WallColumn(Model):
    """One mailbox provider, or all, or the rest."""

    provider: str
    label: str


class Wall(Model):
    """Domains as rows, providers as columns."""

    day: date
    days: int
    columns: list[WallColumn]
    rows: list[WallRow]
