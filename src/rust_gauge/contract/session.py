"""Signing in, sessions, passwords and second factors of the person who asks."""

from typing import Annotated, Literal

from pydantic import Field, SecretStr, StringConstraints

from rust_gauge.contract.common import Model, UtcTime

Role = Literal["viewer", "operator", "admin"]
Email = Annotated[str, StringConstraints(min_length=3, max_length=254, strip_whitespace=True)]
# 10 to 256 characters are asked for where one is set; what is tried may be anything, but not endless.
TriedPassword = Annotated[SecretStr, Field(min_length=1, max_length=1024)]


class SignIn(Model):
    """Email address and password, and the code of the second factor where there is one."""

    email: Email = Field(examples=["isla@skerry.example"])
    password: TriedPassword
    code: str = Field("", max_length=40, description="One-time code, or a recovery code")


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
    locked: list[TenantRef] = Field(
        default=[], description="Tenants that require a second factor, which this session lacks"
    )
    is_owner: bool = Field(False, description="Owner of the installation: manages tenants and people")
    second_factor: bool = Field(False, description="The session was opened with a second factor")


class SessionInfo(Model):
    """A session of the user. `address` and `agent` are those of its sign-in."""

    id: int
    created_at: UtcTime
    expires_at: UtcTime
    last_seen_at: UtcTime | None = None
    address: str = ""
    agent: str = ""
    second_factor: bool = False
    current: bool = Field(False, description="The session that asks")


class NewPassword(Model):
    """A new password: 10 to 256 characters, not easy to guess. All other sessions end."""

    current: TriedPassword
    new: TriedPassword
    tokens: Literal["keep", "delete"] = Field(description="What becomes of your API tokens")


class PasswordChanged(Model):
    """What ended with the old password."""

    sessions_ended: int
    tokens_deleted: int


class Ended(Model):
    """How many sessions were ended."""

    sessions_ended: int


class SecondFactor(Model):
    """One-time codes (RFC 6238) of the user."""

    enabled: bool
    recovery_codes: int = Field(0, description="Recovery codes that are left")
    required_by: list[str] = Field(default=[], description="Tenants of the user that require a second factor")


class SecondFactorStart(Model):
    """The secret for an authenticator app. It is in use once a code has been confirmed."""

    secret: str
    uri: str = Field(description="otpauth:// address, as in the QR code")
    qr: list[str] = Field(description="QR code: a row of 0 and 1 for each line")


class Code(Model):
    """A one-time code, or a recovery code."""

    code: str = Field(min_length=1, max_length=40)


class RecoveryCodes(Model):
    """Codes that replace a one-time code, each once. They are shown only now."""

    codes: list[str]


class Removal(Model):
    """The password, to turn the second factor off."""

    password: TriedPassword
