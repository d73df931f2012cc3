"""A domain's path to `p=reject`: the stage that it has published, what the next one waits for, and when to go back."""

from datetime import date, datetime, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.plans import PlanSettings
from rust_gauge.contract.receiver_reports import (
    PathAdvance,
    PathCondition,
    PathSettings,
    PathStage,
    PolicyPath,
)
from rust_gauge.core.dmarc.changed import changed_policy
from rust_gauge.core.reports.outcomes import Outcome
from rust_gauge.core.reports.path import (
    STAGES,
    PathDay,
    PathRules,
    Stage,
    conditions_of,
    is_broken,
    next_stage,
    stage_before,
    stage_of,
)
from rust_gauge.core.reports.sources import Verdict
from rust_gauge.service.domains.domains import find_domain
from rust_gauge.service.plans import plans
from rust_gauge.service.plans.published import PublishedPolicy, look_up_policy, published_policy
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import policy_paths as store
from rust_gauge.store import report_sources
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.columns import PolicyPathColumns
from rust_gauge.store.policy_paths import PathRow

_LOOKED_BACK = timedelta(days=100)
_LATELY = timedelta(days=14)
_EVERY = timedelta(hours=6)
_AT_ONCE = 50  # records looked up in one tick
_PLANNED = {Stage.WATCH: ("watch", 100), Stage.TRIAL: ("quarantine", 10), Stage.QUARANTINE: ("quarantine", 100),
            Stage.REJECT: ("reject", 100)}  # fmt: skip


def get_path(context: Context, tenant: TenantAccess, name: str) -> PolicyPath:
    """Return how far a domain is, with its record as it is published now. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    published = published_policy(context, row.name)
    now = context.clock()

    def work(connection: Connection) -> PolicyPath:
        path = store.get_path(connection, row.id)
        if path is not None:
            _follow(connection, path, published, now)
            path = store.get_path(connection, row.id)
        return shown(connection, row.id, row.name, path, published, now)

    return context.store.transaction(work)


def put_settings(context: Context, tenant: TenantAccess, name: str, settings: PathSettings, by: str) -> PolicyPath:
    """Begin a domain's path, or change what its next stage waits for. ServiceProblem `not-found`; `invalid-request`
    where a record of a domain above holds: p=none of its own, the first stage, could be weaker; `dns-unanswered` where
    it is new and DNS does not tell what is published."""
    row = find_domain(context, tenant, name)
    published = published_policy(context, row.name)
    governing = published.governing
    if governing is not None:
        what = f"{row.name} has no DMARC record of its own: that of {governing.domain} holds"
        remedy = (
            f"Watch the path of {governing.domain}, or publish a record here that is as strict as p={governing.policy}"
        )
        raise ServiceProblem("invalid-request", what, remedy=remedy)
    now = context.clock()

    def work(connection: Connection) -> None:
        if published.state == "no_answer" and store.get_path(connection, row.id) is None:
            what = f"DNS gave no answer for {published.unanswered}, so that the stage of {row.name} is not known"
            raise ServiceProblem("dns-unanswered", what, remedy="Try again when its name servers answer")
        store.put_path(
            connection, domain_id=row.id, tenant_id=tenant.id, stage=stage_of(published.record).value,
            stage_since=now.date(), published=published.record[:1000], settings=settings.model_dump(), started_by=by,
            started_at=now, checked_at=now, asked_at=now,
        )  # fmt: skip

    context.store.transaction(work)
    return get_path(context, tenant, name)


def stop(context: Context, tenant: TenantAccess, name: str) -> None:
    """End a domain's path; its record stays as it is. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    context.store.transaction(lambda c: store.delete_path(c, row.id))


def advance(context: Context, tenant: TenantAccess, name: str, body: PathAdvance) -> PolicyPath:
    """Put a stage into the domain's record plan, from where it is published and watched. ServiceProblem `not-found`."""
    row = find_domain(context, tenant, name)
    stage, percent = _PLANNED[Stage(body.stage)]
    settings = plans.settings_of(row).model_dump()
    changed = PlanSettings.model_validate({**settings, "stage": stage, "policy_percent": percent})
    plans.put_settings(context, tenant, name, changed)
    return get_path(context, tenant, name)


def follow_due(context: Context) -> None:
    """Look up the published records of paths a few times a day: the stage is what is published, whoever changed it."""
    now = context.clock()
    before = (now - _EVERY).replace(tzinfo=None)
    due = context.store.transaction(lambda c: store.due_paths(c, before, _AT_ONCE))

    def done(number: int, published: PublishedPolicy | Exception) -> bool:
        answer = PublishedPolicy("no_answer") if isinstance(published, Exception) else published
        context.store.transaction(lambda c: _follow(c, due[number], answer, now))
        return True

    if due:
        context.resolver.run_many((look_up_policy(path.name) for path in due), done=done)


def _follow(connection: Connection, path: PathRow, published: PublishedPolicy, now: datetime) -> None:
    """Store what is published. Without an answer the stage stays; without a record it is none, and the record last seen
    is kept for its other tags."""
    if published.state == "no_answer":
        store.update_path(connection, path.domain_id, asked_at=now)
        return
    values: PolicyPathColumns = {"checked_at": now, "asked_at": now}
    if published.record:
        values["published"] = published.record[:1000]
    stage = stage_of(published.record).value
    if stage != path.stage:
        values |= {"stage": stage, "stage_since": now.date()}
    store.update_path(connection, path.domain_id, **values)


def shown(
    connection: Connection, domain_id: int, name: str, path: PathRow | None, published: PublishedPolicy, now: datetime
) -> PolicyPath:
    """Return a path as the contract has it. Where its record is not known, or another holds, no stage is proposed."""
    settings = PathSettings.model_validate(path.settings if path else {})
    rules = PathRules(
        settings.aligned_share, settings.quiet_days, settings.unknown_a_day, settings.stage_days,
    )  # fmt: skip
    stage = Stage(path.stage) if path else stage_of(published.record)
    since = path.stage_since if path else None
    about = PolicyPath(
        domain=name, running=path is not None, settings=settings, record_state=published.state,
        stage=stage.value or None, stage_since=since, published=published.record,
        checked_at=path.checked_at if path else None, stages=[], conditions=[], next_stage=None, ready=False,
        summary=_summary_without_stage(name, published, path),
    )  # fmt: skip
    governing = published.governing
    if governing is not None:
        return about.model_copy(update={"governed_by": governing.domain, "governing_policy": governing.policy})
    answered = published.state != "no_answer"
    if published.state == "several" or not (answered or stage):
        return about
    days = path_days(connection, domain_id, now.date() - _LOOKED_BACK, now.date())
    following = next_stage(stage)
    conditions = conditions_of(rules, days, since or now.date(), now.date()) if following else ()
    if stage is Stage.NONE:
        conditions = ()  # the first stage asks for reports and changes nothing
    lately = [each for each in days if each.day > now.date() - _LATELY]  # what failed long ago is no alarm
    broken = is_broken(rules, lately, stage)
    ready = following is not None and all(each.met for each in conditions)
    record = published.record or (path.published if path else "")
    summary = _summary(name, stage, following, conditions_met=sum(each.met for each in conditions), of=len(conditions),
                       broken=broken is not None)  # fmt: skip
    return about.model_copy(update={
        "published": record if published.state == "no_answer" else published.record,
        "stages": [PathStage(stage=each.value, state=_state(each, stage, following),
                             record=changed_policy(record, each.tags)) for each in STAGES],
        "conditions": [PathCondition(kind=each.kind, met=each.met, measured=each.measured, wanted=each.wanted)
                       for each in conditions],
        "next_stage": following.value if following else None, "ready": ready and broken is None and answered,
        "broken": _broken(broken) if broken else "",
        "return_record": changed_policy(record, stage_before(stage).tags) if broken else "",
        "summary": summary if answered or broken else about.summary,
    })  # fmt: skip


def path_days(connection: Connection, domain_id: int, since: date, until: date) -> list[PathDay]:
    """Return what reports tell of each day, for those that have any."""
    ours: dict[date, int] = {}
    aligned: dict[date, int] = {}
    seen: set[date] = set()
    for each in report_sources.sums_by_verdict(connection, domain_id, since, until):
        seen.add(each.day)
        if each.verdict == Verdict.OURS:
            ours[each.day] = ours.get(each.day, 0) + each.n
            if Outcome(each.outcome).aligned:
                aligned[each.day] = aligned.get(each.day, 0) + each.n
    unknown = store.largest_unknown(connection, domain_id, since, until)
    return [
        PathDay(day, ours.get(day, 0), aligned.get(day, 0), unknown.get(day, ("", 0))) for day in sorted(seen)
    ]  # fmt: skip


def _state(stage: Stage, present: Stage, following: Stage | None) -> str:
    if stage is present:
        return "current"
    if stage is following:
        return "next"
    done = present is not Stage.NONE and STAGES.index(stage) < STAGES.index(present)
    return "done" if done else "later"


def _broken(broken: tuple[int, int]) -> str:
    failed, ours = broken
    return f"{failed:,} of {ours:,} messages of ours did not align on the newest days with reports"


def _summary_without_stage(name: str, published: PublishedPolicy, path: PathRow | None) -> str:
    governing = published.governing
    if governing is not None:
        return (
            f"{name} has no record of its own: that of {governing.domain} holds, and asks for {governing.policy} here"
        )
    if published.state == "several":
        return f"{name} publishes several DMARC records, and receivers use none of them: publish one"
    seen = f"; on {path.checked_at:%Y-%m-%d} it was at {path.stage}" if path and path.checked_at and path.stage else ""
    return f"DNS gave no answer for {published.unanswered}: the stage of {name} is not known now{seen}"


def _summary(name: str, stage: Stage, following: Stage | None, *, conditions_met: int, of: int, broken: bool) -> str:
    if broken:
        return f"Mail of ours fails at {name}: go back one stage until it is fixed"
    if stage is Stage.NONE:
        return f"{name} publishes no DMARC record: the first stage asks for reports and changes nothing"
    if following is None:
        return f"{name} has p=reject"
    if conditions_met == of:
        return f"{name} is ready for {following.value}"
    return f"{name} waits at {stage.value}: {conditions_met} of {of} conditions for {following.value} are met"
