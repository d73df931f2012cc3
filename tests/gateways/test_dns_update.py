"""Dynamic updates at a real BIND 9: signed, whole or not at all, and with the server's reason when it refuses."""

from dataclasses import replace

import pytest

from rust_gauge.core.recordplan import RrsetChange
from rust_gauge.gateways.dns_update import UpdateFailed, UpdateServer, send_update
from rust_gauge.launch.mariadb import free_port
from tests.gateways.primary import KEY_NAME, SECRET, Primary

NEW = RrsetChange("", "TXT", 300, (), 300, ('"v=DMARC1; p=none"',))


@pytest.fixture
def server(bind: Primary) -> UpdateServer:
    return UpdateServer("127.0.0.1", bind.port, bind.zones.pop(), KEY_NAME, "hmac-sha256", SECRET)


def test_a_change_is_made_and_taken_back(bind: Primary, server: UpdateServer) -> None:
    change = replace(NEW, name=f"_dmarc.{server.zone}")
    send_update(server, [change])
    assert bind.texts(change.name) == set(change.after)
    send_update(server, [change.reversed()])
    assert bind.texts(change.name) == set()


def test_nothing_is_changed_when_one_part_is_not_as_it_was(bind: Primary, server: UpdateServer) -> None:
    good = replace(NEW, name=f"_dmarc.{server.zone}")
    stale = RrsetChange(server.zone, "TXT", 300, ('"v=spf1 -all"',), 300, ('"v=spf1 mx -all"',))
    with pytest.raises(UpdateFailed, match="not as it was"):
        send_update(server, [good, stale])
    assert bind.texts(good.name) == set()


@pytest.mark.parametrize(
    ("wrong", "summary"),
    [
        ({"secret": "bm90IHRoZSBzZWNyZXQ="}, "does not take the key"),
        ({"key_name": "other.example"}, "does not take the key"),
        ({"secret": "abc"}, "cannot be made"),
        ({"zone": "nobody.example"}, "does not take the key|answered"),
        ({"port": free_port()}, "cannot be reached"),
    ],
)
def test_the_reason_is_told_and_nothing_changes(
    bind: Primary, server: UpdateServer, wrong: dict[str, object], summary: str
) -> None:
    name = f"_dmarc.{server.zone}"
    with pytest.raises(UpdateFailed, match=summary) as caught:
        send_update(replace(server, **wrong), [replace(NEW, name=name)], timeout=5)  # type: ignore[arg-type]
    assert caught.value.remedy
    assert bind.texts(name) == set()
