"""`client.plans`: what domains should publish."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from rust_gauge.client.calls import plans as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.plans import MadeKey, NewKey, Plan, PlanSettings, StsServing


class Plans(Part):
    """Record plans: what domains should publish."""

    def get(self, tenant: str, name: str) -> Plan:
        """Return the plan, not compared with what is published."""
        return self._client.send(calls.get_plan(tenant, name))

    def check(self, tenant: str, name: str) -> Plan:
        """Compare the plan with what the zone's name servers answer now."""
        return self._client.send(calls.check_plan(tenant, name))

    def set_settings(self, tenant: str, name: str, settings: PlanSettings) -> Plan:
        """Set the DMARC stage, the report addresses, and how to stay within the SPF look-up limit."""
        return self._client.send(calls.set_plan_settings(tenant, name, settings))

    def add_key(
        self, tenant: str, name: str, selector: str, kind: str = "rsa2048", *, replace: bool = False
    ) -> MadeKey:
        """Create a DKIM key. The private key is in this answer only. AlreadyThereError if the plan has one there."""
        new = NewKey.model_construct(selector=selector, kind=kind, replace=replace)  # type: ignore[arg-type]
        return self._client.send(calls.add_plan_key(tenant, name, new))

    def sts_policy(self, tenant: str, name: str) -> StsServing:
        """Return the MTA-STS policy that is served for a domain, the planned one, and the steps between them."""
        return self._client.send(calls.get_sts_policy(tenant, name))

    def serve_sts_policy(self, tenant: str, name: str) -> StsServing:
        """Serve the policy of the next step under a new id. Publish the record with that id afterwards."""
        return self._client.send(calls.serve_sts_policy(tenant, name))
