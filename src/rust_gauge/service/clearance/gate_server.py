"""The process of the gates: the listener for MTAs. Any number of them may run, each on its own machine."""

import asyncio
import threading
from collections.abc import Callable

import structlog

from rust_gauge.gateways.policy_in import PolicyIn
from rust_gauge.service.clearance.gates import Gatekeeper
from rust_gauge.service.runtime.context import Context

log = structlog.get_logger()


def run_gates(context: Context, stop: threading.Event) -> None:
    """Listen until `stop` is set."""
    settings = context.settings
    if settings.policy_port:
        serve_gates(
            context, settings.policy_host, settings.policy_port, stop, lambda port: log.info("gates", port=port)
        )


def serve_gates(context: Context, host: str, port: int, stop: threading.Event, ready: Callable[[int], object]) -> None:
    """The same at an address. `ready` is called with the port."""
    keeper = Gatekeeper(context)
    listener = PolicyIn(host, port, keeper.answer, keeper.count)

    async def run() -> None:
        over = asyncio.Event()
        loop = asyncio.get_running_loop()

        def wait() -> None:
            stop.wait()
            loop.call_soon_threadsafe(over.set)

        threading.Thread(target=wait, daemon=True).start()
        await listener.serve(ready, over)

    asyncio.run(run())
