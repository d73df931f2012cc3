"""Calls of `client.session`."""

import json

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call
from rust_gauge.contract.session import Who


def sign_in(email: str, password: str) -> Call[Who]:
    # Not by the model: it hides the password when it is written out.
    body = json.dumps({"email": email, "password": password}).encode()
    return Call("POST", "/api/v1/session", TypeAdapter(Who), {}, body)


def who() -> Call[Who]:
    return make_call("GET", "/session", Who)
