"""Calls of `client.search`."""

from rust_gauge.client.calls.call import Call, make_call
from rust_gauge.contract.search import SearchResult


def search(text: str, tenant: str | None, each: int) -> Call[SearchResult]:
    return make_call("GET", "/search", SearchResult, text=text, tenant=tenant, each=each)
