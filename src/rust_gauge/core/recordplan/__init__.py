"""The record plan: what a sending domain ought to publish (`plan`, `spf`, `relay`), in every form (`record`), beside
what is published (`compare`, with `slips` of copying, `meaning` of texts, wrong `places`), and how it spreads (`watch`).
"""

from rust_gauge.core.recordplan.compare import Comparison, State, compare_plan
from rust_gauge.core.recordplan.plan import (
    STAGES,
    Advice,
    PlanRequest,
    PlanSettings,
    RecordPlan,
    find_zone,
    make_plan,
    plan_records,
)
from rust_gauge.core.recordplan.record import (
    HostForms,
    PlannedRecord,
    Purpose,
    ValueForms,
    host_forms,
    quoted,
    value_forms,
    zone_line,
)
from rust_gauge.core.recordplan.relay import DkimNeed, HostNeed, PlannedStream, Relay, SendingHost
from rust_gauge.core.recordplan.slips import Cause, Piece, differences
from rust_gauge.core.recordplan.spf import IncludeCost, SpfOption, SpfPlan, merge_spf

__all__ = [
    "STAGES", "Advice", "Cause", "Comparison", "DkimNeed", "HostForms", "HostNeed", "IncludeCost", "Piece", "PlanRequest",
    "PlanSettings", "PlannedRecord", "PlannedStream", "Purpose", "RecordPlan", "Relay", "SendingHost", "SpfOption",
    "SpfPlan", "State", "ValueForms", "compare_plan", "differences", "find_zone", "host_forms", "make_plan", "merge_spf",
    "plan_records", "quoted", "value_forms", "zone_line",
]  # fmt: skip
