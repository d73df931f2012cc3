"""What reports of receivers show: unknown sources, sources of ours that do not align, forged domains, silent receivers,
and paths to `p=reject` that are ready or broke.

Reports come a day or two late, so that everything is measured back from the newest day that they tell of.
"""

from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta

from sqlalchemy import Connection

from rust_gauge.contract.receiver_reports import PolicyPath
from rust_gauge.core.reports.sources import Verdict
from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.plans.published import PublishedPolicy
from rust_gauge.service.receiver_reports.paths import shown as shown_path
from rust_gauge.service.receiver_reports.reports import receivers_of
from rust_gauge.service.receiver_reports.sources import Group, groups_of
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.service.worklist.place import Place
from rust_gauge.store import domains as store_domains
from rust_gauge.store import policy_paths, report_sources

_LATELY = timedelta(days=7)
_BEFORE = timedelta(days=28)
_LEAST = 20  # messages of a source, below which nobody is bothered
_FELL = 0.2  # of the share that aligns
_HALF = 0.5


@dataclass(frozen=True, slots=True)
class _Lately:
    """A source's mail lately and before."""

    now: Group
    before: Group | None


def report_problems(unit: UnitOfWork, place: Place) -> list[Incident]:
    """What reports of receivers show today."""
    connection, now = unit.connection, unit.now
    out = []
    for domain_id, name in report_sources.domains_with_reports(connection, place.tenant.id):
        newest = report_sources.newest_day(connection, domain_id)
        if newest is None or newest < now.date() - _BEFORE:
            continue
        sends = store_domains.list_domains(connection, place.tenant.id, name=name)[0].sends
        for each in _sources(connection, domain_id, newest):
            incident = _of_source(name, each, newest) if sends else _of_unused(name, each, newest)
            out += [incident] if incident else []
        out += _names(connection, domain_id, name, newest)
    for row in policy_paths.list_paths(connection, place.tenant.id):
        if not row.published or not row.stage:  # not known, or gone: a record from nothing would lack its other tags
            continue
        published = PublishedPolicy("published", row.published)
        out += _of_path(shown_path(connection, row.domain_id, row.name, row, published, now), place, now)
    for receiver in receivers_of(connection, place.tenant.id, now, 30):
        if receiver.silent_since is not None:
            out.append(_silent(receiver.receiver, receiver.label, receiver.silent_since, receiver.usual_days))
    return out


def _names(connection: Connection, domain_id: int, domain: str, newest: date) -> list[Incident]:
    """Subdomains that send and that nobody added: some may be ours, without records and without anybody watching."""
    rows = report_sources.names_below(connection, domain_id, newest - _LATELY + timedelta(days=1), newest)
    rows = [row for row in rows if row.n >= _LEAST]
    if not rows:
        return []
    passed, mail = sum(row.passed for row in rows), sum(row.n for row in rows)
    which = rows[0].name if len(rows) == 1 else f"{len(rows)} subdomains"
    send = "sends" if len(rows) == 1 else "send"
    remedy = (
        "Add those that are yours as domains. For the others publish sp=reject, or np=reject where they do not exist."
    )
    return [
        Incident(
            f"names:{domain}", "source", "domain", domain, f"{which} {send} below {domain}, and nobody added "
            f"{'it' if len(rows) == 1 else 'them'}", f"{mail:,} messages since {min(row.first_day for row in rows)}; "
            f"{passed:,} passed DMARC.", Level.INVESTIGATE if passed else Level.INFO,
            _at(min(row.first_day for row in rows)), mail, remedy, topic="source", domains=(domain,),
            evidence=tuple(
                f"{row.name}: {row.n:,} messages, {row.passed:,} passed, {row.first_day} to {row.last_day}"
                for row in rows[:12]
            ),
        )
    ]  # fmt: skip


def _sources(connection: Connection, domain_id: int, newest: date) -> list[_Lately]:
    lately = groups_of(connection, domain_id, newest - _LATELY + timedelta(days=1), newest)
    before = groups_of(connection, domain_id, newest - _LATELY - _BEFORE + timedelta(days=1), newest - _LATELY)
    by_key = {(group.verdict, group.name): group for group in before}
    return [_Lately(group, by_key.get((group.verdict, group.name))) for group in lately]


def _aligned(group: Group) -> float:
    mail = group.mail
    return (mail.messages - mail.neither) / mail.messages if mail.messages else 1.0


def _of_source(domain: str, source: _Lately, newest: date) -> Incident | None:
    group, mail = source.now, source.now.mail
    if group.verdict == Verdict.UNKNOWN and mail.messages >= _LEAST and group.head is not None and group.head.judged_at:
        return Incident(
            f"source:{domain}:{group.name}:unknown", "source", "domain", domain,
            f"Unknown source {group.name} sends as {domain}",
            f"{mail.messages:,} messages from {group.addresses:,} addresses in the week to {newest}, "
            f"{mail.messages - mail.neither:,} of them aligned.", Level.INVESTIGATE, _at(_first(group)), mail.messages,
            "Decide whose it is: claim it, and it becomes a relay with its records; or mark it as not yours.",
            evidence=_evidence(group), topic="source", domains=(domain,),
        )  # fmt: skip
    if group.verdict != Verdict.OURS or mail.neither < _LEAST:
        return None
    share, before = _aligned(group), source.before
    if before is not None and before.mail.messages >= _LEAST and _aligned(before) - share >= _FELL:
        return Incident(
            f"source:{domain}:{group.name}:broke", "source", "domain", domain,
            f"Mail of {group.name} does not align with {domain} any more",
            f"{100 * share:.1f} % of {mail.messages:,} messages aligned in the week to {newest}, "
            f"{100 * _aligned(before):.1f} % of {before.mail.messages:,} in the four weeks before.", Level.FIX,
            _at(newest - _LATELY), mail.neither,
            "Open the source and compare SPF and DKIM before and after; look for a changed key or record on that day.",
            evidence=_evidence(group), topic="authentication", domains=(domain,),
        )  # fmt: skip
    if share < _HALF:
        return Incident(
            f"source:{domain}:{group.name}:unaligned", "source", "domain", domain,
            f"{group.name} sends as {domain} without alignment",
            f"{mail.neither:,} of {mail.messages:,} messages in the week to {newest} passed neither SPF nor DKIM for "
            f"{domain}. It is yours, by its evidence, and a stricter policy would hit it.", Level.FIX,
            _at(_first(group)), mail.neither,
            "Add it as a relay, so that the record plan authorises it; or have it sign with a key of the domain; or "
            "turn it off.", evidence=_evidence(group), topic="source", domains=(domain,),
        )  # fmt: skip
    return None


def _of_unused(domain: str, source: _Lately, newest: date) -> Incident | None:
    """A domain that never sends: all mail is somebody else's, and what passes finds a record or key that lets it."""
    group, mail = source.now, source.now.mail
    passed = mail.messages - mail.neither
    if mail.messages < _LEAST:
        return None
    return Incident(
        f"source:{domain}:{group.name}:unused", "source", "domain", domain,
        f"{group.name} sends as {domain}, which sends no mail",
        f"{mail.messages:,} messages in the week to {newest}; {passed:,} passed DMARC.",
        Level.FIX if passed else Level.INFO, _at(_first(group)), mail.messages,
        "Remove the record or key by which it passes." if passed else
        "Publish p=reject and an SPF record with -all alone; then receivers refuse it.",
        evidence=_evidence(group), topic="source", domains=(domain,),
    )  # fmt: skip


def _of_path(path: PolicyPath, place: Place, now: datetime) -> list[Incident]:
    domain = path.domain
    mail = next((n for id, n in place.mail_of.items() if place.names.get(id) == domain), 0)
    if path.broken:
        return [
            Incident(
                f"path:{domain}:broken", "path", "domain", domain, f"Mail of ours fails at {domain}, which is at "
                f"{path.stage}", f"{path.broken}.", Level.STOP, now, mail,
                "Publish the record of the stage before at once; then fix what fails, and go on.", path.return_record,
                topic="authentication", domains=(domain,),
            )
        ]  # fmt: skip
    if not path.ready or path.next_stage is None:
        return []
    record = next(stage.record for stage in path.stages if stage.stage == path.next_stage)
    evidence = tuple(f"{each.measured} (wanted: {each.wanted})" for each in path.conditions)
    return [
        Incident(
            f"path:{domain}:{path.next_stage}", "path", "domain", domain, f"{domain} is ready for {path.next_stage}",
            "All conditions of the next stage are met.", Level.INFO, now, mail,
            "Put the stage into the record plan and publish it; reports show within days whether it holds.", record,
            evidence, topic="path", domains=(domain,),
        )
    ]  # fmt: skip


def _silent(receiver: str, label: str, since: datetime, usual: float | None) -> Incident:
    every = f"every {usual:g} days" if usual and usual != 1 else "every day"
    return Incident(
        f"receiver:{receiver}:silent", "receiver", "tenant", label, f"{label} stopped reporting",
        f"Its newest report ends on {since:%Y-%m-%d}; usually one comes {every}.", Level.INVESTIGATE,
        since if since.tzinfo else since.replace(tzinfo=UTC), 0,
        "Check that the address in rua= is right and takes mail, and that no report is set aside "
        "(Domains, Reports of receivers).", topic="receiver",
    )  # fmt: skip


def _evidence(group: Group) -> tuple[str, ...]:
    return tuple(str(each["text"])[:500] for each in group.evidence)


def _first(group: Group) -> date:
    return group.head.first_day if group.head is not None else group.first_day


def _at(day: date) -> datetime:
    return datetime.combine(day, time(), UTC)
