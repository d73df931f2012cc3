"""The worklist: troubles found, the items that they make, when an item is told, and what comes first."""

from rust_gauge.core.worklist.incident import join
from rust_gauge.core.worklist.item import (
    Item,
    Patience,
    State,
    Tell,
    acknowledge,
    close,
    follow,
    in_quiet_hours,
    put_off,
    rank,
)
from rust_gauge.core.worklist.trouble import Level, Trouble

__all__ = [
    "Item",
    "Level",
    "Patience",
    "State",
    "Tell",
    "Trouble",
    "acknowledge",
    "close",
    "follow",
    "in_quiet_hours",
    "join",
    "put_off",
    "rank",
]
