"""What every benchmark starts from: a disposable MariaDB with the durable settings of real use, a DNS, a tenant."""

import platform
import shutil
import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from rust_gauge.core.roles import Role
from rust_gauge.launch.main import prepare
from rust_gauge.launch.mariadb import PrivateMariaDb
from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store import accounts
from rust_gauge.store.accounts import TenantAccess

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


@dataclass(frozen=True)
class Figure:
    """One line of the table. `ratio` is ours against the floor, as `name` states; None without a floor."""

    name: str
    ours: str
    floor: str
    ratio: float | None
    wanted: str


@dataclass
class Bench:
    context: Context
    tenant: TenantAccess


def middle_of(times: int, work: Callable[[], object]) -> float:
    """Seconds of the middle run."""
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def machine() -> str:
    """What this was measured on."""
    memory = next(line for line in Path("/proc/meminfo").read_text().splitlines() if line.startswith("MemTotal"))
    cores = Path("/proc/cpuinfo").read_text().count("processor\t")
    return f"{cores} cores, {int(memory.split()[1]) // 2**20} GiB, Python {platform.python_version()}"


@contextmanager
def running(memory: str = "1G") -> Iterator[Bench]:
    directory = Path(tempfile.mkdtemp(prefix="rust-gauge-bench-"))
    directory.chmod(0o711)
    private = PrivateMariaDb(directory / "mariadb", memory=memory)
    try:
        private.start()
        prepare(private.url)
        settings = Settings(database_url=private.url, dns_servers=["127.0.0.1:9"], dns_timeout=0.05)  # type: ignore[arg-type]
        context = make_context(settings, lambda: NOW)
        tenant = context.store.transaction(lambda c: accounts.add_tenant(c, "bench", "Bench", NOW))
        yield Bench(context, TenantAccess(tenant, "bench", "Bench", Role.ADMIN))
        context.close()
    finally:
        private.stop()
        shutil.rmtree(directory, ignore_errors=True)
