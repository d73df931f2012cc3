"""Placement: copies of a message for seeds, where each landed, and what that says about a provider.

`copies` makes and recognises copies, `arrival` reads what a receiver did to one, `outcomes` has the results and sums.
"""

from rust_gauge.core.placement.arrival import Arrival, FieldChange, Hop, read_arrival
from rust_gauge.core.placement.copies import MARK_FIELD, CopyPlan, ExtraField, make_copy, new_mark
from rust_gauge.core.placement.outcomes import (
    FOUND,
    JUDGED,
    OPEN,
    FolderMeaning,
    Outcome,
    ProviderPlacement,
    sum_up,
)

__all__ = [
    "FOUND",
    "JUDGED",
    "MARK_FIELD",
    "OPEN",
    "Arrival",
    "CopyPlan",
    "ExtraField",
    "FieldChange",
    "FolderMeaning",
    "Hop",
    "Outcome",
    "ProviderPlacement",
    "make_copy",
    "new_mark",
    "read_arrival",
    "sum_up",
]
