"""Processes that benchmarks talk to: `gate` answers MTAs, `echo` sends lines back, `service` has a floor beside it."""

import asyncio
import sys
import threading

from fastapi import APIRouter
from sqlalchemy import select

from rust_gauge.launch.process import tune
from rust_gauge.service.app import create_app
from rust_gauge.service.clearance.gate_server import serve_gates
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.logs import configure_logs
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import tables as t


async def _echo() -> None:
    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while line := await reader.readline():
            writer.write(line)
            await writer.drain()
        writer.close()

    server = await asyncio.start_server(talk, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()


def _service(context: Context, port: int) -> None:
    import uvicorn

    app = create_app(context)
    router = APIRouter()

    @router.get("/api/v1/tenants/{tenant}/bench-floor")
    def floor(context: Ctx, tenant: Tenant) -> dict[str, str]:
        query = select(t.tenant.c.slug, t.tenant.c.name).where(t.tenant.c.id == tenant.id)
        row = context.store.transaction(lambda c: c.execute(query).one())
        return {"slug": row.slug, "name": row.name}

    app.router.routes.insert(0, router.routes[0])
    uvicorn.run(app, host="127.0.0.1", port=port, log_config=None, access_log=False)


def main() -> None:
    configure_logs("error")
    tune()
    if sys.argv[1] == "echo":
        asyncio.run(_echo())
    elif sys.argv[1] == "gate":
        serve_gates(make_context(Settings()), "127.0.0.1", 0, threading.Event(), lambda port: print(port, flush=True))
    else:
        settings = Settings()
        _service(make_context(settings), settings.port)


if __name__ == "__main__":
    main()
