"""Signing in, and tokens for programs."""

from typing import Literal

from pydantic import Field, SecretStr

from rust_gauge.contract.common import Model, UtcTime

Role = Literal["viewer", "operator", "admin"]


class SignIn(Model):
    """What a person types."""

    email: str = Field(min_length=3, max_length=254, examples=["isla@skerry.example"])
    password: SecretStr = Field(min_length=1, max_length=200)


class TenantRef(Model):
    """A tenant that one may see."""

    slug: str = Field(examples=["glasswort"])
    name: str = Field(examples=["Glasswort Theatre"])
    role: Role


class Who(Model):
    """Who is asking, and for which tenants they may."""

    name: str
    email: str
    tenants: list[TenantRef]


class NewToken(Model):
    """A token for a program, for one tenant or (without `tenant`) for all that its maker may see."""

    name: str = Field(min_length=1, max_length=80, examples=["nightly import"])
    tenant: str | None = None
    expires_in_days: int | None = Field(None, ge=1, le=3650)


class Token(Model):
    """A token as it is listed; the secret itself is shown once, when it is made."""

    id: int
    name: str
    tenant: str | None = None
    created_at: UtcTime
    last_used_at: UtcTime | None = None
    expires_at: UtcTime | None = None


class MadeToken(Token):
    """A token just made."""

    secret: str = Field(description="Returned only once; send it as `Authorization: Bearer ...`")
