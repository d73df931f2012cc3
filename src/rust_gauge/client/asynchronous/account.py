"""`client.account`: your own account: sessions, password, second factor. Needs a session, but for preferences."""

from collections.abc import Sequence
from typing import Any, Literal

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import session as calls
from rust_gauge.contract.preferences import Preferences
from rust_gauge.contract.session import (
    Ended,
    Identity,
    Passkey,
    PasskeyOptions,
    PasswordChanged,
    RecoveryCodes,
    SecondFactor,
    SecondFactorStart,
    SessionInfo,
    SignInOptions,
)


class Account(Part):
    """Your own account."""

    async def preferences(self) -> Preferences:
        """Return your preferences. A token has those of the person who made it."""
        return await self._client.send(calls.get_preferences())

    async def set_preferences(self, preferences: Preferences) -> Preferences:
        """Replace your preferences."""
        return await self._client.send(calls.set_preferences(preferences))

    async def sessions(self) -> Sequence[SessionInfo]:
        """Return your sessions, the newest first."""
        return (await self._client.send(calls.list_sessions())).items

    async def end_session(self, id: int) -> None:
        """End one of your sessions."""
        await self._client.send(calls.end_session(id))

    async def end_other_sessions(self) -> Ended:
        """End all your sessions but this one."""
        return await self._client.send(calls.end_other_sessions())

    async def change_password(self, current: str, new: str, *, tokens: Literal["keep", "delete"]) -> PasswordChanged:
        """Set a new password; all other sessions end, and your tokens if you say so."""
        return await self._client.send(calls.change_password(current, new, tokens))

    async def second_factor(self) -> SecondFactor:
        """Return whether your account has a second factor."""
        return await self._client.send(calls.get_second_factor())

    async def start_second_factor(self) -> SecondFactorStart:
        """Make a secret for an authenticator app."""
        return await self._client.send(calls.start_second_factor())

    async def confirm_second_factor(self, code: str) -> RecoveryCodes:
        """Turn the second factor on with a code of the app."""
        return await self._client.send(calls.confirm_second_factor(code))

    async def remove_second_factor(self, password: str) -> None:
        """Turn the second factor off."""
        await self._client.send(calls.remove_second_factor(password))

    async def renew_recovery_codes(self, code: str) -> RecoveryCodes:
        """Replace the recovery codes."""
        return await self._client.send(calls.renew_recovery_codes(code))

    async def check_second_factor(self, code: str) -> None:
        """Enter a code in a session that was opened without one, for tenants that require it."""
        await self._client.send(calls.check_second_factor(code))

    async def sign_in_options(self) -> SignInOptions:
        """Return how people can sign in besides address and password. Needs no session."""
        return await self._client.send(calls.get_sign_in_options())

    async def start_passkey_sign_in(self) -> PasskeyOptions:
        """Return what an authenticator has to sign to sign in. `client.sign_in_with_passkey` takes its answer."""
        return await self._client.send(calls.start_passkey_sign_in())

    async def passkeys(self) -> Sequence[Passkey]:
        """Return your passkeys."""
        return (await self._client.send(calls.list_passkeys())).items

    async def start_passkey(self, password: str) -> PasskeyOptions:
        """Return what an authenticator needs to make a passkey."""
        return await self._client.send(calls.start_passkey(password))

    async def add_passkey(self, name: str, credential: dict[str, Any]) -> Passkey:
        """Add a passkey that an authenticator has made."""
        return await self._client.send(calls.add_passkey(name, credential))

    async def delete_passkey(self, id: int) -> None:
        """Delete a passkey: nobody can sign in with it any more."""
        await self._client.send(calls.delete_passkey(id))

    async def identities(self) -> Sequence[Identity]:
        """Return the accounts at OpenID Connect issuers with which you can sign in."""
        return (await self._client.send(calls.list_identities())).items

    async def delete_identity(self, id: int) -> None:
        """Unlink an account at an issuer."""
        await self._client.send(calls.delete_identity(id))
