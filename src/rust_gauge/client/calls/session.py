"""Calls of `client.session`."""

from rust_gauge.client.calls.call import Call, make_call
from rust_gauge.contract.session import Who


def who() -> Call[Who]:
    return make_call("GET", "/session", Who)
