"""Days of mail from the scenario: as events for recent days, as counts for older ones, from the same plan.

A day is made from the seed and its own number alone, so it comes out the same whenever it is made; its events have
the same identities, and loading it again changes nothing.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np

from rust_gauge.core.mailflow import CounterKey, Kind
from rust_gauge.core.replies import Cause, Permanence
from rust_gauge.demo.scenario import (
    EVENT_DAYS,
    FLOWS,
    GONE_DOMAIN,
    INCIDENTS,
    LONG_TAIL,
    NULL_MX_DOMAIN,
    PROVIDERS,
    RELAYS,
    TAIL_SHARE,
    WARM_UP,
    Flow,
    Incident,
    Provider,
)

SEED = 20_260_517
_TAIL = Provider("", "others", LONG_TAIL, TAIL_SHARE, False, 0.006, 0.02)
_EVERYWHERE = (*PROVIDERS, _TAIL)

_FIRST = (
    "ada", "bram", "cecil", "dora", "edwin", "flora", "giles", "hazel", "ivor", "joan", "kit", "lorna", "magnus",
    "nell", "oscar", "petra", "quentin", "rowan", "signe", "tilda", "ursula", "vera", "wilf", "yves", "zena",
)  # fmt: skip
_LAST = (
    "ashdown", "birch", "calder", "dell", "esk", "fenwick", "garth", "holm", "inver", "jessop", "kerr", "lyle",
    "marsh", "nairn", "orme", "pike", "quarrie", "ryde", "strand", "tarbert", "urquhart", "voe", "wick", "yell",
)  # fmt: skip

_ROLES = ("info", "office", "sales", "accounts")

# How each trouble ends: kind, cause, permanence, reply code, enhanced code, and what the provider says.
_ENDS: dict[str, tuple[Cause, Permanence, int, str, tuple[str, ...]]] = {
    "unknown": (
        Cause.NO_SUCH_MAILBOX, Permanence.PERMANENT, 550, "5.1.1",
        ("550 5.1.1 <{to}>: no such mailbox here", "550 5.1.1 recipient {to} does not exist",
         "550 5.1.1 Unknown user; this mailbox was closed or never opened"),
    ),
    "full": (
        Cause.MAILBOX_FULL, Permanence.TRANSIENT, 452, "4.2.2",
        ("452 4.2.2 mailbox full, try again later", "452 4.2.2 <{to}> is over quota"),
    ),
    "authentication": (
        Cause.AUTHENTICATION, Permanence.PERMANENT, 550, "5.7.26",
        ("550 5.7.26 mail from {from} is not authenticated: SPF permerror, DKIM none",
         "550 5.7.26 this message has no passing SPF or DKIM for {from}"),
    ),
    "blocklisted": (
        Cause.BLOCKLISTED, Permanence.PERMANENT, 554, "5.7.1",
        ("554 5.7.1 service refused; {ip} is listed on a blocklist that we use",),
    ),
    "content": (
        Cause.CONTENT, Permanence.PERMANENT, 550, "5.7.1",
        ("550 5.7.1 message refused as spam",),
    ),
}  # fmt: skip
_DELAYS = (
    ("451 4.7.1 greylisted, come back in a few minutes", Cause.GREYLISTED, 451, "4.7.1"),
    ("421 4.7.0 too many messages from {ip}, slow down", Cause.RATE_LIMITED, 421, "4.7.0"),
)
_THROTTLE = ("421 4.7.28 unusual rate of mail from a sender that is new here; slow down", Cause.RATE_LIMITED, 421,
             "4.7.28")  # fmt: skip
_OUTAGE = ("451 4.3.2 system not accepting messages just now", Cause.PROVIDER_TROUBLE, 451, "4.3.2")


@dataclass(frozen=True, slots=True)
class Cell:
    """Mail of one flow to one provider in one hour: how much, and at what rates it goes wrong."""

    flow: Flow
    provider: Provider
    hour: datetime
    messages: int
    rates: dict[str, float]
    outage: bool


def strength_of(incident: Incident, age: int) -> float:
    """0 to 1: how much of an incident's addition applies `age` days back."""
    if not incident.end <= age <= incident.start:
        return 0.0
    if incident.grows:
        span = incident.start - max(0, incident.end)
        return min(1.0, (incident.start - age) / span) if span else 1.0
    if incident.fades:
        return (age - incident.end + 1) / (incident.start - incident.end + 1)
    return 1.0


def plan_day(day: date, anchor: date, tenant: str) -> list[Cell]:
    """The mail of one tenant on one day; `anchor` is day 0 of the story."""
    age = (anchor - day).days
    rng = np.random.default_rng([SEED, day.toordinal(), sum(tenant.encode())])
    cells = []
    for flow in FLOWS:
        if flow.tenant != tenant or age > flow.first_day:
            continue
        usual = float(flow.week[day.weekday()])
        if flow.first_day < 100:  # it is new, and warms up
            since = flow.first_day - age
            usual *= WARM_UP[since] if since < len(WARM_UP) else 1.0
        shares = np.array([provider.share for provider in _EVERYWHERE])
        around = usual * rng.uniform(0.93, 1.07)
        if flow.first_day < 100:  # what clearance lets through
            per_provider = np.rint(around * shares / shares.sum() * _held_back(flow, age)).astype(int)
        else:
            total = rng.poisson(around) if usual else 0
            per_provider = rng.multinomial(total, shares / shares.sum())
        first, last = flow.hours
        for provider, count in zip(_EVERYWHERE, per_provider, strict=True):
            # Hours of long ago are seen as days only: of what is counted alone, a day is in six parts.
            every = 4 if flow.counted and age > EVENT_DAYS else 1
            parts = (last - first) // every
            spread = rng.multinomial(count, [1 / parts] * parts)
            for offset, messages in zip(range(0, last - first, every), spread, strict=True):
                if messages:
                    hour = datetime(day.year, day.month, day.day, first + offset, tzinfo=UTC)
                    rates, outage = _rates(flow, provider, age, hour.hour)
                    cells.append(Cell(flow, provider, hour, int(messages), rates, outage))
    return cells


def _held_back(flow: Flow, age: int) -> np.ndarray[Any, Any]:
    """Return by provider which part of a warm-up's mail goes out: no more of it where the provider defers."""
    out = np.ones(len(_EVERYWHERE))
    for incident in INCIDENTS:
        if "throttle" in incident.add and flow.domain in incident.domains and age < incident.start:
            began, now = (min(flow.first_day - at, len(WARM_UP) - 1) for at in (incident.start, age))
            at = next(n for n, provider in enumerate(_EVERYWHERE) if provider.name == incident.provider)
            out[at] = WARM_UP[began] / (WARM_UP[now] if flow.first_day - age < len(WARM_UP) else 1.0)
    return out


def _rates(flow: Flow, provider: Provider, age: int, hour: int) -> tuple[dict[str, float], bool]:
    rates = {
        "unknown": flow.unknown,
        "full": provider.full,
        "authentication": 0.0,
        "blocklisted": 0.0,
        "content": 0.0002,
        "delay": provider.delay,
        "throttle": 0.0,
        "complaint": flow.complaint if provider.reports else 0.0,
    }
    outage = False
    for incident in INCIDENTS:
        if (
            (not incident.domains or flow.domain in incident.domains)
            and incident.relay in ("", flow.relay)
            and incident.provider in ("", provider.name)
            and incident.hours[0] <= hour < incident.hours[1]
        ):
            strength = strength_of(incident, age)
            for name, more in incident.add.items():
                if name != "complaint" or provider.reports:
                    rates[name] += more * strength
            outage |= "delay" in incident.add and strength > 0
    return rates, outage


def count_cell(cell: Cell, rng: np.random.Generator) -> Iterator[tuple[CounterKey, int]]:
    """What a cell adds to the counters, without making its messages."""
    flow, n = cell.flow, cell.messages
    # The tail's mail is spread over its domains, an hour at each; each of them is its own provider.
    provider = cell.provider.name or LONG_TAIL[(cell.hour.toordinal() * 5 + cell.hour.hour) % len(LONG_TAIL)]

    def key(kind: Kind, cause: Cause = Cause.NONE, permanence: Permanence = Permanence.NONE) -> CounterKey:
        return CounterKey(cell.hour, flow.domain, flow.stream, flow.relay, provider, kind, cause, permanence)

    yield key(Kind.ACCEPTED), n
    troubles = list(_ENDS)
    parts = rng.multinomial(n, [*(cell.rates[t] for t in troubles), 1 - sum(cell.rates[t] for t in troubles)])
    delivered = int(parts[-1])
    counts = [(key(Kind.BOUNCED, *_ENDS[t][:2]), int(c)) for t, c in zip(troubles, parts, strict=False)]
    delayed = int(rng.binomial(n, cell.rates["delay"]))
    cause = _OUTAGE[1] if cell.outage else _DELAYS[0][1]
    counts += [
        (key(Kind.DELIVERED), delivered),
        (key(Kind.DELAYED, cause, Permanence.TRANSIENT), delayed),
        (key(Kind.DELAYED, _THROTTLE[1], Permanence.TRANSIENT), round(n * cell.rates["throttle"])),
        (key(Kind.COMPLAINED), int(rng.binomial(delivered, cell.rates["complaint"]))),
        (key(Kind.OPENED), int(rng.binomial(delivered, flow.opened))),
        (key(Kind.CLICKED), int(rng.binomial(delivered, flow.opened / 8))),
        (key(Kind.UNSUBSCRIBED), int(rng.binomial(delivered, flow.unsubscribed))),
    ]
    yield from ((k, c) for k, c in counts if c)


def event_rows(cell: Cell, rng: np.random.Generator, serial: str) -> Iterator[dict[str, Any]]:
    """A cell's messages as rows of the contract's event shape, each message's events in order."""
    flow = cell.flow
    relay = next(relay for relay in RELAYS if relay.name == flow.relay)
    troubles = list(_ENDS)
    weights = [cell.rates[t] for t in troubles]
    ends = rng.choice(len(troubles) + 1, size=cell.messages, p=[*weights, 1 - sum(weights)])
    seconds = np.sort(rng.integers(0, 3600, size=cell.messages))
    chances = rng.random((cell.messages, 6))
    people = rng.integers(0, 100_000, size=cell.messages)
    for index in range(cell.messages):
        at = cell.hour + timedelta(seconds=int(seconds[index]))
        trouble = troubles[ends[index]] if ends[index] < len(troubles) else ""
        to = _recipient(cell, int(people[index]), trouble)
        ip = relay.addresses[index % len(relay.addresses)]
        base: dict[str, Any] = {
            "domain": flow.domain,
            "stream": flow.stream,
            "relay": flow.relay,
            "recipient": to,
            "message_id": f"{serial}.{cell.hour:%H}{index:04d}@{flow.domain}",
            "sending_ip": ip,
        }
        opened_by = flow.opened
        if flow.unsubscribed:  # mass mail: a campaign each week, in two variants of its subject
            variant = "ab"[index % 2]
            base |= {"campaign": f"{flow.stream}-{cell.hour:%G-w%V}", "tags": [f"subject-{variant}"]}
            opened_by *= 0.85 if variant == "a" else 1.15
        words = {"to": to, "from": flow.domain, "ip": ip}
        yield {**base, "kind": "accepted", "time": _time(at)}
        chance = chances[index]
        if chance[0] < cell.rates["delay"] + cell.rates["throttle"] and trouble not in ("unknown", "authentication"):
            text, cause, code, enhanced = _delay(cell, int(people[index]), float(chance[0]))
            reply = {"reply_code": code, "enhanced_code": enhanced, "diagnostic": text.format(**words)}
            yield {**base, **reply, "cause": str(cause), "kind": "delayed", "time": _time(at + timedelta(seconds=3)),
                   "attempt": 1}  # fmt: skip
            hours = 4.5 if cell.outage else 0.25
            at += timedelta(hours=hours * (0.5 + float(chance[1])))
        else:
            at += timedelta(seconds=1 + 8 * float(chance[1]))
        if trouble:
            _, _, code, enhanced, texts = _ENDS[trouble]
            text = texts[int(people[index]) % len(texts)]
            host = f"mx1.{cell.provider.name or to.split('@')[1]}"
            reply = {"reply_code": code, "enhanced_code": enhanced, "diagnostic": text.format(**words)}
            yield {**base, **reply, "kind": "bounced", "time": _time(at), "remote_host": host}
            continue
        yield {**base, "kind": "delivered", "time": _time(at), "reply_code": 250,
               "seconds_taken": round(1 + 8 * float(chance[1]), 2)}  # fmt: skip
        if chance[2] < opened_by:
            opened = at + timedelta(hours=30 * float(chance[2]))
            yield {**base, "kind": "opened", "time": _time(opened)}
            if chance[3] < 0.125:
                yield {**base, "kind": "clicked", "time": _time(opened + timedelta(seconds=40))}
        if chance[4] < cell.rates["complaint"]:
            yield {**base, "kind": "complained", "time": _time(at + timedelta(hours=3 + 20 * float(chance[1])))}
        elif chance[5] < flow.unsubscribed:
            yield {**base, "kind": "unsubscribed", "time": _time(at + timedelta(hours=2))}


def _delay(cell: Cell, person: int, chance: float) -> tuple[str, Cause, int, str]:
    if cell.outage:
        return _OUTAGE
    return _THROTTLE if chance >= cell.rates["delay"] else _DELAYS[person % 2]


def _recipient(cell: Cell, person: int, trouble: str) -> str:
    domains = cell.provider.domains
    domain = domains[(person // 7) % len(domains)]
    if trouble == "unknown" and not cell.provider.name:
        domain = (*domains[:3], GONE_DOMAIN, NULL_MX_DOMAIN)[person % 5]
    if trouble != "unknown" and person % 900 == 0:
        return f"{_ROLES[(person // 900) % len(_ROLES)]}@{domain}"
    if trouble == "full" or (not trouble and person % 1000 == 7):
        # Full mailboxes are full for weeks, and take a message now and then: what a policy has to weigh.
        one = person % 9
        return f"{_FIRST[one]}.{_LAST[one + 3]}200@{domains[one % len(domains)]}"
    # Dead addresses are people of their own: who took mail yesterday does not stop existing.
    return f"{_local(person, 100 if trouble == 'unknown' else 0)}@{domain}"


def _local(person: int, more: int = 0) -> str:
    first, last = _FIRST[person % len(_FIRST)], _LAST[(person // 25) % len(_LAST)]
    return f"{first}.{last}{person // 600 % 90 + more}"


def person_address(person: int) -> str:
    """Return the address of one of 100,000 people, at a provider of the usual shares."""
    shares = np.cumsum([provider.share for provider in _EVERYWHERE])
    at = int(np.searchsorted(shares, (person * 7919 % 10_000) / 10_000 * shares[-1], side="right"))
    domains = _EVERYWHERE[at].domains
    return f"{_local(person)}@{domains[(person // 7) % len(domains)]}"


def _time(at: datetime) -> str:
    return at.strftime("%Y-%m-%dT%H:%M:%SZ")


def day_rows(day: date, anchor: date, tenant: str) -> Iterator[dict[str, Any]]:
    """All events that a tenant's mail of one day leads to."""
    rng = np.random.default_rng([SEED, 1, day.toordinal(), sum(tenant.encode())])
    for number, cell in enumerate(plan_day(day, anchor, tenant)):
        if not cell.flow.counted:
            yield from event_rows(cell, rng, f"{day:%y%m%d}.{number:03d}")


def day_counts(day: date, anchor: date, tenant: str, *, counted: bool = False) -> Iterator[tuple[CounterKey, int]]:
    """What a tenant's mail of one day adds to the counters: that with events, or that which is `counted` only."""
    rng = np.random.default_rng([SEED, 3 if counted else 2, day.toordinal(), sum(tenant.encode())])
    for cell in plan_day(day, anchor, tenant):
        if cell.flow.counted == counted:
            yield from count_cell(cell, rng)
