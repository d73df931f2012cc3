"""Routers of the API: every one refuses query parameters that its call does not have."""

import difflib
from collections.abc import Callable, Coroutine
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi.dependencies.utils import get_flat_params
from fastapi.params import Query
from fastapi.routing import APIRoute
from pydantic import BaseModel

from rust_gauge.contract.common import ProblemError
from rust_gauge.service.http.parameters import problems
from rust_gauge.service.http.recording import is_recorded, know_reader, record_call, state_before
from rust_gauge.service.runtime.problems import ServiceProblem


class StrictRoute(APIRoute):
    """A route that does not ignore a misspelt parameter: `reasons=` instead of `reason=` would return everything."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """Check the names of query parameters before the route runs."""
        handle, known = super().get_route_handler(), self._parameters()
        recorded = is_recorded(self)
        know_reader(self)

        async def strict(request: Request) -> Response:
            unknown = [name for name in request.query_params if name not in known]
            if unknown:
                raise _unknown(unknown, sorted(known))
            if not recorded:
                return await handle(request)
            before = await state_before(request, self)
            response = await handle(request)
            await record_call(request, self, response, before)
            return response

        return strict

    def _parameters(self) -> set[str]:
        names: set[str] = set()
        for parameter in get_flat_params(self.dependant):
            if not isinstance(parameter.field_info, Query):
                continue
            kind = parameter.field_info.annotation
            if isinstance(kind, type) and issubclass(kind, BaseModel):
                names |= {field.alias or name for name, field in kind.model_fields.items()}
            else:
                names.add(parameter.alias)
        return names


def _unknown(unknown: list[str], known: list[str]) -> ServiceProblem:
    errors = []
    for name in unknown[:20]:
        near = difflib.get_close_matches(name, known, n=1)
        remedy = f"Did you mean {near[0]}?" if near else f"Parameters: {', '.join(known) or 'none'}"
        errors.append(ProblemError(field=name[:100], what="Unknown parameter", remedy=remedy))
    what = f"{unknown[0][:100]} is not a parameter of this call"
    return ServiceProblem("invalid-request", what, errors=errors, remedy=errors[0].remedy)


def api_router() -> APIRouter:
    """Return a router for calls under /api/v1."""
    return APIRouter(prefix="/api/v1", responses=problems, route_class=StrictRoute)
