"""The demo goes on: relays of the story report what happens now, a few events at a time.

The events are those of the demo's days, at their own times, so that the same day ends the same whether the demo ran or
was started again later. They are sent as a relay would send them, over HTTP. `rustgauged demo --still` leaves this out.
"""

import argparse
import sys
import time
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from pathlib import Path
from typing import Any

import orjson

from rust_gauge.client import Client, ClientError
from rust_gauge.demo.generator import day_rows
from rust_gauge.demo.scenario import TENANTS

_EVERY = 10.0  # seconds
_LATER = 3  # days after which a message has no more events: opens and complaints come later than deliveries
_MOST = 5000  # events of a request


class Traffic:
    """What each tenant's relays have still to report. A day is generated once."""

    def __init__(self, anchor: date, since: datetime) -> None:
        self._anchor, self._day = anchor, since.date()
        self._waiting = {each.slug: _later_than(each.slug, anchor, since, since.date()) for each in TENANTS}

    def due(self, now: datetime) -> Iterator[tuple[str, list[dict[str, Any]]]]:
        """Yield (tenant, events) that have happened by now; what is not `done` is due again."""
        while self._day < now.date():
            before = datetime.combine(self._day, datetime.max.time(), UTC)
            self._day += timedelta(days=1)
            for slug, waiting in self._waiting.items():
                of_day = ((_at(row), row) for row in day_rows(self._day, self._anchor, slug))
                waiting += [pair for pair in of_day if pair[0] > before]
                waiting.sort(key=lambda pair: pair[0])
        for slug, waiting in self._waiting.items():
            found = [row for at, row in waiting[:_MOST] if at <= now]
            if found:
                yield slug, found

    def done(self, tenant: str, count: int) -> None:
        """Forget the first events of a tenant: they were taken."""
        del self._waiting[tenant][:count]


def _later_than(tenant: str, anchor: date, after: datetime, last: date) -> list[tuple[datetime, dict[str, Any]]]:
    days = (last - timedelta(days=age) for age in range(_LATER, -1, -1))
    rows = ((_at(row), row) for day in days for row in day_rows(day, anchor, tenant))
    return sorted((pair for pair in rows if pair[0] > after), key=lambda pair: pair[0])


def _at(row: dict[str, Any]) -> datetime:
    return datetime.fromisoformat(row["time"])


def main(arguments: list[str] | None = None) -> int:
    """Run until killed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--url", required=True)
    parser.add_argument("--access", type=Path, required=True, help="file with the demo's password and token")
    parser.add_argument("--anchor", type=date.fromisoformat, required=True, help="day 0 of the story")
    parser.add_argument("--since", type=datetime.fromisoformat, required=True, help="time of the newest event")
    chosen = parser.parse_args(arguments)
    traffic = Traffic(chosen.anchor, chosen.since)
    with Client(chosen.url, token=chosen.access.read_text().split()[1]) as client:
        while True:
            for tenant, rows in traffic.due(datetime.now(UTC)):
                try:
                    client.events.load(tenant, b"\n".join(map(orjson.dumps, rows)))
                except ClientError as error:  # the service is starting, or the tenant was deleted
                    sys.stderr.write(f"{tenant}: {error}\n")
                    continue
                traffic.done(tenant, len(rows))
            time.sleep(_EVERY)


if __name__ == "__main__":
    sys.exit(main())
