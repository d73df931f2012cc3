"""Taking events in: each row is stored, was there already, or is rejected with its reason.

A load is read first, with no transaction open: names get their ids, recipient domains are looked up, rejections are
judged. Then everything that it causes (events, counters, suppression entries, the request for new readings) is written
in one transaction, so it is all there or not at all. While MariaDB works on one load, the next is read.
"""

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, timedelta
from typing import TypeVar

from sqlalchemy import Connection

from rust_gauge.contract.common import ProblemError
from rust_gauge.contract.events import IntakeResult
from rust_gauge.core.mailflow import Event
from rust_gauge.service.intake import turns
from rust_gauge.service.intake.names import KnownNames, forget_names, known_names
from rust_gauge.service.intake.reader import Reader
from rust_gauge.service.intake.rows import Refusal, Rows
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.installation import require_room
from rust_gauge.service.runtime.poison import unexpected
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.suppression import holding
from rust_gauge.store import changes, jobs
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.engine import StoreBusy, StoreUnavailable
from rust_gauge.store.intake import Load, StaleRulesError
from rust_gauge.store.leases import LeaseLost

_SHOWN = 200  # rejections in an answer
_SUBJECTS_AFTER = timedelta(minutes=5)  # streams, relays and addresses are computed together
_SHIFTS_AFTER = timedelta(seconds=20)  # so that many small loads are looked at once
_RULE_CHANGES = 5  # how often a load is judged again
_MOST_POISON = 100  # rows of one load that may be set aside because nobody can store them
_PIECE = 1000  # rows that are read before another load has its turn

T = TypeVar("T")
Keep = Callable[[Connection, list[Refusal]], None]


def take_in(
    context: Context, tenant: TenantAccess, rows: Rows, feed_id: int = 0, keep: Keep | None = None
) -> IntakeResult:
    """Store a load. ServiceProblem `nothing-stored` when there were rows and every one was rejected.

    `keep` keeps rejected rows, in the same transaction; then a load of rejected rows alone is taken as well.
    """

    require_room(context.settings, context.memory)

    def take(some: Rows, keep: Keep | None) -> IntakeResult:
        return _with_rules_of_today(
            context, tenant.id, lambda known: _take_in(context, tenant, some, feed_id, keep, known)
        )

    try:
        return take(rows, keep)
    except (StoreUnavailable, StoreBusy, LeaseLost, ServiceProblem):
        raise
    except Exception as error:
        # A row that the database or our own code trips over, though it is a good event by its form.
        return _without_poison(context, tenant, rows, take, keep, error)


def _without_poison(
    context: Context, tenant: TenantAccess, rows: Rows, take: Callable[[Rows, Keep | None], IntakeResult],
    keep: Keep | None, first: Exception,
) -> IntakeResult:  # fmt: skip
    """Store a load without the rows that cannot be stored, which are found by halves; `keep` gets them as rejected.

    The first exception is raised when too many cannot be stored, or none can and nobody would keep the only one: then
    nothing says that a row is to blame.
    """
    refused: list[Refusal] = []
    counts = IntakeResult(received=0, stored=0, duplicates=0, rejected=0, rejections=[])
    poison = 0
    waiting = [rows]
    while waiting:
        some = waiting.pop()
        try:
            found = take(some, lambda _, rejected: refused.extend(rejected))
        except (StoreUnavailable, StoreBusy, LeaseLost, ServiceProblem):
            raise
        except Exception as error:
            if len(some) > 1:
                half = len(some) // 2
                waiting += [some.part(half, len(some)), some.part(0, half)]
                continue
            poison += 1
            if poison > _MOST_POISON or (poison == len(rows) and (poison > 1 or keep is None)):
                raise first from None
            why = unexpected("row", error, tenant=tenant.slug)
            refused.append((some.items[0], [ProblemError(line=some.lines[0], what=why)]))
            continue
        counts.stored += found.stored
        counts.duplicates += found.duplicates
    if keep is not None:
        context.store.transaction(lambda connection: keep(connection, refused))
    problems = [problem for _, errors in refused[:_SHOWN] for problem in errors][:_SHOWN]
    if keep is None and len(refused) == len(rows):
        what = f"{len(refused)} of {len(rows)} rows were rejected"
        raise ServiceProblem("nothing-stored", what, errors=problems, errors_total=len(refused))
    return counts.model_copy(update={"received": len(rows), "rejected": len(refused), "rejections": problems})


def _with_rules_of_today(context: Context, tenant_id: int, work: Callable[[KnownNames], T]) -> T:
    """`work` with what is known of the tenant; again when somebody changed the rules while it judged by older ones."""
    for _ in range(_RULE_CHANGES):
        try:
            return work(known_names(context, tenant_id))
        except StaleRulesError:
            forget_names(context, tenant_id)
    raise ServiceProblem("busy", "The cause rules keep changing", remedy="Nothing was stored. Try again in a moment")


def _take_in(
    context: Context, tenant: TenantAccess, rows: Rows, feed_id: int, keep: Keep | None, known: KnownNames
) -> IntakeResult:
    arrived = context.clock()
    load = Load(tenant.id, feed_id, known.names, known.rules.version, known.hiding)
    reader = Reader(load, known, arrived)
    rejected = reader.rejected

    def read_rows() -> Iterator[None]:
        for start in range(0, len(rows), _PIECE):
            reader.read(rows, start, min(len(rows), start + _PIECE))
            yield

    turns.take(read_rows(), -(-len(rows) // _PIECE))

    def check(connection: Connection) -> None:
        if keep is not None:
            keep(connection, rejected)
        elif not load.sent:
            raise ServiceProblem(
                "nothing-stored",
                f"{len(rejected)} of {len(rows)} rows were rejected",
                errors=shown(),
                errors_total=len(rejected),
            )

    def shown() -> list[ProblemError]:
        return [error for _, errors in rejected[:_SHOWN] for error in errors][:_SHOWN]

    stored = _store(context, load, arrived, len(rejected), check) if rows else 0
    return IntakeResult(
        received=len(rows),
        stored=stored,
        duplicates=len(rows) - len(rejected) - stored,
        rejected=len(rejected),
        rejections=shown(),
    )


def store_all(
    context: Context, tenant_id: int, events: Sequence[Event], arrived: datetime, feed_id: int = 0,
    origin: str = "event", then: Callable[[UnitOfWork, set[bytes]], None] | None = None,
) -> int:  # fmt: skip
    """Store events with all that follows from them; return how many were new. Those without a cause get one.

    `origin`: what entries of the suppression list are said to come from. `then` runs in the same transaction with
    the identities of the events that were new, so that what it writes is stored with them or not at all.
    """

    def write(known: KnownNames) -> int:
        load = Load(tenant_id, feed_id, known.names, known.rules.version, known.hiding)

        def read() -> Iterator[None]:
            for start in range(0, len(events), _PIECE):
                for event in known.learn(events[start : start + _PIECE], load):
                    load.add(event)
                load.end_piece()
                yield

        turns.take(read(), -(-len(events) // _PIECE))
        return _store(context, load, arrived, 0, lambda _: None, origin, then)

    return _with_rules_of_today(context, tenant_id, write)


def _store(
    context: Context,
    load: Load,
    arrived: datetime,
    rejected: int,
    check: Callable[[Connection], None],
    origin: str = "event",
    then: Callable[[UnitOfWork, set[bytes]], None] | None = None,
) -> int:
    """Write what was read, in one transaction; returns how many events were new."""

    def write(unit: UnitOfWork) -> int:
        connection, now = unit.connection, unit.now
        stored, told = load.store(connection, arrived, now, rejected)
        check(connection)
        providers_of = load.names.providers
        heard = [(event, providers_of[event.recipient.domain]) for event in told]
        domains = load.delivered_domains if stored else {}
        troubled = load.troubled if stored else set()
        holding.follow(unit, heard, troubled, domains, origin, origin)
        if stored:
            for domain_id in load.domain_ids():
                jobs.enqueue(connection, "readings", load.tenant_id, domain_id, now)
            jobs.enqueue(connection, "subjects", load.tenant_id, 0, now, at=now + _SUBJECTS_AFTER)
            jobs.enqueue(connection, "shifts", load.tenant_id, 0, now, at=now + _SHIFTS_AFTER)
            if then is not None:
                then(unit, load.identities_stored(connection))
            changes.note(connection, load.tenant_id, "events")
        return stored

    return context.unit(load.tenant_id, write)
