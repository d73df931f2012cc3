"""The demo's placement: seeds at the five providers, outlets, three months of runs, and one run that goes on.

Past runs are written as they would have come out; the last one is real: its copies go to a stand-in that files them by
`rules`, a file that whoever plays with the demo may change.
"""

import json
import random
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path

from sqlalchemy import Connection

from rust_gauge.contract.placement import (
    NewOutlet,
    NewRun,
    NewSchedule,
    NewSeed,
    NewShare,
    Rhythm,
    ScheduleAlert,
    SeedFolder,
)
from rust_gauge.contract.readings import NewAnnotation
from rust_gauge.core.placement import Outcome, new_mark
from rust_gauge.demo.scenario import PROVIDERS
from rust_gauge.service.placement import outlets, runs, schedules, seeds, sharing, starting
from rust_gauge.service.readings import annotations
from rust_gauge.service.runtime.context import Context
from rust_gauge.standins.seed_host import INBOX, SPAM
from rust_gauge.store import caught, placement, trays
from rust_gauge.store import placement_schedules as store_schedules
from rust_gauge.store import seeds as store_seeds
from rust_gauge.store.accounts import TenantAccess
from rust_gauge.store.seeds import SeedRow

PASSWORD = "example-seed"  # noqa: S105 - of mailboxes that exist in the demo only
_SEEDS = {"tidepost.example": 4, "kestrelbox.example": 4, "orchardmail.example": 2, "fenlandnet.example": 2,
          "northgate.example": 2}  # fmt: skip
_TROUBLED: dict[tuple[str, int], dict[str, object]] = {  # so that it can be seen what each kind of trouble says
    ("northgate.example", 2): {"locked": True},
    ("fenlandnet.example", 2): {"used": 0.97},
    ("orchardmail.example", 2): {"strips": ["Placement-Mark"]},
}
SCHEDULE = "weekly-newsletter"
_DOMAIN = "news.glasswort.example"
_WEEKDAYS, _HOUR = (1, 4), 9  # Mondays and Thursdays, UTC
_OFFERS = "Offers"  # a category of Orchard Mail
_DAYS = 90
_TURNED = 10  # days ago: Kestrelbox, a day after 6,200 addresses were added to the newsletter
_LISTED = (44, 41)  # days ago: an address of Cobble Relay was on a blocklist
_OUTAGE = 3  # days ago: Fenlandnet


@dataclass(frozen=True, slots=True)
class _Relay:
    """A relay whose outlet has its name."""

    name: str
    host: str


_RELAYS = (_Relay("driftline", "smtp.driftline.example"), _Relay("cobble", "smtp.cobble.example"))
SEED_HOSTS = [f"imap.{provider.name}" for provider in PROVIDERS] + [relay.host for relay in _RELAYS]
"""Hosts without TLS, which the settings of the demo have to name."""


def addresses() -> Iterator[tuple[str, str, int]]:
    """Yield each seed's address, its provider and its number there, from 1."""
    for provider in PROVIDERS:
        for number in range(_SEEDS[provider.name]):
            domain = provider.domains[number % len(provider.domains)]
            yield f"seed{number + 1}@{domain}", provider.name, number + 1


def write_host(path: Path) -> None:
    """Write what the stand-in of the providers needs, once: mailboxes, and the rules by which it files."""
    if path.exists():
        return
    rules = [
        {"to": "*@k*box.example", "from": "*glasswort.example", "into": SPAM, "share": 0.75},
        {"to": "*@orchardmail.example", "from": "*", "into": _OFFERS, "share": 0.5},
        {"to": "*", "from": "*", "into": INBOX, "share": 1},
    ]
    boxes = [
        {"address": address, "password": PASSWORD, "folders": [INBOX, SPAM, _OFFERS], **_TROUBLED.get((of, number), {})}
        for address, of, number in addresses()
    ]
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps({"name": "mx.seeds.example", "boxes": boxes, "rules": rules}, indent=2), "utf-8")


def load_placement(context: Context, tenant: TenantAccess) -> int:
    """Add seeds, outlets and runs of the theatre, once. Return how many runs were added."""
    if tenant.slug != "glasswort" or seeds.list_seeds(context, tenant):
        return 0
    folders = [SeedFolder(folder=INBOX, means="inbox"), SeedFolder(folder=SPAM, means="spam")]
    for address, provider, _ in addresses():
        more = [SeedFolder(folder=_OFFERS, means="other", label="Offers")] if provider == "orchardmail.example" else []
        seeds.add_seed(
            context, tenant,
            NewSeed(
                address=address, provider=provider, host=f"imap.{provider}", port=993, security="none",
                password=PASSWORD, folders=folders + more, lists=["weekly"],
            ),
        )  # fmt: skip
    for relay in _RELAYS:
        outlets.add_outlet(
            context, tenant,
            NewOutlet(
                name=relay.name, host=relay.host, port=587, security="none", from_name="Glasswort Theatre",
                from_address="news@news.glasswort.example", mail_from="bounce@news.glasswort.example",
                relay=relay.name, stream="newsletter",
            ),
        )  # fmt: skip
    rows = context.store.transaction(lambda c: store_seeds.list_seeds(c, tenant.id))
    now = context.clock()
    note = NewAnnotation(
        day=(now - timedelta(days=_TURNED + 1)).date(), text="6,200 addresses from last season added to the newsletter",
        domain="news.glasswort.example",
    )  # fmt: skip
    annotations.add_annotation(context, tenant, note, "Isla")
    schedule_id = _schedule(context, tenant)
    days = [back for back in range(_DAYS, 0, -1) if (now - timedelta(days=back)).isoweekday() in _WEEKDAYS]
    added = newest = 0
    for number, back in enumerate(days):
        at = (now - timedelta(days=back)).replace(hour=_HOUR, minute=0, second=0, microsecond=0)
        for relay in _RELAYS[: 2 if number % 3 == 1 else 1]:
            by = schedule_id if relay is _RELAYS[0] else None
            newest = context.store.transaction(
                lambda c, w=relay, a=at, b=back, s=by: _past(c, tenant, rows, w, a, b, s)  # type: ignore[misc]
            )
            added += 1
    made = sharing.add_share(context, tenant, newest, NewShare(days=90, note="For the theatre"), "Isla")
    (context.settings.var_dir / "demo").mkdir(parents=True, exist_ok=True)
    (context.settings.var_dir / "demo" / "shared-run").write_text(f"{made.url}\n", "utf-8")
    return added + _start_one(context, tenant)


def _schedule(context: Context, tenant: TenantAccess) -> int:
    """Add the schedule by which the past runs of Driftline were started; return its number."""
    new = NewSchedule(
        name=SCHEDULE, outlet=_RELAYS[0].name, lists=["weekly"], tray="paths",
        rhythm=Rhythm(every="weekly", weekdays=list(_WEEKDAYS), hours=[_HOUR]), after_records=True,
        alert=ScheduleAlert(share=0.5, copies=2, after_minutes=30),
    )  # fmt: skip
    if not context.store.transaction(lambda c: [r for r in trays.list_trays(c, tenant.id) if r.name == "paths"]):
        new = new.model_copy(update={"tray": ""})
    schedules.add_schedule(context, tenant, new, "Isla")
    return context.store.transaction(lambda c: store_schedules.list_schedules(c, tenant.id))[0].id


def _start_one(context: Context, tenant: TenantAccess) -> int:
    """Start a run of the newest newsletter; the workers send it when the service runs."""

    def newest(connection: Connection) -> int | None:
        tray = next((row for row in trays.list_trays(connection, tenant.id) if row.name == "paths"), None)
        found = caught.find_messages(connection, caught.CaughtQuery(tray.id, limit=1)) if tray else []
        return found[0].id if found else None

    message = context.store.transaction(newest)
    if message is None:
        return 0
    new = NewRun(outlet="driftline", tray="paths", message=message, lists=["weekly"], wait_minutes=30)
    starting.start_run(context, tenant, new, "Demo")
    return 1


def _past(
    connection: Connection, tenant: TenantAccess, seeds: list[SeedRow], relay: _Relay, at: datetime, back: int,
    schedule_id: int | None,
) -> int:  # fmt: skip
    """Write a run as it came out `back` days ago; return its number."""
    dice = random.Random(f"{relay.name} {back}")  # noqa: S311 - the demo is the same each time
    outlet = next(row for row in store_seeds.list_outlets(connection, tenant.id) if row.name == relay.name)
    run_id = placement.add_run(
        connection, tenant_id=tenant.id, outlet_id=outlet.id, outlet_name=relay.name,
        title="", schedule_id=schedule_id, why="on time" if schedule_id else "",
        path_id=placement.path_id(connection, tenant.id, relay.name, _DOMAIN, relay.name, "newsletter"),
        address_key=f"{runs.KEY_PREFIX}{dice.randbytes(8).hex()}", state=runs.DONE, keep_custom=True, plan={},
        wait_minutes=60,
        subject="This week at Glasswort", series="This week at Glasswort",
        header_from="Glasswort Theatre <news@news.glasswort.example>", size=21_400,
        mark=None, error="", created_by="Demo", created_at=at, started_at=at, ended_at=at + timedelta(minutes=61),
    )  # fmt: skip
    copies = []
    for seed in seeds:
        outcome, seconds = _fate(dice, seed.provider, relay.name, back)
        found = outcome in (Outcome.INBOX, Outcome.SPAM, Outcome.OTHER)
        folder = {Outcome.INBOX: INBOX, Outcome.SPAM: SPAM, Outcome.OTHER: _OFFERS}.get(outcome, "")
        refused = outcome is Outcome.REFUSED
        reply = "554 5.7.1 Service unavailable; client host is on a blocklist" if refused else "250 2.0.0 Delivered"
        copies.append(
            {
                "tenant_id": tenant.id, "run_id": run_id, "seed_id": seed.id, "address": seed.address,
                "provider": seed.provider, "mark": new_mark(dice.randbytes(10)), "outcome": outcome, "folder": folder,
                "reply": reply, "problem": f"{relay.host} refuses the message: {reply}" if refused else "",
                "sent_at": at, "arrived_at": at + timedelta(seconds=seconds) if found else None, "looked_at": at,
                "arrival": _arrival(relay, seed, at, seconds) if found else None,
            }
        )  # fmt: skip
    placement.add_copies(connection, copies)  # type: ignore[arg-type]
    return run_id


def _fate(dice: random.Random, provider: str, relay: str, back: int) -> tuple[Outcome, float]:
    """Return what became of one copy, and after how many seconds."""
    seconds = 2 + dice.expovariate(1 / 9)
    if relay == "cobble" and _LISTED[1] <= back <= _LISTED[0]:
        return (Outcome.REFUSED if dice.random() < 0.8 else Outcome.SPAM), seconds
    if provider == "fenlandnet.example" and back == _OUTAGE:
        return Outcome.MISSING, 0
    spam = {"kestrelbox.example": 0.9 if back <= _TURNED else 0.06, "tidepost.example": 0.02}.get(provider, 0.04)
    if dice.random() < spam:
        return Outcome.SPAM, seconds
    if provider == "orchardmail.example" and dice.random() < 0.5:
        return Outcome.OTHER, seconds
    return (Outcome.INBOX if dice.random() > 0.01 else Outcome.MISSING), seconds


def _arrival(relay: _Relay, seed: SeedRow, at: datetime, seconds: float) -> dict[str, object]:
    later = at + timedelta(seconds=seconds)
    return {
        "hops": [
            {"from_host": "desk.skerry.example", "by_host": relay.host, "protocol": "ESMTPSA", "at": at.isoformat(),
             "seconds": None},
            {"from_host": relay.host, "by_host": f"mx1.{seed.provider}", "protocol": "ESMTPS", "at": later.isoformat(),
             "seconds": round(seconds, 1)},
        ],
        "verified": [
            {"method": "spf", "result": "pass", "properties": "smtp.mailfrom=bounce@news.glasswort.example"},
            {"method": "dmarc", "result": "pass", "properties": "header.from=news.glasswort.example"},
        ],
        "changes": [],
    }  # fmt: skip
