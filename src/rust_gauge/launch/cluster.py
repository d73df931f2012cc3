"""Three MariaDB servers of one Galera cluster on this machine, with HAProxy in front: for trying and testing what a
team runs on three machines (docs/operations.md).

One node takes all writes; HAProxy asks each node's agent (`database_agent`) and moves on when that one fails. It comes
back by itself, with what it missed, and is next in line. Reads go to the others.
"""

import contextlib
import os
import re
import shutil
import signal
import subprocess
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

from rust_gauge.launch.database_agent import Agent
from rust_gauge.launch.mariadb import LaunchError, PrivateMariaDb, _program, free_port

_PROVIDER = Path("/usr/lib/galera/libgalera_smm.so")
_NAME = "rust_gauge"
_RECOVERED = re.compile(r"WSREP: Recovered position: ([0-9a-f-]{36}):(-?\d+)")
_WITHIN = 60.0  # seconds for a node to take part
# A node that says nothing for two seconds is left out: waiting longer for it would hold up all writes.
_WATCH = (
    "evs.keepalive_period=PT0.5S;evs.inactive_check_period=PT0.5S;evs.suspect_timeout=PT2S;"
    "evs.inactive_timeout=PT4S;evs.install_timeout=PT4S;gmcast.peer_timeout=PT2S"
)
_CACHE = "256M"  # of what the others did, for a node that was away; one that was away longer gets a whole copy


@dataclass(frozen=True, slots=True)
class Place:
    """Where a node runs: its address, its ports, and what its commands begin with."""

    address: str
    port: int
    group_port: int
    catch_up_port: int
    copy_port: int
    agent_port: int
    prefix: tuple[str, ...] = ()


@dataclass
class ClusterNode(PrivateMariaDb):
    """One server of the cluster. `place` is filled in before it starts."""

    name: str = ""
    place: Place | None = None
    peers: str = ""  # "address:port" of the group ports of all nodes, joined by commas

    def configure(self, place: Place, peers: str) -> None:
        """Set where the node runs, once the accounts of its database are there."""
        self.place, self.peers = place, peers
        self.address, self.port, self.prefix, self._known = place.address, place.port, place.prefix, True

    def join(self, *, first: bool = False) -> None:
        """Start the node; `first` begins a cluster that nobody else is in. LaunchError where it does not start."""
        place = self.place
        assert place is not None
        position = self._position()
        address = "gcomm://" if first else f"gcomm://{self.peers}"
        provider = (
            f"gmcast.listen_addr=tcp://{place.address}:{place.group_port};gcache.size={_CACHE};"
            f"ist.recv_addr={place.address}:{place.catch_up_port};{_WATCH}"
        )
        self.options = (
            "--wsrep-on=ON", f"--wsrep-provider={_PROVIDER}", f"--wsrep-cluster-name={_NAME}",
            f"--wsrep-cluster-address={address}", f"--wsrep-node-name={self.name}",
            f"--wsrep-node-address={place.address}:{place.group_port}",
            f"--wsrep-node-incoming-address={place.address}:{place.port}",
            "--wsrep-sst-method=rsync", f"--wsrep-sst-receive-address={place.address}:{place.copy_port}",
            f"--wsrep-provider-options={provider}", "--binlog-format=ROW", "--innodb-autoinc-lock-mode=2",
            *([f"--wsrep-start-position={position}"] if position else []),
        )  # fmt: skip
        self._write_state()
        self._launch(_program("mariadbd", "mysqld"), self._user(), self.directory / "tmp", last=True)

    def kill(self) -> None:
        """End the node at once, as a crash does."""
        pid = self._pid()
        if pid is not None:
            os.kill(pid, signal.SIGKILL)
        self.forget()

    def forget(self) -> None:
        """Take note that the process is gone."""
        if self.process is not None:
            self.process.wait(_WITHIN)
            self.process = None

    def seqno(self) -> int:
        """Return the number of the last transaction that is on the node's disk; -1 where nothing is known."""
        return int(self._position().rpartition(":")[2] or -1)

    def _position(self) -> str:
        """Return "cluster:number" of what is on disk: after a crash the storage engine has to be asked."""
        text = self._state_file().read_text() if self._state_file().exists() else ""
        told = dict(line.split(":", 1) for line in text.splitlines() if ":" in line and not line.startswith("#"))
        uuid, number = told.get("uuid", "").strip(), told.get("seqno", "-1").strip()
        if uuid and int(number) >= 0:
            return f"{uuid}:{number}"
        user = self._user()
        command = [
            _program("mariadbd", "mysqld"), "--no-defaults", f"--datadir={self.data}",
            f"--tmpdir={self.directory / 'tmp'}", f"--socket={self.data / 'recover.sock'}", "--skip-networking",
            f"--wsrep-provider={_PROVIDER}", "--wsrep-on=ON", "--wsrep-recover", "--binlog-format=ROW",
            "--innodb-log-file-size=1G", *([f"--user={user}"] if user else []),
        ]  # fmt: skip
        done = subprocess.run(command, capture_output=True, text=True, timeout=_WITHIN, check=False)
        found = _RECOVERED.findall(done.stderr + done.stdout)
        return f"{found[-1][0]}:{found[-1][1]}" if found and int(found[-1][1]) >= 0 else ""

    def _state_file(self) -> Path:
        return self.data / "grastate.dat"

    def may_begin(self, yes: bool) -> None:
        """Write down whether a cluster may be begun from this node's data."""
        path = self._state_file()
        text = re.sub(r"safe_to_bootstrap: \d", f"safe_to_bootstrap: {int(yes)}", path.read_text())
        path.write_text(text)

    def _first_statements(self, user: str | None) -> list[str]:
        return [] if self.place is not None else super()._first_statements(user)

    def _stop_leftover(self) -> None:
        self.stop()


@dataclass
class Cluster:
    """Three nodes, their agents and HAProxy. `places` are on loopback unless told otherwise."""

    directory: Path
    memory: str = "256M"
    places: tuple[Place, ...] = ()
    clients: str = "127.0.0.1"
    nodes: list[ClusterNode] = field(default_factory=list)
    write_port: int = 0
    read_port: int = 0
    agents: list[Agent] = field(default_factory=list)
    proxy: subprocess.Popen[bytes] | None = None
    left_alone: set[int] = field(default_factory=set)  # nodes that are not started again, as somebody plays with them
    restarts: list[str] = field(default_factory=list)  # which nodes were started again, and why
    _states: dict[str, str] = field(default_factory=dict)
    _over: threading.Event = field(default_factory=threading.Event)
    _reviving: threading.Thread | None = None

    def start(self) -> None:
        """Start everything, from empty directories or from what an earlier run left. LaunchError where it fails."""
        if not _PROVIDER.exists():
            raise LaunchError("Galera is not installed: make cluster installs it, or apt-get install galera-4")
        self.places = self.places or tuple(_place() for _ in range(3))
        peers = ",".join(f"{place.address}:{place.group_port}" for place in self.places)
        self.nodes = [
            ClusterNode(self.directory / f"node-{n}", self.memory, name=f"node-{n}", clients=self.clients)
            for n in range(1, len(self.places) + 1)
        ]
        if not (self.nodes[0].data / "grastate.dat").exists():
            self._make(peers)
        for node, place in zip(self.nodes, self.places, strict=True):
            node.stop()  # left over from a run that was killed
            node._read_state()
            node.configure(place, peers)
        self._begin()
        for node, place in zip(self.nodes, self.places, strict=True):
            agent = Agent(node.url, "127.0.0.1", place.agent_port)
            agent.start()
            self.agents.append(agent)
        self._start_proxy()
        self._reviving = threading.Thread(target=self._revive, daemon=True, name="cluster")
        self._reviving.start()

    def url(self, *, read: bool = False) -> str:
        """Return the address of the database: for writing, or for reading from the other nodes."""
        port = self.read_port if read else self.write_port
        node = self.nodes[0]
        return node.url.replace(f"@{node.address}:{node.port}/", f"@127.0.0.1:{port}/")

    def stop(self) -> None:
        """Stop everything cleanly, the writer last."""
        self._over.set()
        if self._reviving is not None:
            self._reviving.join()
        if self.proxy is not None:
            self.proxy.terminate()
            self.proxy.wait(20)
        for agent in self.agents:
            agent.stop()
        for node in reversed(self.nodes):
            node.stop()

    def news(self) -> list[str]:
        """Return a line for each node that came or went since the last call."""
        out = []
        for node, agent in zip(self.nodes, self.agents, strict=True):
            state = agent.problem(writing=True) or "ready"
            if self._states.get(node.name, "ready") != state:
                out.append(f"{node.name}: {state}")
            self._states[node.name] = state
        return out

    def _make(self, peers: str) -> None:
        """Make the data of the first node, and copies of it for the others: then nobody has to send a whole copy."""
        shutil.rmtree(self.directory, ignore_errors=True)
        first = self.nodes[0]
        first.start()
        first.stop()
        first.configure(self.places[0], peers)
        first.join(first=True)
        first.stop()
        user = first._user()
        for node in self.nodes[1:]:
            shutil.copytree(first.directory, node.directory, symlinks=True)
            for path in (node.directory, *node.directory.rglob("*")):
                stat = (first.directory / path.relative_to(node.directory)).stat()
                if user:
                    os.chown(path, stat.st_uid, stat.st_gid)
            (node.data / "server.pid").unlink(missing_ok=True)
            (node.data / "gvwstate.dat").unlink(missing_ok=True)
            node._read_state()
            node.may_begin(False)

    def _begin(self) -> None:
        """Begin the cluster from the node that knows most, and have the others join."""
        first = max(self.nodes, key=lambda node: node.seqno())
        first.may_begin(True)
        first.join(first=True)
        for node in self.nodes:
            if node is not first:
                node.join()

    def _revive(self) -> None:
        while not self._over.wait(1.0):
            for number in range(len(self.nodes)):
                if number not in self.left_alone:
                    with contextlib.suppress(LaunchError):
                        self._tend(number)

    def _tend(self, number: int) -> None:
        """Start a node again that ended, or that runs without looking for its cluster. LaunchError where that fails."""
        node, agent = self.nodes[number], self.agents[number]
        if self._over.is_set():
            return
        if node.process is None:
            why = "was ended"
        elif (status := node.process.poll()) is not None:
            why = f"ended by itself ({status})"
        else:
            agent.problem(writing=False)
            if not agent.has_given_up:
                return
            node.stop()
            why = "gave up its cluster"
        self.restarts.append(f"{node.name} {why}")
        node.process = None
        node.join()

    def _start_proxy(self) -> None:
        self.write_port, self.read_port = self.write_port or free_port(33_860), self.read_port or free_port(33_861)
        path = self.directory / "haproxy.cfg"
        path.write_text(self.proxy_settings())
        self.proxy = subprocess.Popen(
            [_program("haproxy"), "-f", str(path)], stdout=(self.directory / "haproxy.log").open("ab"),
            stderr=subprocess.STDOUT, start_new_session=True,
        )  # fmt: skip
        end = time.monotonic() + _WITHIN
        while not any(agent.is_writer for agent in self.agents):
            if self.proxy.poll() is not None or time.monotonic() > end:
                raise LaunchError(f"HAProxy did not start; its log is {self.directory / 'haproxy.log'}")
            time.sleep(0.1)

    def proxy_settings(self) -> str:
        """Return the configuration of HAProxy: one writer, whose connections end when it fails, and readers.

        The table has one row, the writer of now: a node that comes back does not take the writing over again.
        """
        servers = [
            f"server node-{n} {place.address}:{place.port} check addr 127.0.0.1 port {place.agent_port}"
            for n, place in enumerate(self.places, 1)
        ]
        return "\n".join((
            "global", "  maxconn 2000",
            "defaults", "  mode tcp", "  timeout connect 2s", "  timeout client 1h", "  timeout server 1h",
            "  timeout check 1500ms", "  retries 2", "  option redispatch",
            "listen write", f"  bind 127.0.0.1:{self.write_port}", "  option httpchk GET /writer",
            "  http-check expect status 200", "  stick-table type integer size 1", "  stick on int(1)",
            "  default-server inter 500ms fall 2 rise 3 on-marked-down shutdown-sessions",
            *(f"  {text}{' backup' if n else ''}" for n, text in enumerate(servers)),
            "listen read", f"  bind 127.0.0.1:{self.read_port}", "  balance leastconn",
            "  option httpchk GET /reader", "  http-check expect status 200",
            "  default-server inter 500ms fall 2 rise 3 on-marked-down shutdown-sessions",
            *(f"  {text}{'' if n else ' backup'}" for n, text in enumerate(servers)), "",
        ))  # fmt: skip


def _place() -> Place:
    return Place("127.0.0.1", free_port(), free_port(), free_port(), free_port(), free_port())
