"""What a process knows of a tenant while it takes events in: ids of names, who runs recipient domains, the rules.

It is shared by all loads of the process, and only grows: ids never change, a name without events does no harm, and what
belongs to one load (the reply pattern of each of its events) lives in that load. It is begun again from time to time.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection

from rust_gauge.core.mailflow import Event
from rust_gauge.core.mailflow.event import REFUSALS, Path
from rust_gauge.core.mailflow.event import judge as judge_event
from rust_gauge.core.replies.reply_pattern import reply_pattern_of
from rust_gauge.core.suppression import Matching
from rust_gauge.service.intake import turns
from rust_gauge.service.mailflow.retention import kept_since
from rust_gauge.service.mailflow.rules import TenantRules, rules_of
from rust_gauge.service.providers.lookup import providers_for
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.suppression.policy import matchings_of
from rust_gauge.store import events as store_events
from rust_gauge.store import tables as t
from rust_gauge.store.intake import Load, Names, labels_of
from rust_gauge.store.trouble import Troubled

_KNOWN_FOR = timedelta(minutes=10)  # how long a process remembers names and who runs a recipient domain
_MOST_DOMAINS = 200_000  # recipient domains; then it is begun again
_MOST_PATTERNS = 200_000  # of a tenant: replies with a random part that is not recognised must not fill memory
_MOST_PATHS = 2000  # ways that rows are sent


def known_names(context: Context, tenant_id: int) -> "KnownNames":
    """Return what this process knows of a tenant; begun again after a while, and when it has grown large."""
    now = context.clock()
    known: KnownNames | None = context.memory.get(("names", tenant_id))
    if known is None or not timedelta(0) <= now - known.begun < _KNOWN_FOR or known.is_large:
        known = context.memory[("names", tenant_id)] = KnownNames(context, tenant_id)
    return known


def forget_names(context: Context, tenant_id: int) -> None:
    """Start the next load afresh, with the rules of that moment. Loads in progress keep what they have."""
    context.memory.pop(("names", tenant_id), None)


@dataclass(slots=True)
class _Interned:
    """Ids that were found in one transaction. They are shared once it is committed, not before."""

    domains: dict[str, int] = field(default_factory=dict)
    streams: dict[str, int] = field(default_factory=dict)
    relays: dict[str, int] = field(default_factory=dict)
    labels: dict[tuple[int, str], int] = field(default_factory=dict)
    reply_patterns: dict[str, int] = field(default_factory=dict)


class KnownNames:
    """Ids of all names that loads use, found as they come, in transactions of their own."""

    def __init__(self, context: Context, tenant_id: int) -> None:
        self.begun: datetime = context.clock()
        self.names = Names(troubled=context.memory.setdefault(("troubled", tenant_id), Troubled()))
        self.rules: TenantRules = rules_of(context, tenant_id)
        # Where only digests of addresses are kept, what was said about a recipient is stored without addresses,
        # and the recipient under a pseudonym.
        matching = context.unit(tenant_id, matchings_of)[0]
        self.hiding: Matching | None = matching if matching.secret else None
        self.kept_since = context.store.transaction(lambda c: kept_since(c, tenant_id, self.begun))
        self.short_domains: dict[str, tuple[str, int]] = {}
        self._short_paths: dict[tuple[Any, ...], Path] = {}
        self._context = context
        self._tenant_id = tenant_id
        self._paths: set[Path] = set()
        self._wordings: dict[str, int] = {}  # by reply pattern

    @property
    def is_large(self) -> bool:
        """Return whether it is time to begin again."""
        return len(self.short_domains) > _MOST_DOMAINS or len(self._wordings) > _MOST_PATTERNS

    def short_paths(self) -> Iterable[tuple[tuple[Any, ...], Path]]:
        """Ways that rows were sent, by what the rows themselves say; those of a moment, as other loads add more."""
        return list(self._short_paths.items())

    def remember_path(self, key: tuple[Any, ...], path: Path) -> None:
        """Rows in this form can take the fast path in later loads, too."""
        if len(self._short_paths) < _MOST_PATHS:
            self._short_paths[key] = path

    def learn(self, events: Sequence[Event], load: Load) -> Sequence[Event]:
        """Return an id for every name of these events, and a cause for every rejection.

        Looks up who runs new recipient domains, so it must not be called inside a transaction.
        """
        paths = {event.path for event in events} - self._paths
        examples: dict[str, Event] = {}  # by reply pattern
        reply_patterns: dict[bytes, str] = {}  # by identity of the event
        for event in events:
            if event.kind in REFUSALS:
                reply_pattern = reply_pattern_of(event.diagnostic, event.reply_code, event.enhanced_code)
                if reply_pattern:
                    reply_patterns[event.identity] = reply_pattern
                    examples[reply_pattern] = event
        new_reply_patterns = {text: event for text, event in examples.items() if text not in self._wordings}
        if paths or new_reply_patterns:
            found = self._context.store.transaction(lambda c: self._intern(c, paths, new_reply_patterns))
            self.names.domains.update(found.domains)
            self.names.streams.update(found.streams)
            self.names.relays.update(found.relays)
            self.names.labels.update(found.labels)
            self._wordings.update(found.reply_patterns)
            self._paths |= paths
        load.reply_patterns.update({identity: self._wordings[text] for identity, text in reply_patterns.items()})
        domains = {event.recipient.domain for event in events} - self.names.providers.keys()
        if domains:
            with turns.given_up():
                self.names.providers.update(providers_for(self._context, domains))
        return [self._judged(event) for event in events] if reply_patterns else events

    def _judged(self, event: Event) -> Event:
        if event.kind not in REFUSALS or event.cause_rule:
            return event
        provider = self.names.providers[event.recipient.domain][1]
        return judge_event(
            event,
            self.rules.classifier.classify(event.diagnostic, event.reply_code, event.enhanced_code, provider),
        )

    def _intern(self, connection: Connection, paths: set[Path], reply_patterns: dict[str, Event]) -> _Interned:
        names, tenant_id, now = self.names, self._tenant_id, self._context.clock()
        domains = {path.domain for path in paths} - names.domains.keys()
        streams = {path.stream for path in paths} - names.streams.keys()
        relays = {path.relay for path in paths} - names.relays.keys()
        labels = {label for path in paths for label in labels_of(path)} - names.labels.keys()
        examples = {text: event.diagnostic or text for text, event in reply_patterns.items()}
        made = {"origin": "seen", "selectors": [], "created_at": now}
        return _Interned(
            store_events.intern(connection, t.sending_domain, tenant_id, domains, **made),
            store_events.intern(connection, t.stream, tenant_id, streams),
            store_events.intern(connection, t.relay, tenant_id, relays),
            store_events.intern_labels(connection, tenant_id, labels),
            store_events.intern_wordings(connection, tenant_id, examples, now),
        )
