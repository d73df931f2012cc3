"""The MTA-STS policy (RFC 8461) that is served for a domain: what it is, and the way from it to the planned one.

Senders keep a policy for a long time, so that the one which is served changes only when somebody says so, step by step,
and each time the id of the record changes with it.
"""

from sqlalchemy import Connection

from rust_gauge.contract.plans import StsServing, StsStep
from rust_gauge.core.transport.mta_sts import read_sts_policy
from rust_gauge.core.transport.sts_change import steps_between
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.plans.plans import compute
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import domains as store_domains
from rust_gauge.store.accounts import TenantAccess

_PREFIX = "mta-sts."


def get_serving(context: Context, tenant: TenantAccess, name: str) -> StsServing:
    """Return the policy that is served, the planned one, and the steps between them. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    planned = compute(context, tenant, row).sts_policy
    served = str(row.plan.get("sts_policy", ""))
    steps = steps_between(read_sts_policy(served), read_sts_policy(planned)) if served and planned else ()
    return StsServing(
        domain=row.name, host=f"{_PREFIX}{row.name}", served=served, planned=planned,
        id=str(row.plan.get("sts_id", "")),
        steps=[StsStep(kind=each.kind, title=each.title, why=each.why, seconds=each.seconds, policy=each.policy)
               for each in steps],
    )  # fmt: skip


def serve_step(context: Context, tenant: TenantAccess, name: str) -> StsServing:
    """Serve the policy of the next step, or the planned one at first, under a new id. ServiceProblem where MTA-STS is
    not part of the plan."""
    found = get_serving(context, tenant, name)
    if not found.planned:
        remedy = "Choose a mode of MTA-STS in the settings of the plan"
        raise ServiceProblem("invalid-request", f"{found.domain} has no MTA-STS policy in its plan", remedy=remedy)
    text = found.planned if not found.served else next((step.policy for step in found.steps if step.policy), "")
    if text:
        row = find_domain(context, tenant, name)
        id = context.clock().strftime("%Y%m%dT%H%M%S")
        plan = {**row.plan, "sts_policy": text, "sts_id": id}
        context.store.transaction(lambda c: store_domains.update_domain(c, row.id, plan=plan))
    return get_serving(context, tenant, name)


def policy_for(context: Context, host: str) -> str:
    """Return the policy of the domain that a host `mta-sts.<domain>` serves; empty where there is none."""
    name = host.partition(":")[0].lower().rstrip(".")
    if not name.startswith(_PREFIX):
        return ""

    def read(connection: Connection) -> str:
        return store_domains.sts_policy_of(connection, name.removeprefix(_PREFIX))

    return context.store.transaction(read)
