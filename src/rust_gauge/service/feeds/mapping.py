"""A source's documents as events: the mapping of a feed, tried on a sample."""

import json
from typing import Any

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.feeds import FeedDefaults, FeedMapping, MappingDryRun, MappingDryRunResult, TrialRow, TrialStep
from rust_gauge.core.mailflow.mapping import FieldRule, Mapping, MappingError, Unwrap
from rust_gauge.service.intake.rows import read_row
from rust_gauge.service.runtime.context import Context
from rust_gauge.store.accounts import TenantAccess


def make_mapping(mapping: FeedMapping) -> Mapping:
    """The core's mapping. MappingError says what cannot be used."""
    return Mapping(
        {name: FieldRule(**rule.model_dump()) for name, rule in mapping.fields.items()},
        tuple(Unwrap(step.at, step.form) for step in mapping.unwrap),
        mapping.rows,
        mapping.each,
    )


def try_mapping(context: Context, tenant: TenantAccess, trial: MappingDryRun) -> MappingDryRunResult:
    """A sample becoming events, field by field; nothing is stored."""
    try:
        document = json.loads(trial.sample)
    except (ValueError, RecursionError):
        lines = [line for line in trial.sample.splitlines() if line.strip()]
        try:
            document = json.loads(lines[0]) if lines else None
        except (ValueError, RecursionError) as error:
            return MappingDryRunResult(problem="The sample is not valid JSON", remedy=str(error)[:200])
    if trial.mapping is None:
        documents = document if isinstance(document, list) else [document]
        return MappingDryRunResult(rows=[_tried(context, document, [], trial.defaults) for document in documents[:100]])
    try:
        mapping = make_mapping(trial.mapping)
        many = isinstance(document, list) and trial.mapping.rows == "$" and not trial.mapping.unwrap
        made = [row for one in (document if many else [document]) for row in mapping.apply(one)][:100]
    except MappingError as error:
        return MappingDryRunResult(problem=str(error), remedy=error.remedy)
    rows = []
    for row in made:
        steps = [TrialStep(field=s.field, path=s.path, found=s.found, value=s.value) for s in row.steps]
        if row.problem is not None:
            what = ProblemError(line=1, what=row.problem.what, remedy=row.problem.remedy or row.problem.why)
            rows.append(TrialRow(left_out=False, steps=steps, event=None, problems=[what]))
        elif row.left_out:
            rows.append(TrialRow(left_out=True, steps=steps, event=None, problems=[]))
        else:
            rows.append(_tried(context, row.values, steps, trial.defaults))
    problem = "" if rows else "The paths match no rows of this sample"
    return MappingDryRunResult(problem=problem, rows=rows, remedy="" if rows else "Check `rows` and `each`")


def _tried(context: Context, value: Any, steps: list[TrialStep], defaults: FeedDefaults) -> TrialRow:
    now = context.clock()
    if isinstance(value, dict):
        value = {**{k: v for k, v in defaults.model_dump().items() if v and k != "tray"}, **value}
        if steps:
            value.setdefault("time", now.isoformat())
    event, _, problems = read_row(value, False, 1, now)
    if event is None:
        return TrialRow(left_out=False, steps=steps, event=None, problems=problems)
    shown = {
        "kind": str(event.kind), "time": event.occurred_at.isoformat(), "domain": event.domain,
        "recipient": str(event.recipient), "stream": event.stream, "relay": event.relay,
        "message_id": event.message_id, "cause": str(event.cause), "permanence": str(event.permanence),
        "cause_rule": event.cause_rule, "diagnostic": event.diagnostic, "campaign": event.campaign,
        "tags": list(event.tags), "sending_ip": event.sending_ip, "remote_host": event.remote_host,
    }  # fmt: skip
    return TrialRow(left_out=False, steps=steps, event={k: v for k, v in shown.items() if v}, problems=[])
