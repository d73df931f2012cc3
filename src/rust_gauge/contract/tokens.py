"""API tokens for programs."""

from typing import Annotated

from pydantic import Field, StringConstraints

from rust_gauge.contract.common import Model, UtcTime

Scope = Annotated[str, StringConstraints(pattern=r"^[a-z]{2,20}:(read|write)$")]
Network = Annotated[str, StringConstraints(min_length=2, max_length=49)]
Days = Annotated[int, Field(ge=1, le=3650)]


class NewToken(Model):
    """A token for a program. Empty lists do not limit it: then it may do what you may, everywhere."""

    name: str = Field(min_length=1, max_length=80, examples=["nightly import"])
    tenants: list[Annotated[str, StringConstraints(max_length=40)]] = Field(
        default=[], max_length=200, examples=[["glasswort"]]
    )
    scopes: list[Scope] = Field(
        default=[], max_length=60, examples=[["events:write", "suppression:read"]],
        description="capability:read or capability:write, which includes reading",
    )  # fmt: skip
    networks: list[Network] = Field(
        default=[], max_length=50, examples=[["192.0.2.0/24"]], description="Addresses or networks it may be used from"
    )
    expires_in_days: Days | None = Field(90, description="null: never")


class Rotation(Model):
    """A new secret for a token; the one before stays valid for a while."""

    overlap_hours: int = Field(24, ge=0, le=24 * 30)
    expires_in_days: Days | None = Field(90, description="null: never")


class Token(Model):
    """A token in a list, without its secret."""

    id: int
    name: str
    tenants: list[str] = Field(default=[], description="Empty: all of yours")
    scopes: list[str] = []
    networks: list[str] = []
    created_at: UtcTime
    expires_at: UtcTime | None = None
    last_used_at: UtcTime | None = None
    last_used_address: str = ""
    refused_at: UtcTime | None = Field(None, description="When it was last used from outside its networks")
    refused_address: str = ""
    previous_until: UtcTime | None = Field(None, description="Until when the secret before the last rotation is valid")


class MadeToken(Token):
    """A new token. Its secret is shown only once."""

    secret: str = Field(description="Returned only once; send it as `Authorization: Bearer ...`")
