"""Calls of `client.plans`."""

from rust_gauge.client.calls.call import Call, domain_path, make_call, repeatable
from rust_gauge.contract.plans import MadeKey, NewKey, Plan, PlanSettings, StsServing


def get_plan(tenant: str, name: str) -> Call[Plan]:
    return make_call("GET", domain_path(tenant, name) + "/plan", Plan)


def check_plan(tenant: str, name: str) -> Call[Plan]:
    return repeatable(make_call("POST", domain_path(tenant, name) + "/plan/checks", Plan))


def set_plan_settings(tenant: str, name: str, settings: PlanSettings) -> Call[Plan]:
    return repeatable(make_call("PUT", domain_path(tenant, name) + "/plan/settings", Plan, settings))


def add_plan_key(tenant: str, name: str, new: NewKey) -> Call[MadeKey]:
    return make_call("POST", domain_path(tenant, name) + "/plan/keys", MadeKey, new)


def get_sts_policy(tenant: str, name: str) -> Call[StsServing]:
    return make_call("GET", domain_path(tenant, name) + "/sts-policy", StsServing)


def serve_sts_policy(tenant: str, name: str) -> Call[StsServing]:
    return make_call("POST", domain_path(tenant, name) + "/sts-policy", StsServing)
