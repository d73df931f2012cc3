"""`client.tokens`: API tokens for programs."""

from collections.abc import Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import tokens as calls
from rust_gauge.contract.tokens import MadeToken, NewToken, Rotation, Token


class Tokens(Part):
    """API tokens for programs."""

    async def list(self) -> Sequence[Token]:
        """Return the tokens of your account; a token sees itself only."""
        return (await self._client.send(calls.list_tokens())).items

    async def add(
        self, name: str, *, tenants: Sequence[str] = (), scopes: Sequence[str] = (), networks: Sequence[str] = (),
        expires_in_days: int | None = 90,
    ) -> MadeToken:  # fmt: skip
        """Create a token, limited to these tenants, scopes and networks. Its `secret` is in this answer only."""
        new = NewToken(
            name=name, tenants=[*tenants], scopes=[*scopes], networks=[*networks], expires_in_days=expires_in_days
        )
        return await self._client.send(calls.add_token(new))

    async def rotate(self, id: int, *, overlap_hours: int = 24, expires_in_days: int | None = 90) -> MadeToken:
        """Give a token a new secret; the one before stays valid for `overlap_hours`."""
        rotation = Rotation(overlap_hours=overlap_hours, expires_in_days=expires_in_days)
        return await self._client.send(calls.rotate_token(id, rotation))

    async def delete(self, id: int) -> None:
        """Revoke a token. It stops working at once."""
        await self._client.send(calls.delete_token(id))
