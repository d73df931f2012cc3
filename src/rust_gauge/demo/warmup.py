"""The demo's warm-up: the clinic's new subdomain, held back at a provider that defers, and a list cut for it."""

import csv
import io
from datetime import date, timedelta
from pathlib import Path

import numpy as np

from rust_gauge.contract.warmup import ListCutRequest, NewWarmupPlan
from rust_gauge.demo.generator import SEED, person_address
from rust_gauge.demo.scenario import FLOWS, WARM_UP
from rust_gauge.service.clearance import list_cuts
from rust_gauge.service.jobs import jobs
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.warmup import plans
from rust_gauge.store.accounts import TenantAccess

_TENANT, _DOMAIN, _PLAN = "halyard", "reminders.halyardclinic.example", "reminders"
_ROOM = 1.25  # of what is sent on a day
_LIST = 5_000  # recipients
FILE = "patients.csv"


def load_warmup(context: Context, tenant: TenantAccess, anchor: date, folder: Path) -> None:
    """Add the plan, and a list of 5,000 patients that is cut for it by the worker; once."""
    if tenant.slug != _TENANT or any(plan.name == _PLAN for plan in plans.list_plans(context, tenant)):
        return
    flow = next(flow for flow in FLOWS if flow.domain == _DOMAIN)
    usual = max(flow.week)
    ceilings = sorted(round(_ROOM * usual * share) for share in (*WARM_UP, 1.0, 1.2))
    new = NewWarmupPlan(
        name=_PLAN, domain=_DOMAIN, shape="custom", ceilings=ceilings, hours=list(range(*flow.hours)),
        starts_on=anchor - timedelta(days=flow.first_day),
    )  # fmt: skip
    plans.add_plan(context, tenant, new, "Isla Mackay")
    octets = patients(anchor)
    folder.mkdir(parents=True, exist_ok=True)
    (folder / FILE).write_bytes(octets)
    request = ListCutRequest(plan=_PLAN, name=FILE, engagement="last_opened")
    job = list_cuts.start(context, tenant, request, "isla@skerry.example")
    jobs.put_piece(context, tenant, job.id, 0, octets)
    jobs.run(context, tenant, job.id, dry=False)


def patients(anchor: date) -> bytes:
    """Return a CSV file of recipients, with the day on which each opened a message last."""
    rng = np.random.default_rng([SEED, 7])
    people, ages = rng.choice(100_000, _LIST, replace=False), rng.exponential(60, _LIST)
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(("email", "last_opened"))
    for person, age in zip(people.tolist(), ages.tolist(), strict=True):
        opened = (anchor - timedelta(days=1 + int(age))).isoformat() if age < 300 else ""
        writer.writerow((person_address(person), opened))
    return out.getvalue().encode()
