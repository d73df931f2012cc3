"""Signing in, sessions, passwords and second factors of the person who asks."""

from typing import Annotated, Any, Literal

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


class Issuer(Model):
    """An OpenID Connect issuer of the service settings."""

    name: str = Field(examples=["office"])
    title: str = Field(examples=["Skerry ID"])


class SignInOptions(Model):
    """How people can sign in besides address and password."""

    passkey_origin: str = Field(
        "", description="Address of the console at which passkeys work; empty when `public_url` is not set to a name"
    )
    issuers: list[Issuer] = Field(default=[], description="OpenID Connect issuers")


class Passkey(Model):
    """A passkey of the user (WebAuthn). `synced`: the devices of its owner share it."""

    id: int
    name: str
    synced: bool
    created_at: UtcTime
    last_used_at: UtcTime | None = None


class PasskeyStart(Model):
    """The password, to add a passkey; empty for an account that has none."""

    password: SecretStr = Field(SecretStr(""), max_length=1024)


class PasskeyOptions(Model):
    """Options for the browser (Web Authentication Level 3, §5.4 and §5.5), valid for five minutes."""

    options: dict[str, Any]


Credential = Annotated[dict[str, Any], Field(max_length=20, description="PublicKeyCredential as JSON (§5.1)")]


class NewPasskey(Model):
    """What the authenticator made of the options."""

    name: str = Field(min_length=1, max_length=80, examples=["laptop"])
    credential: Credential


class PasskeySignIn(Model):
    """What the authenticator signed."""

    credential: Credential


class Identity(Model):
    """An account at an OpenID Connect issuer with which the user can sign in."""

    id: int
    issuer: str
    title: str
    email: str
    created_at: UtcTime
    last_used_at: UtcTime | None = None
