"""What the parts of the client share."""

from rust_gauge.client.asynchronous.connection import AsyncConnection


class Part:
    """A group of calls."""

    def __init__(self, client: AsyncConnection) -> None:
        self._client = client
