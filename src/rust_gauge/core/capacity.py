"""What a load needs: processors, memory and disk, from figures that were measured (docs/scale.md).

It is an estimate for planning. It rests on one machine of two processors, and says what each number comes from.
"""

import math
from dataclasses import dataclass

DAY = 86_400
GIB = 1024**3


@dataclass(frozen=True, slots=True)
class Measured:
    """What the estimate rests on: figures of docs/scale.md and docs/performance.md, but for octets in memory."""

    events_per_processor: float = 11_000  # a second over HTTP, half of what two processors took at 100 million
    octets_of_event: float = 400  # of the event table with its indexes
    octets_in_memory: float = 150  # of an event's keys in three indexes: reckoned, not measured
    seconds_of_domain: float = 0.62  # to compute the readings of a domain with 20 providers, once a day
    detection_of_domain: float = 0.064  # seconds for a look for problems
    memory_of_service: float = 0.4 * GIB  # 355 MiB were seen
    memory_of_worker: float = 0.25 * GIB  # 193 MiB were seen


MEASURED = Measured()
_WARM_DAYS = 3  # of events whose keys should lie in memory: a judgement, repeats come within hours
_DETECTIONS = 24  # looks for problems a day
_SPARE = 0.3  # share of processors and disk that is left free
_BASE_DISK = 6 * GIB  # logs of MariaDB, counters, suppression list


@dataclass(frozen=True, slots=True)
class Load:
    """What is to be carried. `peak`: how many times the average the busiest minute has."""

    events_per_day: int
    days_kept: int = 180
    domains: int = 100
    peak: float = 6.0


@dataclass(frozen=True, slots=True)
class Need:
    """One line of the answer: what is needed, in its unit, and where it comes from."""

    name: str
    amount: float
    unit: str
    why: str


def needs_of(load: Load, measured: Measured = MEASURED) -> tuple[Need, ...]:
    """Return what a load needs, with the reasons. ValueError for a load that is not positive."""
    if load.events_per_day < 1 or load.days_kept < 1 or load.domains < 1 or load.peak < 1:
        raise ValueError("events per day, days, domains and peak must be at least 1")
    second = load.events_per_day / DAY * load.peak
    intake = second / measured.events_per_processor
    computing = load.domains * (measured.seconds_of_domain + _DETECTIONS * measured.detection_of_domain) / DAY
    processors = max(2, math.ceil((intake + computing) / (1 - _SPARE)))
    workers = max(3, math.ceil(computing / (1 - _SPARE)) + 2)
    pool = max(1.0 * GIB, load.events_per_day * _WARM_DAYS * measured.octets_in_memory)
    services = max(1, math.ceil(intake))
    memory = pool * 1.2 + services * measured.memory_of_service + workers * measured.memory_of_worker + 1 * GIB
    events = load.events_per_day * load.days_kept * measured.octets_of_event
    disk = (events + _BASE_DISK) / (1 - _SPARE)
    busy = f"readings and detection of {load.domains:,} domains take {computing:.2f}"
    rate = f"{second:,.0f} events a second at peak, {measured.events_per_processor:,.0f} a processor"
    keys = f"of which {pool / GIB:.1f} for innodb_buffer_pool_size: keys of {_WARM_DAYS} days of events"
    kept = f"{measured.octets_of_event:.0f} octets an event, {load.days_kept} days; {100 * _SPARE:.0f} % left free"
    return (
        Need("processors", processors, "", f"{rate}; {busy}"),
        Need("memory", memory / GIB, "GiB", keys),
        Need("disk", disk / GIB, "GiB", kept),
        Need("service processes", services, "", f"one for each {measured.events_per_processor:,.0f} events a second"),
        Need("workers", workers, "", "setting `workers`; long jobs of some tenants delay nobody's"),
    )
