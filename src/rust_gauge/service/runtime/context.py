"""What every use case works with: the store, the resolver, the clock and the settings. Made once per process."""

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, TypeVar
from urllib.parse import urlsplit

from rust_gauge.core.dns import split_server
from rust_gauge.gateways.resolver import Resolver, ResolverSettings, system_servers
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store.engine import Store
from rust_gauge.store.replica import Replica

Clock = Callable[[], datetime]
T = TypeVar("T")


def utc_now() -> datetime:
    return datetime.now(UTC)


@dataclass(frozen=True, slots=True)
class Context:
    """The process's connections to the world. `clock` returns the time, aware and in UTC."""

    store: Store
    resolver: Resolver
    settings: Settings
    clock: Clock
    memory: dict[Any, Any] = field(default_factory=dict, compare=False)  # what may be forgotten at any time

    def unit(self, tenant_id: int, work: Callable[[UnitOfWork], T], *, by: str = "") -> T:
        """Run `work` as one unit: one transaction, done again from its beginning when it lost against another one."""
        now = self.clock()
        return self.store.transaction(
            lambda connection: work(UnitOfWork(connection, tenant_id, now, by, self.settings, self.memory))
        )

    def view(self, tenant_id: int, work: Callable[[UnitOfWork], T]) -> T:
        """Run `work`, which only reads, as one unit; of the replica where there is one."""
        now = self.clock()
        return self.store.read(
            lambda connection: work(UnitOfWork(connection, tenant_id, now, "", self.settings, self.memory))
        )

    def close(self) -> None:
        self.resolver.close()
        self.store.close()


def make_context(settings: Settings, clock: Clock = utc_now) -> Context:
    """ValueError when there is no database URL; nothing is connected yet."""
    if settings.database_url is None:
        raise ValueError("database_url is not set")
    servers = tuple(split_server(text) for text in settings.dns_servers) or system_servers()
    resolver = Resolver(
        ResolverSettings(
            servers,
            timeout=settings.dns_timeout,
            attempts=settings.dns_attempts,
            tcp=settings.dns_tcp,
            per_server=settings.dns_per_server,
            reach={address: split_server(target) for address, target in settings.reach.items()},
            trusted=frozenset([text.partition("=")[2] for text in settings.watch_resolvers] + settings.update_servers),
            ca_file=str(settings.tls_ca_file or ""),
            name=urlsplit(settings.public_url).hostname or "localhost",
        )
    )
    store = Store(settings.database_url.get_secret_value(), patience=settings.database_patience)
    if settings.database_read_url is not None:
        store.reader = Replica(settings.database_read_url.get_secret_value(), store, settings.database_read_lag)
    return Context(store, resolver, settings, clock)
