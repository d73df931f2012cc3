"""Mail flow: the one event shape, how events are counted, rates with their uncertainty, who runs a mailbox."""

from rust_gauge.core.mailflow.event import Event, Kind, make_event
from rust_gauge.core.mailflow.provider import NO_MAIL, UNRESOLVED, find_provider
from rust_gauge.core.mailflow.rates import Difference, FlowCounts, Rate, difference, rate
from rust_gauge.core.mailflow.tally import CounterKey, Tally

__all__ = [
    "NO_MAIL",
    "UNRESOLVED",
    "CounterKey",
    "Difference",
    "Event",
    "FlowCounts",
    "Kind",
    "Rate",
    "Tally",
    "difference",
    "find_provider",
    "make_event",
    "rate",
]
