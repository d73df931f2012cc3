"""Work for several tenants of the demo side by side, each in a process of its own with its own connection."""

import multiprocessing
import os
import signal
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from functools import partial
from typing import TypeVar

from rust_gauge.service.runtime.context import Context, make_context
from rust_gauge.service.runtime.logs import configure_logs
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store.accounts import TenantAccess

T = TypeVar("T")
Work = Callable[[Context, TenantAccess, datetime], T]
_LOOK_EVERY = 0.5  # seconds between two looks at whether to stop


def for_each(
    context: Context, tenants: Sequence[TenantAccess], work: Work[T], now: datetime, check: Callable[[], None],
    *, apart: bool,
) -> Iterator[tuple[TenantAccess, T]]:  # fmt: skip
    """Yield each tenant with what `work` returned for it, as they are ready. `check` is called meanwhile and may raise:
    then the processes are ended. `apart`: in processes; else here, one after the other.

    `work` is a function of a module, and commits what it did in steps that can be repeated.
    """
    if not apart or len(tenants) < 2:
        for tenant in tenants:
            check()
            yield tenant, work(context, tenant, now)
        return
    count = min(len(tenants), os.cpu_count() or 1)
    with multiprocessing.get_context("spawn").Pool(count, _begin) as pool:
        found = pool.imap_unordered(partial(_work, context.settings, work, now), tenants)
        waiting = len(tenants)
        while waiting:
            try:
                tenant, result = found.next(_LOOK_EVERY)
            except multiprocessing.TimeoutError:
                check()
                continue
            waiting -= 1
            yield tenant, result


def _begin() -> None:
    """Leave Ctrl-C, which reaches every process of a terminal, to the one that started this; report warnings only."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    configure_logs("warning")


def _work(settings: Settings, work: Work[T], now: datetime, tenant: TenantAccess) -> tuple[TenantAccess, T]:
    context = make_context(settings)
    try:
        return tenant, work(context, tenant, now)
    finally:
        context.close()
