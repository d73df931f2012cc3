"""One process of the product: `python -m rust_gauge.launch.process service`, `worker`, `feeds`, `gates` or
`bench`.

Settings come from outside. `template` imports what all of them need, and forks them on demand.
"""

import gc
import os
import signal
import socket
import sys
import threading
from collections.abc import Callable
from typing import Any

from rust_gauge.launch.template import fork_on_demand, name_process
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.logs import configure_logs
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store.heartbeat import Heartbeat

Run = Callable[[Context], None]
"""Works until a signal says stop."""

_KINDS = ("worker", "feeds", "gates", "bench")


def _runner(kind: str) -> Run:
    """Return what a process of this kind runs. Only that is imported, so it begins sooner."""
    if kind == "worker":
        from rust_gauge.service.worker import run_worker

        return lambda context: _until_stopped(context, run_worker)
    if kind == "feeds":
        from rust_gauge.service.feeds.runner import run_feeds

        return lambda context: _until_stopped(context, run_feeds)
    if kind == "gates":
        from rust_gauge.service.clearance.gate_server import run_gates

        return lambda context: _until_stopped(context, run_gates)
    if kind == "bench":
        from rust_gauge.service.bench.listener import run_bench

        return lambda context: _until_stopped(context, run_bench)
    import uvicorn

    from rust_gauge.service.app import create_app

    def serve(context: Context) -> None:
        heartbeat = Heartbeat(context.store)
        app = create_app(context, heartbeat)
        heartbeat.start()
        if context.store.reader is not None:
            context.store.reader.start()
        server = _server(uvicorn.Config(app, **server_options(context.settings)))
        app.state.is_stopping = lambda: server.should_exit  # streams end then; nobody waits for them
        server.run()

    return serve


def _server(config: Any) -> Any:
    """Return a server whose connections are accepted in turns of their addresses."""
    import uvicorn

    from rust_gauge.service.http.accepting import Acceptor

    class Server(uvicorn.Server):
        async def startup(self, sockets: list[socket.socket] | None = None) -> None:
            await super().startup(sockets)
            opened = getattr(self, "servers", [])
            listening = [socket.socket(fileno=os.dup(each.fileno())) for server in opened for each in server.sockets]
            for server in opened:
                server.close()  # the sockets stay open in their copies
            limited = config.http_protocol_class.connections_of.limited
            self.servers: list[Any] = [Acceptor(each, self._protocol, config.ssl, limited) for each in listening]

        def _protocol(self) -> Any:
            state = self.lifespan.state
            return config.http_protocol_class(config=config, server_state=self.server_state, app_state=state)

    return Server(config)


def tune() -> None:
    """What the interpreter's usual settings cost a service that makes values by the hundred thousand."""
    sys.setswitchinterval(0.001)  # a thread that only waits for the database must not wait long for its turn
    gc.set_threshold(50_000, 20, 50)  # rows hold no cycles: looking for them every 700 costs a tenth of a clearance


def main() -> int:
    """Run until a signal says stop."""
    settings = Settings()
    configure_logs(settings.log_level)
    tune()
    gc.disable()  # what is imported stays: looking through it again and again costs half a second
    kind = sys.argv[1]
    if kind == "template":
        for each in (*_KINDS, "service"):
            _runner(each)
        kind = fork_on_demand()
        if not kind:
            return 0
        settings = Settings()  # of this part: more of it is known by now
    run = _runner(kind)
    gc.freeze()
    gc.enable()
    name_process(f"rg-{kind}")
    context = make_context(settings)
    run(context)
    context.close()
    return 0


def _until_stopped(context: Context, run: Callable[[Context, threading.Event], None]) -> None:
    Heartbeat(context.store).start()
    if context.store.reader is not None:
        context.store.reader.start()
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    run(context, stop)


def server_options(settings: Settings) -> dict[str, Any]:
    """Return how the service listens. What a client says about its own address is believed from named proxies only."""
    from rust_gauge.service.http.connections import connections_for  # only the service needs it

    return {
        "host": settings.host, "port": settings.port, "log_config": None, "access_log": False, "server_header": False,
        "timeout_graceful_shutdown": 5, "http": connections_for(settings.proxies).protocol(),
        "proxy_headers": bool(settings.proxies), "forwarded_allow_ips": settings.proxies or None,
        "ssl_certfile": str(settings.tls_cert_file) if settings.tls_cert_file else None,
        "ssl_keyfile": str(settings.tls_key_file) if settings.tls_key_file else None,
    }  # fmt: skip


if __name__ == "__main__":
    sys.exit(main())
