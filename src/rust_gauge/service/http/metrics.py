"""`/metrics` in the format of Prometheus: requests as they are counted here, and what the database says when asked.

Names begin with `rustgauge_`. Times are in seconds. Nothing in it names a recipient; labels are tenants and feeds.
"""

import hmac
import ipaddress
from collections import Counter as Tally
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime

from fastapi import FastAPI, Request, Response
from prometheus_client import CollectorRegistry, Counter, Histogram, generate_latest
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from prometheus_client.metrics_core import GaugeMetricFamily, Metric
from prometheus_client.registry import Collector
from starlette.types import Scope

from rust_gauge import __version__
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.installation import disk_use, restarts
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import metrics as store
from rust_gauge.store.engine import StoreError
from rust_gauge.store.metrics import Waiting

_BUCKETS = (0.01, 0.03, 0.1, 0.3, 1, 3, 10, 30, 100)


class RequestMetrics:
    """Requests by route and status. A route is its pattern, so that there are as many as calls of the API."""

    def __init__(self, registry: CollectorRegistry) -> None:
        names = ("method", "route", "status")
        self._requests = Counter("rustgauge_requests", "Requests answered", names, registry=registry)
        self._seconds = Histogram(
            "rustgauge_request_seconds", "Time until a request was answered", ("route",), registry=registry,
            buckets=_BUCKETS,
        )  # fmt: skip

    def count(self, scope: Scope, status: int, seconds: float) -> None:
        """Count a request that was answered."""
        route = getattr(scope.get("route"), "path", "") or "(none)"
        self._requests.labels(scope["method"], route, str(status)).inc()
        self._seconds.labels(route).observe(seconds)


class InstallationMetrics(Collector):
    """What is asked of the database and the disk when somebody looks."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def collect(self) -> Iterator[Metric]:
        """Yield all families; without a database those that need none."""
        yield _one("rustgauge_info", "Version of the service", [((__version__,), 1)], ("version",))
        yield from self._disk()
        yield from self._restarts()
        pool = self._context.store.engine.pool
        taken = pool.checkedout() if hasattr(pool, "checkedout") else 0
        yield _one(
            "rustgauge_database_connections_in_use", "Connections to the database that are in use", [((), taken)]
        )
        try:
            found = list(self._from_database())
        except StoreError:
            yield _one("rustgauge_database_up", "Whether the database answers", [((), 0)])
            return
        yield _one("rustgauge_database_up", "Whether the database answers", [((), 1)])
        yield from found

    def _disk(self) -> Iterator[Metric]:
        usage = disk_use(self._context.settings)
        yield _one("rustgauge_disk_free_bytes", "Free space where the installation keeps its files", [((), usage.free)])
        yield _one("rustgauge_disk_used_ratio", "Share of that disk in use", [((), usage.used)])

    def _restarts(self) -> Iterator[Metric]:
        counts = Tally(restart.part for restart in restarts(self._context.settings))
        rows = [((part,), n) for part, n in sorted(counts.items())]
        yield _one("rustgauge_restarts", "Restarts of each part since the log of restarts began", rows, ("part",))

    def _from_database(self) -> Iterator[Metric]:
        now, transaction = self._context.clock(), self._context.store.transaction
        yield from _waiting("jobs", "Jobs", transaction(store.jobs), now, "waiting")
        yield from _waiting("webhook_calls", "Calls of webhooks", transaction(store.webhook_calls), now, "waiting")
        yield from _waiting("notifications", "Notifications", transaction(store.notifications), now, "waiting")
        feeds = transaction(store.feeds)
        names = ("tenant", "feed")
        for name, help, value in (
            ("rustgauge_feed_failing", "Whether a feed says that something is wrong", lambda feed: int(feed.failing)),
            ("rustgauge_feed_paused", "Whether a feed is paused", lambda feed: int(feed.paused)),
            ("rustgauge_feed_silent_seconds", "Time since a feed last brought an event",
             lambda feed: _age(feed.arrived, now)),
            ("rustgauge_feed_lag_seconds", "Age of the newest event when it arrived",
             lambda feed: (feed.arrived - feed.newest).total_seconds() if feed.arrived and feed.newest else None),
        ):  # fmt: skip
            rows = [((feed.tenant, feed.name), value(feed)) for feed in feeds]
            yield _one(name, help, [(labels, n) for labels, n in rows if n is not None], names)
        yield _one(
            "rustgauge_rejected_rows", "Rows of feeds that were set aside", [((), transaction(store.rejected_rows))]
        )
        yield _one("rustgauge_held_addresses", "Entries of suppression lists that hold an address",
                   [((), transaction(store.held_addresses))])  # fmt: skip


def _waiting(name: str, what: str, rows: list[Waiting], now: datetime, waits: str) -> Iterator[Metric]:
    counts: Tally[tuple[str, str]] = Tally()
    for row in rows:
        counts[row.kind, row.state] += row.n
    found = [(labels, float(n)) for labels, n in sorted(counts.items())]
    yield _one(f"rustgauge_{name}", f"{what} by kind and state", found, ("kind", "state"))
    ages = [age for row in rows if row.state == waits and (age := _age(row.oldest, now)) is not None]
    yield _one(f"rustgauge_{name}_oldest_seconds", f"How long the oldest of what waits has waited: {what.lower()}",
               [((), max([0.0, *ages]))])  # fmt: skip


def _age(moment: datetime | None, now: datetime) -> float | None:
    return None if moment is None else max(0.0, (now - moment.replace(tzinfo=UTC)).total_seconds())


def _one(
    name: str, help: str, rows: Iterable[tuple[tuple[str, ...], float]], labels: tuple[str, ...] = ()
) -> GaugeMetricFamily:
    family = GaugeMetricFamily(name, help, labels=labels)
    for values, n in rows:
        family.add_metric(values, n)
    return family


def add_metrics(app: FastAPI, context: Context) -> RequestMetrics:
    """Add `/metrics`: for whoever shows the token of the settings, or, where none is set, for this machine only."""
    registry = CollectorRegistry()
    requests = RequestMetrics(registry)
    registry.register(InstallationMetrics(context))

    @app.get("/metrics", include_in_schema=False)
    def metrics(request: Request) -> Response:
        _check(context, request)
        return Response(generate_latest(registry), media_type=CONTENT_TYPE_LATEST)

    return requests


def _check(context: Context, request: Request) -> None:
    token = context.settings.metrics_token
    if token is not None:
        shown = request.headers.get("authorization", "").removeprefix("Bearer ")
        if not hmac.compare_digest(shown.encode(), token.get_secret_value().encode()):
            raise ServiceProblem("not-signed-in", "The token of metrics_token is required")
        return
    try:
        local = request.client is not None and ipaddress.ip_address(request.client.host).is_loopback
    except ValueError:
        local = False
    if not local or "x-forwarded-for" in request.headers:
        raise ServiceProblem("not-signed-in", "Metrics are for this machine only", remedy="Set metrics_token")
