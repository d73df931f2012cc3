"""One unit of work: a transaction of one tenant, and all that a use case may know in it.

There is no way from here to DNS, HTTP or SMTP. What is needed from outside is fetched before the transaction opens or
after it commits; `providers.lookup.with_lookups` does so for what turns out to be needed only inside it.
"""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection

from rust_gauge.service.runtime.settings import Settings


@dataclass(frozen=True, slots=True)
class UnitOfWork:
    """What a use case receives inside a transaction. `now` is one moment for all that it writes, aware and in UTC."""

    connection: Connection
    tenant_id: int
    now: datetime
    by: str  # who asked: an address, or what the service calls itself there
    settings: Settings
    memory: dict[Any, Any]  # of the process; what may be forgotten at any time
