"""`client.account`: your own account: sessions, password, second factor. Needs a session; a token cannot do this."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence
from typing import Literal

from rust_gauge.client.calls import session as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.session import (
    Ended,
    PasswordChanged,
    RecoveryCodes,
    SecondFactor,
    SecondFactorStart,
    SessionInfo,
)


class Account(Part):
    """Your own account."""

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
