"""Which provider runs the mailboxes of recipient domains: from the cache, otherwise from DNS."""

from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime, timedelta
from typing import TypeVar

from rust_gauge.core.dns import gather
from rust_gauge.core.mailflow import NO_MAIL, UNRESOLVED, find_provider
from rust_gauge.service.runtime.context import Context
from rust_gauge.store import providers

_LOOKUPS = 256  # recipient domains asked for side by side
_KEEP = {UNRESOLVED: timedelta(minutes=5), NO_MAIL: timedelta(hours=1)}
_KEEP_FOUND = timedelta(days=1)  # a recipient domain rarely moves to another provider
_MEMORY, _REMEMBERED_FOR, _MOST_REMEMBERED = "providers of domains", timedelta(minutes=5), 20_000
_EVER = datetime(2000, 1, 1, tzinfo=UTC)


def providers_for(context: Context, domains: Iterable[str]) -> dict[str, tuple[int, str]]:
    """(provider id, provider) of each recipient domain: from the cache, else from DNS."""
    now = context.clock()
    wanted = sorted(set(domains))
    known = context.store.transaction(lambda c: providers.known_domains(c, wanted, now))
    missing = [domain for domain in wanted if domain not in known]
    for start in range(0, len(missing), _LOOKUPS):
        part = missing[start : start + _LOOKUPS]
        found = dict(zip(part, context.resolver.run(gather(map(find_provider, part))), strict=True))
        # A resolver that is down must not hold up a load for the time-outs of all the rest.
        dead = len(part) > 8 and all(provider == UNRESOLVED for provider in found.values())
        if dead:
            found.update(dict.fromkeys(missing[start + _LOOKUPS :], UNRESOLVED))
        expires = {domain: now + _KEEP.get(provider, _KEEP_FOUND) for domain, provider in found.items()}
        silent = [domain for domain, provider in found.items() if provider == UNRESOLVED]
        if silent:  # what was known before is better than nothing while DNS gives no answer
            before = context.store.transaction(lambda c: providers.known_domains(c, silent, _EVER))  # noqa: B023
            found |= {domain: provider for domain, (_, provider) in before.items()}
        known.update(_remember(context, found, now, expires))
        if dead:
            break
    return known


def _remember(
    context: Context, found: dict[str, str], now: datetime, expires: dict[str, datetime]
) -> dict[str, tuple[int, str]]:
    return context.store.transaction(lambda c: providers.remember_domains(c, found, now, expires))


T = TypeVar("T")
Provider = tuple[int, str]
"""(provider id, provider)"""


class LookupNeeded(Exception):
    """Providers are needed inside a transaction that were not looked up before it began."""

    def __init__(self, domains: set[str]) -> None:
        super().__init__(f"{len(domains)} recipient domains")
        self.domains = domains


class ProviderLookup:
    """Providers of recipient domains, for use inside a transaction: those that were looked up before."""

    def __init__(self, known: Mapping[str, Provider]) -> None:
        self.known = known

    def of(self, domains: Iterable[str]) -> dict[str, Provider]:
        """Return the provider of each domain. LookupNeeded where one is missing."""
        wanted = set(domains)
        missing = wanted - self.known.keys()
        if missing:
            raise LookupNeeded(missing)
        return {domain: self.known[domain] for domain in wanted}


def with_lookups(context: Context, run: Callable[[ProviderLookup], T]) -> T:
    """Run a unit of work that may need providers.

    When it does, its transaction is taken back, DNS is asked with nothing open, and it is run again. What was found in
    the last minutes is remembered, so that nearly all units run once and ask nobody.
    """
    remembered = _remembered(context)
    lookup = ProviderLookup(remembered)
    while True:
        try:
            return run(lookup)
        except LookupNeeded as needed:
            found = dict.fromkeys(needed.domains, (0, "")) | providers_for(context, needed.domains)
            lookup = ProviderLookup({**lookup.known, **found})
            if len(remembered) < _MOST_REMEMBERED:
                remembered.update({name: one for name, one in found.items() if one[1]})


def _remembered(context: Context) -> dict[str, Provider]:
    """Return what this process looked up in the last minutes, so that not each question of an MTA runs twice."""
    now = context.clock()
    known: tuple[datetime, dict[str, Provider]] | None = context.memory.get(_MEMORY)
    if known is None or not timedelta(0) <= now - known[0] < _REMEMBERED_FOR or len(known[1]) >= _MOST_REMEMBERED:
        known = context.memory[_MEMORY] = (now, {})
    return known[1]
