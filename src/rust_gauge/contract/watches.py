"""Propagation watches: how a change of records spreads over name servers and resolvers."""

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime


class WatchResolver(Model):
    """A resolver that watches ask beside the built-in ones. Only public addresses can be asked."""

    label: str = Field(min_length=1, max_length=60)
    address: str = Field(max_length=60, description="address or address:port", examples=["198.51.100.53"])


class WatchSettings(Model):
    """The resolvers that a tenant's watches ask. `given`: those of the service's own settings."""

    resolvers: list[WatchResolver] = Field(default=[], max_length=60)
    given: list[str] = []


class WatchRequest(Model):
    """What to watch: records of the plan by their key, or all of your own."""

    keys: list[Annotated[str, StringConstraints(max_length=600)]] = Field(default=[], max_length=200)
    hours: int = Field(48, ge=1, le=24 * 14, description="Maximum duration")


class WatchSighting(Model):
    """One record at one server. `until`: when an old answer expires at the latest."""

    key: str
    server: str
    holds: Literal["new", "old", "nothing", "failed"]
    values: list[str]
    until: UtcTime | None
    detail: str


class WatchedRecord(Model):
    """A watched record."""

    key: str
    name: str
    type: str
    value: str
    seen_by: int = Field(description="Servers that return it")
    asked: int


class WatchedServer(Model):
    """A server that is asked. `own`: a name server of the zone itself."""

    label: str
    address: str
    own: bool


class Watch(Model):
    """A watch and the result of its latest round. `all_by`: when every server has the records, if that is known."""

    id: int
    domain: str
    state: Literal["running", "agreed", "incomplete", "gave_up", "cancelled"]
    summary: str = Field(description="Status, as text")
    records: list[WatchedRecord]
    servers: list[WatchedServer]
    sightings: list[WatchSighting]
    rounds: int
    created_at: UtcTime
    looked_at: UtcTime | None
    next_at: UtcTime | None
    gives_up_at: UtcTime
    finished_at: UtcTime | None
    all_by: UtcTime | None
