"""Watches what changes in tenants for all open pages of a process: one question a second, however many there are."""

import asyncio
from collections import Counter
from collections.abc import AsyncIterator, Collection

import structlog
from starlette.concurrency import run_in_threadpool

from rust_gauge.service.runtime.context import Context
from rust_gauge.store import changes
from rust_gauge.store.engine import StoreError

log = structlog.get_logger()
Change = tuple[int, str]  # tenant id, what
_EVERY = 1.0  # seconds
_MOST_OF_ONE = 20  # pages that one account has open at a process
_MEMORY = "changes"


class TooManyPages(Exception):
    """An account has as many pages open as it may."""


class Watching:
    """Used from one event loop."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._pages: dict[asyncio.Queue[set[Change]], frozenset[int]] = {}
        self._of_account: Counter[int] = Counter()
        self._known: dict[Change, int] = {}
        self._watched: set[int] = set()  # tenants of which `known` has all numbers
        self._task: asyncio.Task[None] | None = None

    async def listen(self, account_id: int, tenant_ids: Collection[int]) -> AsyncIterator[set[Change]]:
        """Yield what changed in these tenants since the last time; an empty set now and then, so that callers go on.

        TooManyPages before the first.
        """
        if self._of_account[account_id] >= _MOST_OF_ONE:
            raise TooManyPages
        self._of_account[account_id] += 1
        news: asyncio.Queue[set[Change]] = asyncio.Queue()
        try:
            # Before the first answer: what changes after it is news, and nothing from before.
            await self._learn({*tenant_ids} - self._watched)
            self._pages[news] = frozenset(tenant_ids)
            if self._task is None:
                self._task = asyncio.create_task(self._watch())
            yield set()
            while True:
                try:
                    found = await asyncio.wait_for(news.get(), _EVERY)
                    while not news.empty():
                        found |= news.get_nowait()
                except TimeoutError:
                    found = set()
                yield found
        finally:
            self._pages.pop(news, None)
            self._of_account[account_id] -= 1

    async def _learn(self, tenants: set[int]) -> None:
        if tenants:
            found = await self._numbers(tenants)
            self._known |= {change: number for change, number in found.items() if change not in self._known}
            self._watched |= tenants

    async def _numbers(self, tenants: set[int]) -> dict[Change, int]:
        return await run_in_threadpool(self._context.store.transaction, lambda c: changes.numbers(c, tenants))

    async def _watch(self) -> None:
        """Ask until nobody listens any more."""
        while self._pages:
            tenants = set().union(*self._pages.values())
            try:
                found = await self._numbers(tenants)
            except StoreError as error:  # away for a while: what changed meanwhile is reported afterwards
                log.info("changes_not_watched", error=str(error))
            else:
                new = {change for change, number in found.items() if self._known.get(change) != number}
                self._known |= found
                for news, of in self._pages.items():
                    if mine := {change for change in new if change[0] in of}:
                        news.put_nowait(mine)
            await asyncio.sleep(_EVERY)
        self._task = None
        self._known, self._watched = {}, set()


def watching_of(context: Context) -> Watching:
    """Return that of this process."""
    found: Watching = context.memory.setdefault(_MEMORY, Watching(context))
    return found
