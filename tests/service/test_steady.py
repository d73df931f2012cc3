"""A short form of the soak (`make attack`): what was served leaves nothing behind in memory."""

import gc

from rust_gauge.client import Client
from tests.conftest import Office
from tests.rows import bounce, ndjson, row
from tests.vectors.assay_messages import message

_ROUNDS = 30
_KEPT = 40  # objects that a round may leave: caches fill, and the pool of threads grows once


def test_requests_leave_no_objects_behind(office: Office, client: Client) -> None:
    """The service runs in this process, so its objects are among those that are counted."""

    def serve(first: int) -> None:
        for number in range(first, first + _ROUNDS):
            client.events.load(office.slug, ndjson(*(row(n, id=f"{number}-{n}") for n in range(20)), bounce(number)))
            list(client.events.list(office.slug, kinds=["bounced"]))
            client.readings.wall()
            client.assays.examine(office.slug, message())

    serve(0)
    gc.collect()
    before = len(gc.get_objects())
    serve(_ROUNDS)
    gc.collect()
    assert len(gc.get_objects()) - before < _KEPT * _ROUNDS
