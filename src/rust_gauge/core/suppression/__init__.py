"""Suppression: which events hold an address and for how long, and the answer to "may I mail these?"."""

from rust_gauge.core.suppression.clearance import Asking, Clearance, Entry, judge, no_address
from rust_gauge.core.suppression.history import Asked, Rehearsal, Seen, Tally, asked_by, standing_wishes
from rust_gauge.core.suppression.matching import Matching, SameMailbox
from rust_gauge.core.suppression.policy import DEFAULT_POLICY, Act, Policy, PolicyError, Proposals, Rule
from rust_gauge.core.suppression.reasons import FROM_BOUNCES, PROPOSED, Change, Reason, Scope, State
from rust_gauge.core.suppression.status import Status, Wish, ask, confirm, end, is_over

__all__ = [
    "DEFAULT_POLICY",
    "FROM_BOUNCES",
    "PROPOSED",
    "Act",
    "Asked",
    "Asking",
    "Change",
    "Clearance",
    "Entry",
    "Matching",
    "Policy",
    "PolicyError",
    "Proposals",
    "Reason",
    "Rehearsal",
    "Rule",
    "SameMailbox",
    "Scope",
    "Seen",
    "State",
    "Status",
    "Tally",
    "Wish",
    "ask",
    "asked_by",
    "confirm",
    "end",
    "is_over",
    "judge",
    "no_address",
    "standing_wishes",
]  # fmt: skip
