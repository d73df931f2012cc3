"""The worklist: incidents, the items made of them, when people are notified, and what comes first."""

from rust_gauge.core.worklist.incident import Incident, Level
from rust_gauge.core.worklist.item import (
    Item,
    Patience,
    State,
    Tell,
    acknowledge,
    explain_order,
    follow,
    in_quiet_hours,
    reopen,
    resolve,
    restore,
    snooze,
    sort_key,
)
from rust_gauge.core.worklist.joining import join

__all__ = [
    "Incident",
    "Item",
    "Level",
    "Patience",
    "State",
    "Tell",
    "acknowledge",
    "explain_order",
    "follow",
    "in_quiet_hours",
    "join",
    "reopen",
    "resolve",
    "restore",
    "snooze",
    "sort_key",
]
