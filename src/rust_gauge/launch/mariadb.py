"""A private MariaDB: own data directory, own port and socket, loopback only, never another instance's.

When run as root the server runs as a system user of its own, if that user can reach the directory; where a folder
above is closed to others it runs as the folder's owner instead, and says so. Passwords are set by an init file
before the first connection is taken.
"""

import contextlib
import os
import pwd
import secrets
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import pymysql

SYSTEM_USER = "rustgauge-db"
DATABASE = "rust_gauge"
_START_WITHIN = 60.0  # seconds
_STOP_WITHIN = 60.0  # seconds
_BINARY_LOG_DAYS = 14
_PORTS = 4  # how many are tried when others take them between our look and the server's
_TAKEN = "Can't start server: Bind on TCP/IP port"


class LaunchError(Exception):
    """A part could not be started: what, and what to do."""


def free_port(preferred: int = 0) -> int:
    """`preferred` if nothing uses it by TCP or UDP, else any port on loopback that both leave free."""
    for port in (preferred, *[0] * 20):
        with socket.socket() as tcp, socket.socket(type=socket.SOCK_DGRAM) as udp, contextlib.suppress(OSError):
            tcp.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            tcp.bind(("127.0.0.1", port))
            found = int(tcp.getsockname()[1])
            udp.bind(("127.0.0.1", found))
            return found
    raise LaunchError("No free port on loopback")


@contextlib.contextmanager
def held_ports(preferred: Sequence[int]) -> Iterator[tuple[list[int], Callable[[], None]]]:
    """Yield ports as `free_port` finds them, and a function that lets go of them. Until then nobody else gets them,
    however long it takes until they are used.
    """
    held: list[socket.socket] = []

    def let_go() -> None:
        while held:
            held.pop().close()

    try:
        for port in preferred:
            listening = socket.socket()
            held.append(listening)
            listening.bind(("127.0.0.1", free_port(port)))
            listening.listen(1)
        yield [int(each.getsockname()[1]) for each in held], let_go
    finally:
        let_go()


def require_port(host: str, port: int) -> None:
    """LaunchError when something else listens there: it would answer in our place."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            raise LaunchError(
                f"Port {port} on {host} cannot be used ({error.strerror}). "
                f"Stop what listens there, or choose another: RUSTGAUGE_PORT={port + 1}"
            ) from None


@dataclass
class PrivateMariaDb:
    """One instance under `directory`. `memory` is its buffer pool, as MariaDB writes sizes."""

    directory: Path
    memory: str = "512M"
    preferred_port: int = 0
    port: int = 0
    password: str = ""
    process: subprocess.Popen[bytes] | None = None
    messages: list[str] = field(default_factory=list)
    durable: bool = True
    binary_log: bool = False  # for recovery to a point in time, see `backup`
    address: str = "127.0.0.1"  # that it listens on; another one only for test hosts, see `cluster`
    clients: str = "127.0.0.1"  # hosts that may sign in, as MariaDB writes them
    options: tuple[str, ...] = ()
    prefix: tuple[str, ...] = ()  # of its command line
    server_id: int = 1
    more_rights: str = ""  # of the account, over the whole server: those of replication
    _known: bool = False

    @property
    def url(self) -> str:
        return f"mysql+pymysql://rust_gauge:{self.password}@{self.address}:{self.port}/{DATABASE}?charset=utf8mb4"

    @property
    def data(self) -> Path:
        return self.directory / "data"

    def start(self) -> None:
        """Start, or join the instance that already runs on this directory. LaunchError when neither works."""
        self.directory.mkdir(parents=True, exist_ok=True)
        self.directory.chmod(0o711)
        self._read_state()
        if self._answers():
            self.messages.append(f"joined the MariaDB that still runs on port {self.port}")
            return
        self._stop_leftover()
        server = _program("mariadbd", "mysqld")
        user = self._user()
        # Its own: a server that starts clears what another one keeps under the same temporary directory.
        temporary = self.directory / "tmp"
        temporary.mkdir(mode=0o700, exist_ok=True)
        if user:
            shutil.chown(temporary, user)
        if not (self.data / "mysql").is_dir():
            self._install(user, temporary)
        for attempt in range(1, _PORTS + 1):
            if not self._known:  # once the other parts know the port, it has to stay
                self.port = free_port(self.port or self.preferred_port)
            self._write_state()
            if self._launch(server, user, temporary, last=attempt == _PORTS):
                self._known = True
                return

    def _launch(self, server: str, user: str | None, temporary: Path, *, last: bool) -> bool:
        """Start the server and wait until it answers. False when somebody else took the port meanwhile."""
        command = [
            *self.prefix,
            server,
            "--no-defaults",
            f"--datadir={self.data}",
            f"--tmpdir={temporary}",
            f"--socket={self._socket()}",
            f"--pid-file={self.data / 'server.pid'}",
            f"--log-error={self.data / 'server.log'}",
            f"--port={self.port}",
            f"--bind-address={self.address}",
            "--skip-name-resolve",
            f"--innodb-buffer-pool-size={self.memory}",
            "--innodb-log-file-size=1G",
            # Written pages advance the checkpoint; without it a crash after hours means to redo a gigabyte.
            "--innodb-max-dirty-pages-pct-lwm=1",
            f"--innodb-flush-log-at-trx-commit={1 if self.durable else 0}",
            "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_bin",
            "--max-allowed-packet=64M",
            "--max-connections=300",
            "--performance-schema=OFF",
            f"--server-id={self.server_id}",
            *self._binary_log_options(user),
            *self._first_statements(user),
            *self.options,
        ]
        if user:
            command.append(f"--user={user}")
        # A session of its own: Ctrl-C in the terminal must reach us first, so that clients stop before the server.
        self.process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True,
        )  # fmt: skip
        end = time.monotonic() + _START_WITHIN
        while not self._answers():
            if self.process.poll() is not None and not last and _TAKEN in self._log_tail():
                return False
            if self.process.poll() is not None or time.monotonic() > end:
                raise LaunchError(f"MariaDB did not start. Its log is {self.data / 'server.log'}:\n{self._log_tail()}")
            time.sleep(0.05)
        return True

    def _first_statements(self, user: str | None) -> list[str]:
        return [f"--init-file={self._init_file(user)}"]

    @property
    def binary_logs(self) -> Path:
        """Return the directory of the binary log."""
        return self.directory / "binlog"

    def _binary_log_options(self, user: str | None) -> list[str]:
        if not self.binary_log:
            return ["--skip-log-bin"]
        self.binary_logs.mkdir(mode=0o700, exist_ok=True)
        if user:
            shutil.chown(self.binary_logs, user)
        return [
            f"--log-bin={self.binary_logs / 'log'}", "--binlog-format=ROW",
            f"--binlog-expire-logs-seconds={_BINARY_LOG_DAYS * 86_400}", f"--sync-binlog={1 if self.durable else 0}",
        ]  # fmt: skip

    def runs(self) -> bool:
        """Return whether the instance of this directory answers; nothing is started."""
        self._read_state()
        return self._answers()

    def stop(self) -> None:
        """Shut down cleanly, whether we started it or joined it."""
        pid = self.process.pid if self.process else self._pid()
        if pid is None:
            return
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGTERM)
        if self.process:
            try:
                self.process.wait(_STOP_WITHIN)
            except subprocess.TimeoutExpired:  # it waits for room on a full disk, for example; it recovers when started
                self.process.kill()
                self.process.wait(_STOP_WITHIN)
            self.process = None
            return
        end = time.monotonic() + _STOP_WITHIN
        while self._pid() is not None and time.monotonic() < end:
            time.sleep(0.05)

    def _answers(self) -> bool:
        if not self.port or not self.password:
            return False
        try:
            connection = pymysql.connect(
                host=self.address, port=self.port, user="rust_gauge", password=self.password, database=DATABASE,
                connect_timeout=2, read_timeout=5,
            )  # fmt: skip
        except (pymysql.MySQLError, OSError):
            return False
        connection.close()
        return True

    def _pid(self) -> int | None:
        """The server that runs on our data directory, if one does."""
        try:
            pid = int((self.data / "server.pid").read_text())
            command = Path(f"/proc/{pid}/cmdline").read_bytes().split(b"\0")
        except (OSError, ValueError):
            return None
        return pid if f"--datadir={self.data}".encode() in command else None

    def _stop_leftover(self) -> None:
        if self._pid() is not None:
            self.messages.append("stopped a MariaDB that was left over from an earlier run")
            self.stop()

    def _user(self) -> str | None:
        """Whom the server runs as when we are root; None when we are not."""
        if os.geteuid() != 0:
            return None
        try:
            pwd.getpwnam(SYSTEM_USER)
        except KeyError:
            made = subprocess.run(
                ["useradd", "--system", "--no-create-home", "--shell", "/usr/sbin/nologin", SYSTEM_USER],
                capture_output=True,
                check=False,
            )
            if made.returncode != 0:
                self.messages.append(f"the system user {SYSTEM_USER} could not be made; MariaDB runs as root")
                return "root"
        if all(parent.stat().st_mode & 0o001 for parent in self.directory.resolve().parents):
            return SYSTEM_USER
        owner = pwd.getpwuid(self.directory.parent.stat().st_uid).pw_name
        self.messages.append(f"a folder above {self.directory} is closed to others, so MariaDB runs as {owner}")
        return owner

    def _install(self, user: str | None, temporary: Path) -> None:
        staging = self.directory / "data.new"
        shutil.rmtree(staging, ignore_errors=True)
        shutil.rmtree(self.data, ignore_errors=True)
        staging.mkdir(mode=0o700)
        if user:
            shutil.chown(staging, user)
        command = [
            _program("mariadb-install-db", "mysql_install_db"),
            "--no-defaults",
            f"--datadir={staging}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
            "--skip-name-resolve",
        ]
        done = subprocess.run(
            command + ([f"--user={user}"] if user else []),
            env={**os.environ, "TMPDIR": str(temporary)},
            capture_output=True,
            text=True,
            check=False,
        )
        if done.returncode != 0:
            raise LaunchError(f"The database directory could not be made:\n{done.stdout[-1500:]}{done.stderr[-1500:]}")
        staging.rename(self.data)

    def _init_file(self, user: str | None) -> Path:
        """Statements that the server runs before it takes connections: passwords and rights, on every start."""
        path = self.directory / "init.sql"
        path.touch(mode=0o600)
        path.chmod(0o600)
        path.write_text(
            "SET SESSION sql_log_bin = 0;\n"  # accounts are of this server alone
            f"CREATE DATABASE IF NOT EXISTS {DATABASE} CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n"
            f"ALTER USER 'root'@'localhost' IDENTIFIED BY '{secrets.token_hex(24)}';\n"
            "DELETE FROM mysql.global_priv WHERE User = '' OR (User = 'root' AND Host <> 'localhost');\n"
            "FLUSH PRIVILEGES;\n"
            f"CREATE USER IF NOT EXISTS 'rust_gauge'@'{self.clients}';\n"
            f"ALTER USER 'rust_gauge'@'{self.clients}' IDENTIFIED BY '{self.password}';\n"
            f"GRANT ALL ON `{DATABASE}`.* TO 'rust_gauge'@'{self.clients}';\n"
            f"GRANT ALL ON `{DATABASE}\\_%`.* TO 'rust_gauge'@'{self.clients}';\n"
            f"GRANT BINLOG MONITOR, BINLOG REPLAY ON *.* TO 'rust_gauge'@'{self.clients}';\n"  # `backup` and `restore`
            + (f"GRANT {self.more_rights} ON *.* TO 'rust_gauge'@'{self.clients}';\n" if self.more_rights else "")
        )
        if user:
            shutil.chown(path, user)
        return path

    def _socket(self) -> Path:
        """A path that fits into the 107 octets that a Unix socket's name may have."""
        path = self.data / "server.sock"
        if len(str(path)) < 100:
            return path
        return Path(tempfile.mkdtemp(prefix="rust-gauge-")) / "server.sock"

    def _read_state(self) -> None:
        try:
            port, self.password = (self.directory / "access").read_text().split()
            self.port = int(port)
        except (OSError, ValueError):
            self.password = secrets.token_hex(24)

    def _write_state(self) -> None:
        """Replace the file as a whole: on a full disk the one before stays."""
        path, text = self.directory / "access", f"{self.port} {self.password}\n"
        if path.exists() and path.read_text() == text:
            return
        new = path.with_name("access.new")
        new.touch(mode=0o600)
        new.write_text(text)
        new.replace(path)

    def _log_tail(self) -> str:
        try:
            return "\n".join((self.data / "server.log").read_text("utf-8", "replace").splitlines()[-15:])
        except OSError:
            return "(no log)"


def _program(*names: str) -> str:
    for name in names:
        found = shutil.which(name, path=os.environ.get("PATH", "") + ":/usr/sbin:/usr/local/sbin:/usr/bin")
        if found:
            return found
    raise LaunchError(f"{names[0]} is not installed: apt-get install mariadb-server-core")
