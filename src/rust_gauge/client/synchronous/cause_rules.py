"""`client.cause_rules`: a tenant's own rules that find the cause of a rejection."""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from collections.abc import Sequence

from rust_gauge.client.calls import cause_rules as calls
from rust_gauge.client.synchronous.part import Part
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesBacktest, RulesBacktestRequest, RulesChange


class CauseRulesPart(Part):
    """A tenant's own rules that find the cause of a rejection."""

    def get(self, tenant: str) -> CauseRules:
        """Return the rules in their order, and how many past events they have classified."""
        return self._client.send(calls.get_rules(tenant))

    def built_in(self, tenant: str) -> Sequence[OwnRule]:
        """Return the built-in rules, which apply after the tenant's own."""
        return (self._client.send(calls.built_in_rules(tenant))).items

    def set(self, tenant: str, change: RulesChange) -> CauseRules:
        """Replace the rules. InvalidInputError names invalid ones; 409 when somebody changed them meanwhile."""
        return self._client.send(calls.put_rules(tenant, change))

    def backtest(self, tenant: str, request: RulesBacktestRequest) -> RulesBacktest:
        """Return what rules would have done with past events (dry run). Nothing is changed."""
        return self._client.send(calls.backtest_rules(tenant, request))

    def apply(self, tenant: str) -> CauseRules:
        """Classify past events again with the present rules, as a job."""
        return self._client.send(calls.apply_rules(tenant))

    def cancel(self, tenant: str) -> CauseRules:
        """Cancel that job."""
        return self._client.send(calls.stop_rules(tenant))
