"""Problems of the installation itself, on the worklists of those who own it: restarts, the disk; and refused tokens.

Clients of an office do not see them: they are shown in tenants with an owner of the installation among the members, and
in all tenants where nobody owns it from within.
"""

from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection

from rust_gauge.core.worklist import Incident, Level
from rust_gauge.service.runtime.installation import STOP_DISK, WATCH_DISK, disk_use, restarts
from rust_gauge.service.runtime.units import UnitOfWork
from rust_gauge.store import accounts, tokens
from rust_gauge.store.accounts import TenantAccess

_RESTARTS_FOR = timedelta(hours=1)  # how long a restart is news
_KEEPS_DYING = 3  # deaths in a row
_OFTEN = 5  # restarts within that hour
_REFUSALS_FOR = timedelta(hours=24)


def installation_problems(unit: UnitOfWork, tenant: TenantAccess) -> list[Incident]:
    """What is wrong with the installation, for tenants of its owners; and with tokens of this tenant."""
    found = refused_tokens(unit.connection, tenant, unit.now)
    if accounts.is_of_an_owner(unit.connection, tenant.id):
        found += _restarted(unit) + _disk(unit)
    return found


def _restarted(unit: UnitOfWork) -> list[Incident]:
    out = []
    recent = restarts(unit.settings, unit.now - _RESTARTS_FOR)
    for part in sorted({restart.part for restart in recent}):
        those = [restart for restart in recent if restart.part == part]
        failures = those[-1].failures
        dying = failures >= _KEEPS_DYING or len(those) >= _OFTEN
        times = "once" if len(those) == 1 else f"{len(those)} times"
        out.append(
            Incident(
                f"restart:{part}", "restart", "service", part,
                f"{part} keeps ending" if dying else f"{part} was restarted",
                f"It ended by itself and was restarted {times} within an hour, the last time at "
                f"{those[-1].at:%H:%M:%S} UTC.",
                Level.FIX if dying else Level.INVESTIGATE, those[0].at.astimezone(UTC), 0,
                f"Read the end of var/log/{part}.log. The other parts go on.",
                evidence=tuple(f"{restart.at:%Y-%m-%d %H:%M:%S} UTC" for restart in those[-8:]), recheck="service",
            )
        )  # fmt: skip
    return out


def _disk(unit: UnitOfWork) -> list[Incident]:
    disk = disk_use(unit.settings)
    if disk.used < WATCH_DISK:
        return []
    full = disk.used >= STOP_DISK
    return [
        Incident(
            "disk", "disk", "service", "disk", f"The disk is {disk.used:.0%} full",
            f"{disk.free / 2**30:.1f} GiB are free. "
            + ("No events are taken in until there is room again." if full else "Intake stops at 95 %."),
            Level.STOP if full else Level.FIX, unit.now, 0,
            "Free space, enlarge the disk, or shorten the retention of events (Settings, Retention).",
            evidence=(str(disk.path),), recheck="service",
        )
    ]  # fmt: skip


def refused_tokens(connection: Connection, tenant: TenantAccess, now: datetime) -> list[Incident]:
    """Tokens that somebody tried to use from outside their networks within a day."""
    return [
        Incident(
            f"token:{row.id}", "token", "service", row.name, f"The API token {row.name} was used from elsewhere",
            f"Refused at {row.refused_at:%Y-%m-%d %H:%M} UTC from {row.refused_address}, outside its networks.",
            Level.FIX, row.refused_at.replace(tzinfo=UTC), 0,
            "If that was not you, somebody else has the secret: rotate the token without overlap. "
            "If it was, add the network.",
            evidence=(f"allowed: {', '.join(row.networks)}"[:500], f"belongs to {row.email}"), recheck="service",
        )
        for row in tokens.refused_since(connection, tenant.id, now - _REFUSALS_FOR)
        if row.refused_at is not None
    ]  # fmt: skip
