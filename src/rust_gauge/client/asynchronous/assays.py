"""`client.assays`: messages examined before they are sent."""

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import assays as calls
from rust_gauge.contract.assays import Assay


class Assays(Part):
    """Assays of messages. Nothing of a message is stored."""

    async def examine(self, tenant: str, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = "") -> Assay:
        """Examine a message as it was or will be sent. Without `ip`, SPF is not evaluated."""
        return await self._client.send(calls.assay_message(tenant, raw, ip, helo, mail_from))
