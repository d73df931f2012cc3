"""The record plan: what a sending domain ought to publish (`plan`, `spf`, `relay`), in every form (`record`), beside
what is published (`compare`, with `slips` of copying, `meaning` of texts, wrong `places`), and how it spreads (`watch`).
"""

from rust_gauge.core.recordplan.change import RrsetChange, ZoneChange, plan_changes
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
from rust_gauge.core.recordplan.slips import Cause, Piece, differences
from rust_gauge.core.recordplan.spf import IncludeCost, SpfOption, SpfPlan, merge_spf
from rust_gauge.core.recordplan.watch import (
    Ending,
    Holds,
    Sighting,
    WatchServer,
    ending,
    next_look,
    seconds_left,
    sight,
    silent_servers,
    watch_questions,
)
from rust_gauge.core.sending import DkimNeed, HostNeed, PlannedStream, Relay, SendingHost

__all__ = [
    "STAGES",
    "Advice",
    "Cause",
    "Comparison",
    "DkimNeed",
    "Ending",
    "Holds",
    "HostForms",
    "HostNeed",
    "IncludeCost",
    "Piece",
    "PlanRequest",
    "PlanSettings",
    "PlannedRecord",
    "PlannedStream",
    "Purpose",
    "RecordPlan",
    "Relay",
    "RrsetChange",
    "SendingHost",
    "Sighting",
    "SpfOption",
    "SpfPlan",
    "State",
    "ValueForms",
    "WatchServer",
    "ZoneChange",
    "compare_plan",
    "differences",
    "ending",
    "find_zone",
    "host_forms",
    "make_plan",
    "merge_spf",
    "next_look",
    "plan_changes",
    "plan_records",
    "quoted",
    "seconds_left",
    "sight",
    "silent_servers",
    "value_forms",
    "watch_questions",
    "zone_line",
]  # fmt: skip
