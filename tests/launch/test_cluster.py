"""What an agent says of a node, and how HAProxy is configured. The cluster itself is tested by `make failover`."""

import subprocess
import urllib.error
import urllib.request
from pathlib import Path

import pytest

from rust_gauge.launch import cluster as module
from rust_gauge.launch.cluster import Cluster, Place
from rust_gauge.launch.database_agent import Agent, _problem
from rust_gauge.launch.mariadb import LaunchError, free_port
from tests.conftest import World

WELL = {"wsrep_cluster_status": "Primary", "wsrep_ready": "ON", "wsrep_local_state": "4", "read_only": "0"}


@pytest.mark.parametrize(
    ("changes", "writing", "problem"),
    [
        ({}, True, ""),
        ({}, False, ""),
        ({"wsrep_cluster_status": "non-Primary"}, False, "not in the majority of the cluster (non-Primary)"),
        (
            {"wsrep_ready": "OFF", "wsrep_local_state_comment": "Joining"},
            False,
            "not up to date with the cluster (Joining)",
        ),
        (
            {"wsrep_local_state": "2", "wsrep_local_state_comment": "Donor"},
            True,
            "not up to date with the cluster (Donor)",
        ),
        ({"read_only": "1"}, True, "read-only"),
        ({"read_only": "1"}, False, ""),
    ],
)
def test_a_node_is_used_only_if_it_is_up_to_date(changes: dict[str, str], writing: bool, problem: str) -> None:
    assert _problem({**WELL, **changes}, writing=writing) == problem


def asked(agent: Agent, path: str) -> tuple[int, str]:
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{agent.port}{path}", timeout=20) as answer:
            return answer.status, answer.read().decode()
    except urllib.error.HTTPError as error:
        return error.code, error.read().decode()


def test_an_agent_says_why_a_server_cannot_be_used(world: World) -> None:
    for url, reason in (
        (world.database.url, "not in the majority of the cluster"),  # a single server
        (world.database.url.replace(f":{world.database.port}/", ":9/"), "the server does not answer"),
    ):
        agent = Agent(url, "127.0.0.1", free_port())
        agent.start()
        try:
            status, text = asked(agent, "/writer")
            assert (status, text.startswith(reason), agent.is_writer) == (503, True, False)
        finally:
            agent.stop()


def test_one_node_takes_writes_and_the_others_reads(tmp_path: Path) -> None:
    places = tuple(Place(f"192.0.2.{n}", 3306, 4567, 4568, 4444, 9000 + n) for n in (21, 22, 23))
    made = Cluster(tmp_path, places=places, write_port=3310, read_port=3311)
    write, read = made.proxy_settings().split("listen write\n")[1].split("listen read\n")
    servers = [[line.strip() for line in part.splitlines() if "server node" in line] for part in (write, read)]
    assert [line.endswith("backup") for line in servers[0]] == [False, True, True]
    assert [line.endswith("backup") for line in servers[1]] == [True, False, False]
    assert servers[0][1] == "server node-2 192.0.2.22:3306 check addr 127.0.0.1 port 9022 backup"
    assert "bind 127.0.0.1:3310" in write
    assert "bind 127.0.0.1:3311" in read


def test_a_cluster_without_galera_says_what_to_install(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_PROVIDER", tmp_path / "none.so")
    with pytest.raises(LaunchError, match="make cluster"):
        Cluster(tmp_path).start()


def test_capacity_is_a_command() -> None:
    done = subprocess.run(
        [".venv/bin/rustgauged", "capacity", "3000000", "--domains", "300"], capture_output=True, text=True, check=True
    )
    assert done.stdout.startswith("processors                2")
    refused = subprocess.run([".venv/bin/rustgauged", "capacity", "0"], capture_output=True, text=True, check=False)
    assert (refused.returncode, "at least 1" in refused.stderr) == (1, True)
