"""`client.account`: your own account: sessions, password, second factor. Needs a session, but for preferences."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence
from typing import Any, Literal

from rust_gauge.client.calls import session as calls
from rust_gauge.client.synchronous.part import Part
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

    def preferences(self) -> Preferences:
        """Return your preferences. A token has those of the person who made it."""
        return self._client.send(calls.get_preferences())

    def set_preferences(self, preferences: Preferences) -> Preferences:
        """Replace your preferences."""
        return self._client.send(calls.set_preferences(preferences))

    def sessions(self) -> Sequence[SessionInfo]:
        """Return your sessions, the newest first."""
        return (self._client.send(calls.list_sessions())).items

    def end_session(self, id: int) -> None:
        """End one of your sessions."""
        self._client.send(calls.end_session(id))

    def end_other_sessions(self) -> Ended:
        """End all your sessions but this one."""
        return self._client.send(calls.end_other_sessions())

    def change_password(self, current: str, new: str, *, tokens: Literal["keep", "delete"]) -> PasswordChanged:
        """Set a new password; all other sessions end, and your tokens if you say so."""
        return self._client.send(calls.change_password(current, new, tokens))

    def second_factor(self) -> SecondFactor:
        """Return whether your account has a second factor."""
        return self._client.send(calls.get_second_factor())

    def start_second_factor(self) -> SecondFactorStart:
        """Make a secret for an authenticator app."""
        return self._client.send(calls.start_second_factor())

    def confirm_second_factor(self, code: str) -> RecoveryCodes:
        """Turn the second factor on with a code of the app."""
        return self._client.send(calls.confirm_second_factor(code))

    def remove_second_factor(self, password: str) -> None:
        """Turn the second factor off."""
        self._client.send(calls.remove_second_factor(password))

    def renew_recovery_codes(self, code: str) -> RecoveryCodes:
        """Replace the recovery codes."""
        return self._client.send(calls.renew_recovery_codes(code))

    def check_second_factor(self, code: str) -> None:
        """Enter a code in a session that was opened without one, for tenants that require it."""
        self._client.send(calls.check_second_factor(code))

    def sign_in_options(self) -> SignInOptions:
        """Return how people can sign in besides address and password. Needs no session."""
        return self._client.send(calls.get_sign_in_options())

    def start_passkey_sign_in(self) -> PasskeyOptions:
        """Return what an authenticator has to sign to sign in. `client.sign_in_with_passkey` takes its answer."""
        return self._client.send(calls.start_passkey_sign_in())

    def passkeys(self) -> Sequence[Passkey]:
        """Return your passkeys."""
        return (self._client.send(calls.list_passkeys())).items

    def start_passkey(self, password: str) -> PasskeyOptions:
        """Return what an authenticator needs to make a passkey."""
        return self._client.send(calls.start_passkey(password))

    def add_passkey(self, name: str, credential: dict[str, Any]) -> Passkey:
        """Add a passkey that an authenticator has made."""
        return self._client.send(calls.add_passkey(name, credential))

    def delete_passkey(self, id: int) -> None:
        """Delete a passkey: nobody can sign in with it any more."""
        self._client.send(calls.delete_passkey(id))

    def identities(self) -> Sequence[Identity]:
        """Return the accounts at OpenID Connect issuers with which you can sign in."""
        return (self._client.send(calls.list_identities())).items

    def delete_identity(self, id: int) -> None:
        """Unlink an account at an issuer."""
        self._client.send(calls.delete_identity(id))
