"""Warm-up of a new sender: ceilings that grow in steps, and when the next step may begin.

`steps` makes a plan, `holding` decides at each mailbox provider whether it goes on, waits or steps back.
"""

from rust_gauge.core.warmup.holding import Decision, StepDay, Turn, decide
from rust_gauge.core.warmup.steps import Shape, Step, make_steps

__all__ = ["Decision", "Shape", "Step", "StepDay", "Turn", "decide", "make_steps"]
