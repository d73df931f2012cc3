"""`client.assays`: messages examined before they are sent."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from rust_gauge.client.calls import assays as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.assays import Assay, AssayRuleView, AssaySettings, TextModelView


class Assays(Part):
    """Assays of messages. Nothing of a message is stored."""

    def examine(self, tenant: str, raw: bytes, *, ip: str = "", helo: str = "", mail_from: str = "") -> Assay:
        """Examine a message as it was or will be sent. Without `ip`, SPF is not evaluated."""
        return self._client.send(calls.assay_message(tenant, raw, ip, helo, mail_from))

    def rules(self, tenant: str) -> list[AssayRuleView]:
        """Return the rules, as they ship and as they count for the tenant."""
        return (self._client.send(calls.list_rules(tenant))).items

    def settings(self, tenant: str) -> AssaySettings:
        """Return how the tenant adjusts the examination."""
        return self._client.send(calls.get_settings(tenant))

    def set_settings(self, tenant: str, settings: AssaySettings) -> AssaySettings:
        """Adjust the examination."""
        return self._client.send(calls.set_settings(tenant, settings))

    def text_model(self, tenant: str, *, learn: bool = False) -> TextModelView:
        """Return the tenant's text model. `learn`: learn now instead of within a day."""
        return self._client.send(calls.get_text_model(tenant, learn=learn))
