"""What the parts of the client share."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from rust_gauge.client.synchronous.connection import Connection


class Part:
    """A group of calls."""

    def __init__(self, client: Connection) -> None:
        self._client = client
