"""Calls of `client.cause_rules`."""

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.rules import CauseRules, OwnRule, RulesBacktest, RulesBacktestRequest, RulesChange


def get_rules(tenant: str) -> Call[CauseRules]:
    return make_call("GET", tenant_path(tenant, "cause-rules"), CauseRules)


def built_in_rules(tenant: str) -> Call[Page[OwnRule]]:
    return make_call("GET", tenant_path(tenant, "cause-rules/built-in"), Page[OwnRule])


def put_rules(tenant: str, change: RulesChange) -> Call[CauseRules]:
    return make_call("PUT", tenant_path(tenant, "cause-rules"), CauseRules, change)


def backtest_rules(tenant: str, request: RulesBacktestRequest) -> Call[RulesBacktest]:
    return repeatable(make_call("POST", tenant_path(tenant, "cause-rules/backtests"), RulesBacktest, request))


def apply_rules(tenant: str) -> Call[CauseRules]:
    return repeatable(make_call("POST", tenant_path(tenant, "cause-rules/application"), CauseRules))


def stop_rules(tenant: str) -> Call[CauseRules]:
    return make_call("DELETE", tenant_path(tenant, "cause-rules/application"), CauseRules)
