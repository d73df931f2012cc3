"""`client.cause_rules`: Rules of a tenant's own that find the cause of a rejection."""

from collections.abc import Sequence

from rust_gauge.client.asynchronous.part import Part
from rust_gauge.client.calls import cause_rules as calls
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesBacktest, RulesBacktestRequest, RulesChange


class CauseRulesPart(Part):
    """Rules of a tenant's own that find the cause of a rejection."""

    async def get(self, tenant: str) -> CauseRules:
        """Return the rules in their order, and how far the past is judged by them."""
        return await self._client.send(calls.get_rules(tenant))

    async def shipped(self, tenant: str) -> Sequence[OwnRule]:
        """Return the rules that come with the service, asked after a tenant's own."""
        return (await self._client.send(calls.shipped_rules(tenant))).items

    async def set(self, tenant: str, change: RulesChange) -> CauseRules:
        """Keep rules. InvalidInputError names what cannot be used; 409 when somebody changed them meanwhile."""
        return await self._client.send(calls.put_rules(tenant, change))

    async def backtest(self, tenant: str, request: RulesBacktestRequest) -> RulesBacktest:
        """Return what rules would have made of the past. Nothing is changed."""
        return await self._client.send(calls.backtest_rules(tenant, request))

    async def apply(self, tenant: str) -> CauseRules:
        """Judge the past by the rules as they are, as a job."""
        return await self._client.send(calls.apply_rules(tenant))

    async def cancel(self, tenant: str) -> CauseRules:
        """Stop judging the past."""
        return await self._client.send(calls.stop_rules(tenant))
