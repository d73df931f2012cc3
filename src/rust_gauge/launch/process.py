"""One process of the product: `python -m rust_gauge.launch.process service` or `worker`. Settings come from outside."""

import gc
import signal
import sys
import threading
from typing import Any

import uvicorn

from rust_gauge.service.app import create_app
from rust_gauge.service.clearance.gate_server import run_gates
from rust_gauge.service.feeds.runner import run_feeds
from rust_gauge.service.http.connections import connections_for
from rust_gauge.service.runtime.context import make_context
from rust_gauge.service.runtime.logs import configure_logs
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.worker import run_worker


def tune() -> None:
    """What the interpreter's usual settings cost a service that makes values by the hundred thousand."""
    sys.setswitchinterval(0.001)  # a thread that only waits for the database must not wait long for its turn
    gc.set_threshold(50_000, 20, 50)  # rows hold no cycles: looking for them every 700 costs a tenth of a clearance


def main() -> int:
    """Run until a signal says stop."""
    settings = Settings()
    configure_logs(settings.log_level)
    tune()
    context = make_context(settings)
    runners = {"worker": run_worker, "feeds": run_feeds, "gates": run_gates}
    if len(sys.argv) == 2 and sys.argv[1] in runners:
        stop = threading.Event()
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, lambda *_: stop.set())
        runners[sys.argv[1]](context, stop)
        context.close()
        return 0
    uvicorn.run(create_app(context), **server_options(settings))
    return 0


def server_options(settings: Settings) -> dict[str, Any]:
    """Return how the service listens. What a client says about its own address is believed from named proxies only."""
    return {
        "host": settings.host, "port": settings.port, "log_config": None, "access_log": False, "server_header": False,
        "timeout_graceful_shutdown": 5, "http": connections_for(settings.proxies).protocol(),
        "proxy_headers": bool(settings.proxies), "forwarded_allow_ips": settings.proxies or None,
        "ssl_certfile": str(settings.tls_cert_file) if settings.tls_cert_file else None,
        "ssl_keyfile": str(settings.tls_key_file) if settings.tls_key_file else None,
    }  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())
