"""Calls of `client.tokens`."""

from rust_gauge.client.calls.call import Call, make_call
from rust_gauge.contract.common import Page
from rust_gauge.contract.tokens import MadeToken, NewToken, Rotation, Token


def list_tokens() -> Call[Page[Token]]:
    return make_call("GET", "/tokens", Page[Token])


def add_token(new: NewToken) -> Call[MadeToken]:
    return make_call("POST", "/tokens", MadeToken, new)


def rotate_token(id: int, rotation: Rotation) -> Call[MadeToken]:
    return make_call("POST", f"/tokens/{id}/rotation", MadeToken, rotation)


def delete_token(id: int) -> Call[None]:
    return make_call("DELETE", f"/tokens/{id}", type(None))
