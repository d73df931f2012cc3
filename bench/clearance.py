"""Clearance of 10,000 addresses against the bare SQL that looks the same keys up."""

from datetime import timedelta

from bench.world import NOW, Bench, Figure, middle_of
from rust_gauge.contract.suppression import ClearanceRequest
from rust_gauge.core.names import parse_address
from rust_gauge.service import suppression
from rust_gauge.store import suppression as store_suppression
from rust_gauge.store.events import address_key
from rust_gauge.store.suppression import NewEntry

_ENTRIES, _ASKED = 20_000, 10_000


def run(bench: Bench) -> list[Figure]:
    store = bench.context.store
    addresses = [parse_address(f"held{n}@r{n % 40}.example") for n in range(_ENTRIES)]
    evidence = {"kind": "bounced", "time": NOW.isoformat(), "cause": "no_such_mailbox", "domain": "d.example"}
    evidence |= {"stream": "", "message_id": "", "diagnostic": "550 5.1.1 no such mailbox"}
    since = NOW - timedelta(days=1)
    entries = [NewEntry(address, "bad_address", since, evidence) for address in addresses]
    store.transaction(lambda c: store_suppression.add_entries(c, bench.tenant.id, entries, "bench", NOW))
    asked = [str(address) for address in addresses[: _ASKED // 2]]
    asked += [f"clear{n}@r{n % 40}.example" for n in range(_ASKED // 2)]
    request = ClearanceRequest(addresses=asked)
    if suppression.answer(bench.context, bench.tenant, request).held != _ASKED // 2:
        raise RuntimeError("the wrong addresses are held")
    ours = middle_of(7, lambda: suppression.answer(bench.context, bench.tenant, request))
    keys = [address_key(parse_address(text)) for text in asked]
    values = ", ".join(f"x'{key.hex()}'" for key in keys)
    sql = (
        "SELECT address_key, reason, since, until, evidence FROM suppression_entry "
        f"WHERE tenant_id = {bench.tenant.id} AND address_key IN ({values})"
    )

    def bare() -> None:
        with store.engine.connect() as connection:
            connection.exec_driver_sql(sql, execution_options={"no_parameters": True}).all()

    floor = middle_of(7, bare)
    figure = Figure(
        f"clearance of {_ASKED:,} addresses", f"{ours * 1000:.0f} ms", f"{floor * 1000:.0f} ms bare SQL", ours / floor,
        "1.5",
    )  # fmt: skip
    return [figure]
