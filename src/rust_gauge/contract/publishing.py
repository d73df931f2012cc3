"""Publishing a plan by dynamic update (RFC 2136): where, what would change, what was changed."""

from typing import Annotated, Literal

from pydantic import Field, SecretStr, StringConstraints

from rust_gauge.contract.common import Model, UtcTime

Algorithm = Literal["hmac-sha256", "hmac-sha384", "hmac-sha512"]


class NewUpdateServer(Model):
    """The primary server of a zone, and the TSIG key that may change it."""

    address: str = Field(max_length=60, description="address or address:port", examples=["192.0.2.53"])
    key_name: str = Field(min_length=1, max_length=253, examples=["rust-gauge.glasswort.example"])
    algorithm: Algorithm = "hmac-sha256"
    secret: SecretStr = Field(max_length=500, description="Base64; stored encrypted and never returned")
    overlap_hours: int = Field(
        0, ge=0, le=24 * 30,
        description="How long the key before is still tried when the server does not know the new one yet",
    )  # fmt: skip


class UpdateServer(Model):
    """A zone that can be changed. The secret is not shown."""

    zone: str
    address: str
    key_name: str
    algorithm: Algorithm
    previous_until: UtcTime | None = Field(None, description="Until when the key before is tried as well")


class ZoneChangeRequest(Model):
    """Records of the plan to publish (without `keys`: all of your own), and the digest of the preview."""

    keys: list[Annotated[str, StringConstraints(max_length=600)]] = Field(default=[], max_length=200)
    digest: str = Field("", max_length=64)


class RrsetChange(Model):
    """One record set before and after, in zone file format."""

    name: str
    type: str
    ttl: int
    before_ttl: int
    before: list[str]
    after: list[str]


class ZoneChange(Model):
    """A preview of exactly what would change. It is applied only with its `digest`."""

    zone: str
    server: str
    changes: list[RrsetChange]
    obstacles: list[str] = Field(description="What cannot be changed, and why")
    digest: str


class Publication(Model):
    """A published change. `verified`: the server answers with it. It can be undone."""

    id: int
    domain: str
    zone: str
    state: Literal["applied", "rolled_back"]
    verified: bool
    changes: list[RrsetChange]
    made_at: UtcTime
    made_by: str
    rolled_back_at: UtcTime | None
