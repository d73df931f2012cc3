"""What placement runs show: copies of a schedule in spam or missing, schedules that do not start, seeds not read."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.placement import ScheduleAlert
from rust_gauge.core.mailflow.rates import Rate, rate
from rust_gauge.core.placement import Outcome, ProviderPlacement, sum_up
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.placement.runs import names_of
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.worklist.place import Place
from rust_gauge.store import placement, seeds
from rust_gauge.store import placement_schedules as store
from rust_gauge.store.placement import RunRow
from rust_gauge.store.placement_schedules import ScheduleRow

_LOOKED_BACK = timedelta(days=35)  # a monthly schedule's last run
_REMEDY = (
    "See what else changed the day placement turned (Bench, Placement), and the assay of the message. Undo the change, "
    "or send to engaged recipients only until copies are in the inbox again."
)


def placement_problems(unit: UnitOfWork, place: Place) -> list[Incident]:
    """What is wrong with the placement of a tenant's schedules now."""
    connection = unit.connection
    schedules = store.list_schedules(connection, place.tenant.id)
    out = [_not_started(row, unit.now) for row in schedules if row.enabled and row.problem]
    alerts = {
        row.id: ScheduleAlert.model_validate(row.settings["alert"])
        for row in schedules if row.enabled and row.settings["alert"] is not None
    }  # fmt: skip
    newest: dict[int, RunRow] = {}
    for run in store.newest_runs(connection, list(alerts), unit.now - _LOOKED_BACK) if alerts else ():
        waited = unit.now - _started(run)
        if run.schedule_id is not None and waited >= timedelta(minutes=alerts[run.schedule_id].after_minutes):
            newest.setdefault(run.schedule_id, run)
    by_id = {row.id: row for row in schedules}
    for id, run in newest.items():
        out += _badly_placed(connection, place, by_id[id], alerts[id], run)
    return out + _unread(connection, place, schedules, unit.now)


def _badly_placed(
    connection: Connection, place: Place, schedule: ScheduleRow, alert: ScheduleAlert, run: RunRow
) -> list[Incident]:
    labels = names_of(connection, place.tenant.id).providers
    counts = placement.counts_of(connection, [run.id])
    domain = placement.header_from_domain(connection, run)
    out = []
    for placed in sum_up((row.provider, Outcome(row.outcome), row.copies) for row in counts):
        bad, share = _aside(placed)
        if share is None or bad < alert.copies or share.value < alert.share:
            continue
        label = labels.get(placed.provider, placed.provider)
        out.append(
            Incident(
                f"placement:{domain}:{placed.provider}", "placement", "domain", domain,
                f"Test copies in spam or missing at {label}: {domain}",
                f"{bad} of {share.total} copies of run {run.id} ({schedule.name}) were in spam, refused or not found "
                f"{alert.after_minutes} minutes after its start. {_certainty(share)}",
                Level.FIX if share.low > 0.2 else Level.INVESTIGATE, _started(run), _mail_at(place, domain, placed),
                _REMEDY, evidence=(
                    f"run {run.id}, started {_started(run):%Y-%m-%d %H:%M} UTC: {_listed(placed)}",
                    f"reported from {alert.share:.0%} of at least {alert.copies} copies on",
                ),
                recheck="placement", topic="placement", domains=(domain,), providers=(label,),
            )
        )  # fmt: skip
    return out


def _aside(placed: ProviderPlacement) -> tuple[int, Rate | None]:
    """Return how many copies are in spam, lost or not found yet, and their share."""
    counts = placed.counts
    bad = sum(counts.get(o, 0) for o in (Outcome.SPAM, Outcome.MISSING, Outcome.REFUSED, Outcome.SENT))
    total = placed.judged + counts.get(Outcome.SENT, 0)
    return bad, rate(bad, total)


def _certainty(share: Rate) -> str:
    return f"The share may be between {100 * share.low:.0f} and {100 * share.high:.0f} % (95 % interval)."


def _listed(placed: ProviderPlacement) -> str:
    said = {Outcome.SENT: "not found", Outcome.NOT_SENT: "not sent", Outcome.UNREAD: "seed not read"}
    return ", ".join(
        f"{number} {said.get(outcome, outcome.value)}" for outcome, number in placed.counts.items()
        if number and outcome is not Outcome.QUEUED
    )  # fmt: skip


def _mail_at(place: Place, domain: str, placed: ProviderPlacement) -> int:
    """Return the domain's mail of a week at the provider; over all providers where it is not known apart."""
    domain_id = next((id for id, name in place.names.items() if name == domain), None)
    if domain_id is None:
        return 0
    at = {place.columns.name(id): mail for id, mail in place.mail.get(domain_id, {}).items()}
    return at.get(placed.provider, place.mail_of.get(domain_id, 0))


def _not_started(row: ScheduleRow, now: datetime) -> Incident:
    since = (row.ran_at or row.created_at).replace(tzinfo=UTC)
    return Incident(
        f"schedule:{row.name}", "schedule", "tenant", row.name, f"The schedule {row.name} cannot start",
        f"Its attempt at {since:%Y-%m-%d %H:%M} UTC sent nothing, and no run has begun since.",
        Level.INVESTIGATE, min(since, now), 0, row.problem, recheck="placement",
    )  # fmt: skip


def _unread(
    connection: Connection, place: Place, schedules: Sequence[ScheduleRow], now: datetime
) -> list[Incident]:  # fmt: skip
    """Seeds that cannot be read, of tenants with schedules: their copies say nothing."""
    if not any(row.enabled for row in schedules):
        return []
    broken = [row for row in seeds.list_seeds(connection, place.tenant.id) if row.enabled and row.problem]
    if not broken:
        return []
    many = f"{len(broken)} seeds cannot be read" if len(broken) > 1 else f"The seed {broken[0].address} cannot be read"
    since = min((row.checked_at or row.created_at).replace(tzinfo=UTC) for row in broken)
    return [
        Incident(
            "seeds", "seeds", "tenant", "seeds", many, "Their copies say nothing of placement; schedules go on with "
            "the others.", Level.INVESTIGATE, min(since, now), 0,
            f"{broken[0].problem_text}. {broken[0].problem_remedy}".strip(". ")[:500],
            evidence=tuple(f"{row.address}: {row.problem_text}"[:300] for row in broken[:8]), recheck="placement",
        )
    ]  # fmt: skip


def _started(run: RunRow) -> datetime:
    return (run.started_at or run.created_at).replace(tzinfo=UTC)
