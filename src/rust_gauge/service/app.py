"""The service's routers, put together. What a route does is in the package of its capability."""

from fastapi import FastAPI

from rust_gauge.service.accounts import routes as accounts
from rust_gauge.service.assays import routes as assays
from rust_gauge.service.bench import routes as bench
from rust_gauge.service.changes import routes as changes
from rust_gauge.service.checklist import routes as checklist
from rust_gauge.service.clearance import routes as clearance
from rust_gauge.service.client_reports import pages as shared_reports
from rust_gauge.service.client_reports import routes as client_reports
from rust_gauge.service.domains import pages as confirmation
from rust_gauge.service.domains import routes as domains
from rust_gauge.service.feeds import routes as feeds
from rust_gauge.service.http.application import create_application
from rust_gauge.service.intake import routes as intake
from rust_gauge.service.jobs import routes as jobs
from rust_gauge.service.mailflow import routes as mailflow
from rust_gauge.service.placement import pages as shared
from rust_gauge.service.placement import routes as placement
from rust_gauge.service.plans import pages as policies
from rust_gauge.service.plans import routes as plans
from rust_gauge.service.providers import routes as providers
from rust_gauge.service.readings import routes as readings
from rust_gauge.service.receiver_reports import routes as receiver_reports
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.search import routes as search
from rust_gauge.service.sending import routes as sending
from rust_gauge.service.suppression import routes as suppression
from rust_gauge.service.unsubscribes import pages as unsubscribe
from rust_gauge.service.unsubscribes import routes as unsubscribes
from rust_gauge.service.verification import routes as verification
from rust_gauge.service.warmup import routes as warmup
from rust_gauge.service.webhooks import routes as webhooks
from rust_gauge.service.worklist import routes as worklist
from rust_gauge.store.heartbeat import Heartbeat

ROUTERS = (
    accounts.router,
    domains.router,
    sending.router,
    warmup.router,
    verification.router,
    assays.router,
    bench.router,
    placement.router,
    plans.router,
    providers.router,
    intake.router,
    mailflow.router,
    readings.router,
    search.router,
    changes.router,
    checklist.router,
    receiver_reports.router,
    worklist.router,
    client_reports.router,
    suppression.router,
    clearance.router,
    unsubscribes.router,
    jobs.router,
    feeds.router,
    webhooks.router,
    confirmation.router,
    policies.router,
    shared.router,
    shared_reports.router,
    unsubscribe.router,
)


def create_app(context: Context | None, heartbeat: Heartbeat | None = None) -> FastAPI:
    """The service over a context. Without one it only describes itself (for generating types and documents)."""
    return create_application(context, ROUTERS, heartbeat)
