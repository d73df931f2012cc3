"""Real servers from Debian's packages, each a private instance on loopback with its own folders, for tests of feeds."""

import contextlib
import os
import pwd
import shutil
import signal
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

from rust_gauge.launch.mariadb import free_port
from tests.waiting import until


def program(*names: str) -> str:
    path = os.environ.get("PATH", "") + ":/usr/sbin:/usr/local/sbin:/usr/lib/rabbitmq/bin"
    found = next((found for name in names if (found := shutil.which(name, path=path))), None)
    assert found, f"{names[0]} is not installed: tools/setup.sh test installs it"
    return found


def listens(port: int) -> bool:
    with socket.socket() as probe:
        probe.settimeout(0.3)
        return probe.connect_ex(("127.0.0.1", port)) == 0


def wait_for(port: int, process: subprocess.Popen[bytes] | None, log: Path) -> None:
    def said() -> str:
        return log.read_text("utf-8", "replace")[-3000:] if log.exists() else "(no log)"

    def has_started() -> bool:
        if process is not None and process.poll() not in (None, 0):
            raise RuntimeError(f"The server ended: {said()}")
        return listens(port)

    until(has_started, said)


@contextlib.contextmanager
def folder(prefix: str) -> Iterator[Path]:
    """A folder under /tmp that other users can go through."""
    made = Path(tempfile.mkdtemp(prefix=prefix))
    made.chmod(0o755)
    try:
        yield made
    finally:
        shutil.rmtree(made, ignore_errors=True)


def stop(process: subprocess.Popen[bytes]) -> None:
    """Ends a process and what it started, by its own process group."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGTERM)
    try:
        process.wait(20)
    except subprocess.TimeoutExpired:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait(10)


@contextlib.contextmanager
def rabbitmq() -> Iterator[int]:
    """A broker with the user guest; gives its port."""
    with folder("rust-gauge-rabbit-") as home:
        port, distribution, mapper = free_port(), free_port(), free_port()
        (home / "rabbitmq.conf").write_text(f"listeners.tcp.1 = 127.0.0.1:{port}\nloopback_users = none\n")
        (home / "plugins").write_text("[].\n")
        environment = {
            **os.environ, "HOME": str(home), "RABBITMQ_NODENAME": f"rust-gauge-{port}@localhost",
            "RABBITMQ_MNESIA_BASE": str(home / "data"), "RABBITMQ_LOG_BASE": str(home / "log"),
            "RABBITMQ_CONFIG_FILE": str(home / "rabbitmq"), "RABBITMQ_ENABLED_PLUGINS_FILE": str(home / "plugins"),
            "RABBITMQ_PID_FILE": str(home / "pid"), "RABBITMQ_DIST_PORT": str(distribution),
            "ERL_EPMD_PORT": str(mapper), "ERL_EPMD_ADDRESS": "127.0.0.1",
            "RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS": "-kernel inet_dist_use_interface {127,0,0,1}",
        }  # fmt: skip
        server = "/usr/lib/rabbitmq/bin/rabbitmq-server"
        with (home / "out").open("wb") as out:
            process = subprocess.Popen(
                [server if Path(server).exists() else program("rabbitmq-server")], env=environment, stdout=out,
                stderr=out, stdin=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
        try:
            wait_for(port, process, home / "out")
            yield port
        finally:
            stop(process)
            _end_mapper(mapper)


def _end_mapper(port: int) -> None:
    """The port mapper that the broker started for itself, by its port."""
    for row in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            if (
                b"epmd" in (row / "cmdline").read_bytes()
                and f"ERL_EPMD_PORT={port}".encode() in (row / "environ").read_bytes()
            ):
                os.kill(int(row.name), signal.SIGTERM)


@contextlib.contextmanager
def dovecot(mail: Path, password: str) -> Iterator[int]:
    """An IMAP server over a Maildir, for any user with this password; gives its port. Needs root, as Dovecot does."""
    with folder("rust-gauge-imap-") as home:
        port = free_port()
        owner = pwd.getpwnam("nobody")
        (home / "run").mkdir()
        (home / "dovecot.conf").write_text(
            f"""
base_dir = {home}/run
state_dir = {home}/run
log_path = {home}/log
protocols = imap
listen = 127.0.0.1
ssl = no
disable_plaintext_auth = no
mail_location = maildir:{mail}
first_valid_uid = 1
passdb {{
  driver = static
  args = password={password}
}}
userdb {{
  driver = static
  args = uid={owner.pw_uid} gid={owner.pw_gid} home={home}
}}
service imap-login {{
  inet_listener imap {{
    port = {port}
  }}
  inet_listener imaps {{
    port = 0
  }}
}}
"""
        )
        process = subprocess.Popen(
            [program("dovecot"), "-F", "-c", str(home / "dovecot.conf")], stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        try:
            wait_for(port, process, home / "log")
            yield port
        finally:
            stop(process)


class Postfix:
    """`port` takes mail; `log` is the mail log; `tool` runs one of its commands on this instance."""

    def __init__(self, home: Path, log: Path, port: int) -> None:
        self.home, self.log, self.port = home, log, port

    def tool(self, *words: str) -> str:
        done = subprocess.run(
            [program(words[0]), "-c", str(self.home / "etc"), *words[1:]], capture_output=True, text=True
        )
        return done.stdout + done.stderr


_MASTER = """\
127.0.0.1:{port} inet n - n - - smtpd
pickup    unix  n       -       n       60      1       pickup
cleanup   unix  n       -       n       -       0       cleanup
qmgr      unix  n       -       n       300     1       qmgr
rewrite   unix  -       -       n       -       -       trivial-rewrite
bounce    unix  -       -       n       -       0       bounce
defer     unix  -       -       n       -       0       bounce
trace     unix  -       -       n       -       0       bounce
verify    unix  -       -       n       -       1       verify
flush     unix  n       -       n       1000?   0       flush
proxymap  unix  -       -       n       -       -       proxymap
smtp      unix  -       -       n       -       -       smtp
relay     unix  -       -       n       -       -       smtp
showq     unix  n       -       n       -       -       showq
error     unix  -       -       n       -       -       error
retry     unix  -       -       n       -       -       error
discard   unix  -       -       n       -       -       discard
anvil     unix  -       -       n       -       1       anvil
scache    unix  -       -       n       -       1       scache
postlog   unix-dgram n  -       n       -       1       postlogd
"""


@contextlib.contextmanager
def postfix(next_hop: int, more: str = "") -> Iterator[Postfix]:
    """An MTA that hands everything to a host on loopback; `more` for its main.cf. Needs root, as Postfix does."""
    logs = Path(tempfile.mkdtemp(prefix="rust-gauge-test-", dir="/var/log"))  # Postfix writes nowhere else
    logs.chmod(0o755)
    with folder("rust-gauge-postfix-") as home:
        port = free_port()
        for name in ("etc", "queue", "data"):
            (home / name).mkdir()
        shutil.chown(home / "data", "postfix")
        (home / "etc" / "master.cf").write_text(_MASTER.format(port=port))
        (home / "etc" / "main.cf").write_text(
            f"""
compatibility_level = 3.6
queue_directory = {home}/queue
data_directory = {home}/data
command_directory = /usr/sbin
daemon_directory = /usr/lib/postfix/sbin
mail_owner = postfix
setgid_group = postdrop
myhostname = mta1.skerry.example
mydestination =
local_recipient_maps =
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
mynetworks = 127.0.0.0/8
relayhost = [127.0.0.1]:{next_hop}
smtp_dns_support_level = disabled
smtpd_relay_restrictions = permit_mynetworks, reject
maillog_file = {logs}/mail.log
queue_run_delay = 1s
minimal_backoff_time = 1s
maximal_backoff_time = 2s
alias_maps =
alias_database =
{more}
"""
        )
        made = Postfix(home, logs / "mail.log", port)
        said = made.tool("postfix", "start")
        try:
            assert made.log.exists(), said
            wait_for(port, None, made.log)
            yield made
        finally:
            made.tool("postfix", "stop")
            shutil.rmtree(logs, ignore_errors=True)
