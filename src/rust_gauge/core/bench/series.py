"""Messages of one template, and how much of the spread of their marks goes with the path that they took."""

import re
from collections.abc import Hashable, Mapping, Sequence
from statistics import fmean
from typing import TypeVar

_PARTS = re.compile(r"[\w-]*\d[\w-]*")
_PREFIX = re.compile(r"^\s*(?:\[[^\]]{1,40}\]|(?:re|fwd?|aw|wg|tr|sv)\s*:)\s*", re.IGNORECASE)
_LONGEST = 200
_Path = TypeVar("_Path", bound=Hashable)


def series_of(subject: str, stated: str = "") -> str:
    """Return what a message is one of: what a header field states, or the subject without whatever has a digit in it.

    Two subjects that differ in an order number, a date or a test run are of one series.
    """
    name = " ".join((stated or _PARTS.sub("…", _PREFIX.sub("", subject))).split())
    return name[:_LONGEST]


def spread(marks: Mapping[_Path, Sequence[float]]) -> float | None:
    """Return the share of the variance of marks that goes with the path, from 0 to 1: between paths, of the whole.

    None where that says nothing: with one path only, with a path that was taken once, or without any variance.
    """
    groups = [list(group) for group in marks.values()]
    every = [mark for group in groups for mark in group]
    if len(groups) < 2 or any(len(group) < 2 for group in groups):
        return None
    middle = fmean(every)
    whole = sum((mark - middle) ** 2 for mark in every)
    if whole == 0:
        return None
    between = sum(len(group) * (fmean(group) - middle) ** 2 for group in groups)
    return min(1.0, between / whole)
