"""`client.tokens`: API tokens for programs."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence

from rust_gauge.client.calls import tokens as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.session import MadeToken, NewToken, Token


class Tokens(Part):
    """API tokens for programs."""

    def list(self) -> Sequence[Token]:
        """Return the tokens of your account."""
        return (self._client.send(calls.list_tokens())).items

    def add(self, name: str, *, tenant: str | None = None, expires_in_days: int | None = None) -> MadeToken:
        """Create a token. Its `secret` is in this answer only."""
        new = NewToken.model_construct(name=name, tenant=tenant, expires_in_days=expires_in_days)
        return self._client.send(calls.add_token(new))

    def delete(self, id: int) -> None:
        """Revoke a token. It stops working at once."""
        self._client.send(calls.delete_token(id))
