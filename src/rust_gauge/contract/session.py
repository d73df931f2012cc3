"""Signing in, and tokens for programs."""

from typing import Literal

from pydantic import Field, SecretStr

from rust_gauge.contract.common import Model, UtcTime

Role = Literal["viewer", "operator", "admin"]


class SignIn(Model):
    """Email address and password."""

    email: str = Field(min_length=3, max_length=254, examples=["isla@skerry.example"])
    password: SecretStr = Field(min_length=1, max_length=200)


class TenantRef(Model):
    """A tenant that the user can see."""

    slug: str = Field(examples=["glasswort"])
    name: str = Field(examples=["Glasswort Theatre"])
    role: Role


class Who(Model):
    """The user, and the tenants that they can see."""

    name: str
    email: str
    tenants: list[TenantRef]


class NewToken(Model):
    """A token for a program, for one tenant or (without `tenant`) for all tenants of its owner."""

    name: str = Field(min_length=1, max_length=80, examples=["nightly import"])
    tenant: str | None = None
    expires_in_days: int | None = Field(None, ge=1, le=3650)


class Token(Model):
    """A token in a list, without its secret."""

    id: int
    name: str
    tenant: str | None = None
    created_at: UtcTime
    last_used_at: UtcTime | None = None
    expires_at: UtcTime | None = None


class MadeToken(Token):
    """A new token. Its secret is shown only once."""

    secret: str = Field(description="Returned only once; send it as `Authorization: Bearer ...`")
