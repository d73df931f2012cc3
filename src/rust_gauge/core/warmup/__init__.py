"""Warm-up of a new sender: ceilings that grow in steps, when the next step may begin, and lists cut to fit.

`steps` makes a plan, `holding` decides at each mailbox provider whether it goes on, waits or steps back, `window` says
into which hours how much mail fits, `portions` cuts a list for them, and `calendar` writes them down.
"""

from rust_gauge.core.warmup.holding import Decision, Rate, StepDay, Track, Turn, decide
from rust_gauge.core.warmup.steps import Shape, Step, make_steps, part_of, steps_of
from rust_gauge.core.warmup.window import Opening, Window, openings

__all__ = [
    "Decision",
    "Opening",
    "Rate",
    "Shape",
    "Step",
    "StepDay",
    "Track",
    "Turn",
    "Window",
    "decide",
    "make_steps",
    "openings",
    "part_of",
    "steps_of",
]
