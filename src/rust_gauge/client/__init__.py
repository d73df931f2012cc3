"""The client library: `Client` and `AsyncClient` over the service's API, typed with the models of `contract`.

with Client("http://127.0.0.1:8850", token="rgt_...") as client:
    audit = client.audits.run("copperline", "copperline.example")
    for domain in client.domains.list("copperline"):
        print(domain.name)
"""

from rust_gauge.client.asynchronous.client import AsyncClient
from rust_gauge.client.errors import (
    AlreadyThereError,
    ClientError,
    InvalidInputError,
    NoMessageError,
    NotAllowedError,
    NotFoundError,
    ProblemResponse,
    ServiceUnreachable,
    UnavailableError,
)
from rust_gauge.client.synchronous.client import Client

__all__ = [
    "AlreadyThereError",
    "AsyncClient",
    "Client",
    "ClientError",
    "InvalidInputError",
    "NoMessageError",
    "NotAllowedError",
    "NotFoundError",
    "ProblemResponse",
    "ServiceUnreachable",
    "UnavailableError",
]
