"""The frame that every route lives in: problems as RFC 9457 documents, health, and the console's files."""

import math
import warnings
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from pathlib import Path

import structlog
from anyio import to_thread
from fastapi import APIRouter, FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import FileResponse, JSONResponse, PlainTextResponse, Response
from pydantic.warnings import UnsupportedFieldAttributeWarning
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException

from rust_gauge import __version__
from rust_gauge.contract.common import Problem, ProblemError
from rust_gauge.contract.validation import explain, field_of
from rust_gauge.service.http.admission import THREADS, UNKNOWN_BODY, Busy, TooMany, is_known
from rust_gauge.service.http.conditional import Conditional
from rust_gauge.service.http.document import completed
from rust_gauge.service.http.metrics import add_metrics
from rust_gauge.service.http.middleware import BodyTooLarge, NotKnown, RequestFrame
from rust_gauge.service.http.paging import use_key
from rust_gauge.service.http.rate_limits import NO_LIMITS, RateLimit, SharedLimits
from rust_gauge.service.http.views import ViewsFrom
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import KINDS, ServiceProblem
from rust_gauge.service.runtime.secrets import service_key
from rust_gauge.store.engine import StoreError
from rust_gauge.store.heartbeat import Heartbeat
from rust_gauge.store.migrate import is_current, newest_revision

log = structlog.get_logger()
# FastAPI gives Pydantic the alias of a body with models that are built on first use (contract.common.Model): harmless.
warnings.filterwarnings("ignore", category=UnsupportedFieldAttributeWarning)
CONSOLE = Path(__file__).parent.parent / "console_files"
_BY_STATUS = {404: "not-found", 405: "method-not-allowed", 413: "too-large", 415: "unsupported-type"}


def create_application(
    context: Context | None, routers: Sequence[APIRouter], heartbeat: Heartbeat | None = None
) -> FastAPI:
    """An application over a context with these routers. `heartbeat` knows whether the database answers.

    Without a context it only describes itself (for generating types and documents).
    """
    limits, shared = NO_LIMITS, None
    if context is not None:
        settings = context.settings
        limits = (
            RateLimit("caller", settings.requests_per_minute),
            RateLimit("source", settings.requests_per_minute_of_source),
        )
        shared = SharedLimits(context.store, limits)

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        to_thread.current_default_thread_limiter().total_tokens = THREADS
        if shared is not None:
            shared.start()
        yield
        if shared is not None:
            await to_thread.run_sync(shared.stop)
        if context is not None:
            context.close()

    app = FastAPI(
        title="Rust Gauge",
        version=__version__,
        summary="Measure, explain and fix email deliverability.",
        servers=[{"url": "/", "description": "This service"}],
        license_info={"name": "Apache-2.0", "identifier": "Apache-2.0"},
        openapi_url="/api/v1/openapi.json",
        docs_url=None,  # the usual page loads scripts from elsewhere
        redoc_url=None,
        lifespan=lifespan,
    )
    app.state.context = context
    app.state.heartbeat = heartbeat
    if context is not None:
        use_key(service_key(context.settings))
    for router in routers:
        app.include_router(router)
    _add_problems(app)
    _add_health(app)
    requests = add_metrics(app, context) if context is not None else None
    _add_console(app)
    _complete_document(app)
    app.add_middleware(Conditional)
    if context is not None and context.store.reader is not None:
        app.add_middleware(ViewsFrom, reader=context.store.reader, seconds=context.settings.database_read_lag)
    limit = context.settings.max_body_bytes if context else 0
    stream = context.settings.max_stream_bytes if context else 0
    app.add_middleware(
        RequestFrame,
        max_body=limit,
        max_stream=stream,
        on_error=unexpected,
        is_known=lambda scope: context is not None and is_known(context, scope),
        strict_transport=context is not None and context.settings.is_public,
        limits=limits,
        count=requests.count if requests is not None else None,
    )
    return app


def unexpected(request: Request, error: Exception) -> Response:
    """The answer to what no handler caught."""
    if isinstance(error, BodyTooLarge):
        limit = request.app.state.context.settings.max_body_bytes
        return problem_response(
            request, "too-large", f"The body is larger than {limit:,} bytes", "Split it into smaller requests"
        )
    if isinstance(error, NotKnown):
        return problem_response(
            request,
            "not-signed-in",
            f"A valid session or token is required for a body of more than {UNKNOWN_BODY:,} bytes",
            headers={"WWW-Authenticate": "Bearer"},
        )
    if isinstance(error, TooMany):
        standing = error.standing
        whose = "of this token, session or address" if standing.name == "caller" else "from your address"
        return problem_response(
            request, "too-many-requests", f"More than {standing.limit:,} requests {whose} in a minute",
            "Send fewer, larger requests, or wait as `Retry-After` says",
        )  # fmt: skip
    if isinstance(error, Busy):
        return problem_response(
            request,
            "busy",
            "Too many of your requests are still running",
            "Send fewer requests at a time",
            headers={"Retry-After": "1"},
        )
    log.error("unhandled", error=repr(error), exc_info=error)
    return problem_response(
        request,
        "internal",
        "An unexpected error in the service",
        "Report the id in `instance`; the log has the details",
    )


def _complete_document(app: FastAPI) -> None:
    """Complete the OpenAPI document once, when it is first asked for."""
    make = app.openapi

    def openapi() -> dict[str, object]:
        if app.openapi_schema is None:
            app.openapi_schema = completed(make())
        return app.openapi_schema

    app.openapi = openapi  # type: ignore[method-assign]


def problem_response(
    request: Request,
    slug: str,
    detail: str = "",
    remedy: str = "",
    errors: list[ProblemError] | None = None,
    errors_total: int = 0,
    headers: dict[str, str] | None = None,
) -> JSONResponse:
    """An RFC 9457 document as a response."""
    kind = KINDS[slug]
    problem = Problem(
        type=f"/problems/{slug}",
        title=kind.title,
        status=kind.status,
        detail=detail,
        remedy=remedy,
        instance=getattr(request.state, "request_id", ""),
        errors=errors or [],
        errors_total=errors_total,
    )
    return JSONResponse(
        problem.model_dump(mode="json"), kind.status, headers=headers, media_type="application/problem+json"
    )


def _add_problems(app: FastAPI) -> None:
    @app.exception_handler(ServiceProblem)
    def service_problem(request: Request, error: ServiceProblem) -> Response:
        headers = {"WWW-Authenticate": "Bearer"} if error.kind.slug == "not-signed-in" else {}
        if error.retry_after is not None:
            headers["Retry-After"] = str(math.ceil(error.retry_after))
        return problem_response(
            request, error.kind.slug, error.detail, error.remedy, error.errors, error.errors_total, headers
        )

    @app.exception_handler(BodyTooLarge)
    def too_large(request: Request, error: BodyTooLarge) -> Response:
        return unexpected(request, error)

    @app.exception_handler(Busy)
    def busy(request: Request, error: Busy) -> Response:
        return unexpected(request, error)

    @app.exception_handler(NotKnown)
    def not_known(request: Request, error: NotKnown) -> Response:
        return unexpected(request, error)

    @app.exception_handler(StoreError)
    def store_failed(request: Request, error: StoreError) -> Response:
        log.error("store_failed", error=str(error))
        return problem_response(request, "database-unavailable", error.what, error.remedy, headers={"Retry-After": "5"})

    @app.exception_handler(OverflowError)
    def out_of_range(request: Request, error: OverflowError) -> Response:
        log.error("out_of_range", path=request.url.path, error=str(error))
        return problem_response(request, "invalid-request", "A date or number in the request is out of range")

    @app.exception_handler(RequestValidationError)
    def invalid(request: Request, error: RequestValidationError) -> Response:
        details = error.errors()
        if any(detail["type"] == "json_invalid" for detail in details):
            return problem_response(request, "not-json", str(details[0].get("ctx", {}).get("error", "")))
        errors = [
            ProblemError(field=field_of(detail, 1) or str(detail["loc"][0]), what=explain(detail))
            for detail in details[:50]
        ]
        first = f"{errors[0].field}: {errors[0].what}"
        return problem_response(request, "invalid-request", first, errors=errors, errors_total=len(details))

    @app.exception_handler(HTTPException)
    def http(request: Request, error: HTTPException) -> Response:
        slug = _BY_STATUS.get(error.status_code, "invalid-request")
        return problem_response(request, slug, str(error.detail), headers=dict(error.headers or {}))

    @app.get("/problems/{slug}", include_in_schema=False)
    def show_problem(slug: str) -> Response:
        kind = KINDS.get(slug)
        if kind is None:
            return PlainTextResponse("Unknown problem type.\n", 404)
        return PlainTextResponse(f"{kind.title} ({kind.status})\n\n{kind.meaning}\n")


def _add_health(app: FastAPI) -> None:
    @app.get("/healthz", tags=["health"], operation_id="healthz")
    async def healthz() -> dict[str, str]:  # on the event loop: it waits for no thread
        """The process runs."""
        return {"status": "running", "version": __version__}

    @app.get("/readyz", tags=["health"], operation_id="readyz", responses={503: {"model": Problem}})
    async def readyz() -> dict[str, str]:  # on the event loop: the threads may all wait for a database that is away
        """The database answers and its schema is the right one."""
        context: Context = app.state.context
        heartbeat: Heartbeat | None = app.state.heartbeat
        if heartbeat is not None:
            current = heartbeat.revision == newest_revision()
            if not heartbeat.revision:
                raise ServiceProblem("database-unavailable", "The database does not answer", retry_after=5)
        else:
            current = await run_in_threadpool(is_current, context.store)
        if not current:
            raise ServiceProblem(
                "database-unavailable", "The database schema is not up to date", remedy="Run rustgauged migrate"
            )
        return {"status": "ready"}

    for path, answer in (("/healthz", healthz), ("/readyz", readyz)):  # what watches it may not want the body
        app.add_api_route(path, answer, methods=["HEAD"], include_in_schema=False)


def _add_console(app: FastAPI) -> None:
    """The console's files; any other address is one of its pages, so it gets the index."""

    @app.api_route("/{path:path}", methods=["GET", "HEAD"], include_in_schema=False)
    def console(request: Request, path: str) -> Response:
        if path.startswith("api/"):
            if request.method == "HEAD":  # calls have answers of their own, which are not made for their length
                return problem_response(request, "method-not-allowed", "HEAD is not a method of this address")
            return problem_response(request, "not-found", f"Nothing at /{path[:100]}")
        root = CONSOLE.resolve()
        file = (root / path).resolve()
        if path and file.is_relative_to(root) and file.is_file():
            immutable = path.startswith("assets/")
            cache = "public, max-age=31536000, immutable" if immutable else "no-cache"
            return FileResponse(file, headers={"Cache-Control": cache})
        index = root / "index.html"
        if not index.is_file():
            return PlainTextResponse("The console is not built. Run `make console`.\n", 404)
        return FileResponse(index, headers={"Cache-Control": "no-cache"})
