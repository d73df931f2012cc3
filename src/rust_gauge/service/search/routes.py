"""Search under /api/v1."""

from typing import Annotated

from fastapi import Query

from rust_gauge.contract.search import SearchResult
from rust_gauge.service.http.access import Asker, Ctx
from rust_gauge.service.http.routing import api_router
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.search import search

router = api_router()


@router.get("/search", tags=["search"], operation_id="search")
def get_search(
    context: Ctx,
    principal: Asker,
    text: Annotated[str, Query(max_length=500, description="Part of a name, a whole address or message id, words of "
                                                           "a reply")],
    tenant: Annotated[str | None, Query(max_length=40, description="Only this tenant")] = None,
    each: Annotated[int, Query(ge=1, le=50, description="At most so many of each kind")] = 5,
) -> SearchResult:  # fmt: skip
    """Search domains, streams, relays, addresses, providers, items, recipients, messages and replies."""
    chosen = tuple(allowed for allowed in principal.tenants if tenant in (None, allowed.slug))
    if tenant is not None and not chosen:
        raise ServiceProblem("not-found", f"There is no tenant {tenant}")
    return search.search(context, chosen, text, each)
