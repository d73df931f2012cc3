"""A full tray: 50,000 messages listed, searched, waited for and trimmed."""

from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.contract.bench import NewTray
from rust_gauge.service.bench import messages, trays
from rust_gauge.service.bench.messages import Wanted
from rust_gauge.store import caught
from rust_gauge.store import tables as t

COUNT = 50_000


def run(bench: Bench) -> list[Figure]:
    context, tenant = bench.context, bench.tenant
    trays.add_tray(context, tenant, NewTray(name="full", keep_messages=COUNT))
    row = trays.find_tray(context, tenant, "full")
    _fill(bench, row.id)
    figures = []
    for name, wanted, wish in (
        ("a page of 100 messages of 50,000", Wanted(), "50 ms"),
        ("a page of those to one recipient", Wanted(recipient="kim7@tidepost.example"), "50 ms"),
        ("a search in 50,000 subjects that finds nothing", Wanted(subject="not there"), "300 ms"),
    ):
        seconds = middle_of(5, lambda: messages.list_messages(context, tenant, "full", wanted, "", None, 100))  # noqa: B023
        figures.append(Figure(name, f"{seconds * 1000:.0f} ms", "-", None, wish))
    seconds = middle_of(5, lambda: messages.match_now(context, row, Wanted(after=0, recipient="kim7@tidepost.example")))
    figures.append(Figure("what a test waits for, found", f"{seconds * 1000:.0f} ms", "-", None, "50 ms"))
    seconds = middle_of(5, lambda: context.store.transaction(lambda c: caught.newest_ids(c, [row.id])))
    figures.append(Figure("whether there is a new message", f"{seconds * 1000:.1f} ms", "-", None, "5 ms"))
    seconds = middle_of(3, lambda: trays.trim(context, row))
    figures.append(Figure("whether something has to go", f"{seconds * 1000:.0f} ms", "-", None, "300 ms"))
    return figures


def _fill(bench: Bench, tray_id: int) -> None:
    """Write rows as catching does, many at a time; octets are what lists do not read."""
    for start in range(0, COUNT, 5000):
        rows = [
            {
                "tenant_id": bench.tenant.id, "tray_id": tray_id, "arrived_at": NOW, "via": "smtp",
                "mail_from": "a@d.example", "helo": "d.example", "client_ip": "192.0.2.1", "tls": "TLSv1.3",
                "recipients": [f"kim{n % 500}@tidepost.example"], "subject": f"Your booking {n}",
                "header_from": "a@d.example", "message_id": f"<{n}@d.example>", "series": "Your booking …",
                "size": 20_000, "state": "examined", "attempts": 1, "claimed_at": None, "mark": 90.0, "worst": "risk",
                "points": [],
            }
            for n in range(start, start + 5000)
        ]  # fmt: skip

        def write(connection: object, rows: object = rows) -> None:
            connection.execute(t.caught_message.insert(), rows)  # type: ignore[attr-defined]

        bench.context.store.transaction(write)
    bench.context.store.transaction(
        lambda c: c.exec_driver_sql(
            "INSERT INTO caught_recipient (tray_id, recipient, message_id) "
            "SELECT tray_id, JSON_VALUE(recipients, '$[0]'), id FROM caught_message"
        )
    )
