"""One request as a value: method, path, what is sent and what comes back. Both clients carry it out."""

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import islice
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel, TypeAdapter

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Call(Generic[T]):
    """One request. `repeatable`: sending it twice does no more than sending it once."""

    method: str
    path: str
    result: TypeAdapter[T]
    query: Mapping[str, Any] = field(default_factory=dict)
    body: bytes | None = None
    content_type: str = "application/json"
    repeatable: bool = True

    def read(self, content: bytes) -> T:
        """Read a response's body. pydantic.ValidationError where it is not what was asked for."""
        return self.result.validate_json(content or b"null")


def make_call(method: str, path: str, result: type[T], body: BaseModel | None = None, **query: Any) -> Call[T]:
    sent = body.model_dump_json(exclude_unset=True).encode() if body is not None else None
    chosen = {name: value for name, value in query.items() if value is not None}
    return Call(method, f"/api/v1{path}", TypeAdapter(result), chosen, sent, repeatable=method in ("GET", "DELETE"))


def repeatable(call: Call[T]) -> Call[T]:
    """Mark a POST that is safe to repeat."""
    return Call(call.method, call.path, call.result, call.query, call.body, call.content_type, True)


def batches_of(items: Iterable[str], size: int) -> Iterator[list[str]]:
    """Items by so many at a time, taken as they are needed."""
    source = iter(items)
    while batch := list(islice(source, size)):
        yield batch


def domain_path(tenant: str, name: str) -> str:
    return f"/tenants/{quote(tenant, safe='')}/domains/{quote(name, safe='')}"


def tenant_path(tenant: str, rest: str) -> str:
    return f"/tenants/{quote(tenant, safe='')}/{rest}"
