"""`rustgauged`: run and administer Rust Gauge on its own machine. (`rustgauge` is the command for using it.)

rustgauged run        the service, its workers, and a private MariaDB unless a database is configured
rustgauged demo       the same with demo data, stand-ins and an account to sign in with
rustgauged migrate    update the database schema
rustgauged rotate-keys  encrypt stored credentials with a new key
rustgauged capacity   estimate processors, memory and disk for a load
rustgauged cluster    run a cluster of three MariaDB nodes on this machine
rustgauged database-agent  tell HAProxy whether a MariaDB of a cluster can be used
rustgauged backup     write a consistent copy of the database into a new directory
rustgauged restore    load a backup into an empty database, and compare it
rustgauged doctor     check the installation, and say how to fix what is wrong
rustgauged account    create an account or set its password
rustgauged owner      print a one-time link that creates an owner of the installation
rustgauged tenant     create a tenant and give an account access to it
rustgauged token      create an API token, for the first program
"""

import argparse
import contextlib
import getpass
import json
import secrets
import shlex
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from dataclasses import asdict
from datetime import datetime, timedelta
from importlib import import_module
from pathlib import Path
from typing import Any

from pydantic import SecretStr, ValidationError
from sqlalchemy import Connection

from rust_gauge import __version__
from rust_gauge.contract.people import NewInvitation
from rust_gauge.contract.tokens import NewToken
from rust_gauge.contract.validation import explain, field_of
from rust_gauge.contract.webhooks import NewWebhook, WebhookChange
from rust_gauge.core.capacity import Load, needs_of
from rust_gauge.core.errors import RustGaugeError
from rust_gauge.core.roles import Role
from rust_gauge.launch.backup import back_up, replay, restore
from rust_gauge.launch.cluster import Cluster
from rust_gauge.launch.database_agent import Agent
from rust_gauge.launch.doctor import examine
from rust_gauge.launch.mariadb import LaunchError, PrivateMariaDb, free_port, held_ports, require_port
from rust_gauge.launch.run_lock import hold_run_lock
from rust_gauge.launch.supervisor import Supervisor
from rust_gauge.service.accounts import people, tokens
from rust_gauge.service.accounts.passwords import LEAST, MOST, check_password, hash_password
from rust_gauge.service.runtime.audit_log import record
from rust_gauge.service.runtime.context import Context, make_context, utc_now
from rust_gauge.service.runtime.logs import configure_logs
from rust_gauge.service.runtime.secrets import make_key, rotate_keys
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.webhooks import webhooks
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import sign_in
from rust_gauge.store.engine import Store
from rust_gauge.store.leases import LeaseHeld
from rust_gauge.store.migrate import migrate
from rust_gauge.store.partitions import ensure_partitions

DEMO_EMAIL = "isla@skerry.example"


def main(argv: list[str] | None = None) -> int:
    """Return the exit status: 0 done, 1 failed, 2 wrong arguments."""
    parser = _parser()
    arguments = parser.parse_args(argv)
    try:
        settings = Settings()
        return int(arguments.run(settings, arguments) or 0)
    except ValidationError as error:
        for details in error.errors():
            print(f"rustgauged: setting {field_of(details)} {explain(details)}", file=sys.stderr)
        return 1
    except (LaunchError, ValueError) as error:
        print(f"rustgauged: {error}", file=sys.stderr)
        return 1
    except RustGaugeError as error:
        print(f"rustgauged: {error}{f'. {error.remedy}' if error.remedy else ''}", file=sys.stderr)
        return 1


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="rustgauged", description=__doc__.partition("\n")[0])
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    commands.add_parser("run", help="run the service and its workers").set_defaults(run=_run)
    demo = commands.add_parser("demo", help="run the service with demo data and stand-ins")
    demo.add_argument("--port", type=int, help="port of the console")
    demo.add_argument("--still", action="store_true", help="no new mail while it runs")
    demo.set_defaults(run=_demo)
    commands.add_parser("migrate", help="update the database schema").set_defaults(run=_migrate)
    commands.add_parser(
        "rotate-keys", help="encrypt stored credentials with a new key; the service may go on running"
    ).set_defaults(run=_rotate_keys)
    cluster = commands.add_parser("cluster", help="run a cluster of three MariaDB nodes on this machine, for trying")
    cluster.add_argument("--directory", type=Path, help="default: cluster in var_dir")
    cluster.set_defaults(run=_cluster)
    agent = commands.add_parser(
        "database-agent", help="tell HAProxy whether the MariaDB of database_url can be written to and read from"
    )
    agent.add_argument("--host", default="127.0.0.1", help="address to listen on")
    agent.add_argument("--port", type=int, default=33_871)
    agent.add_argument(
        "--restart", metavar="COMMAND", help="run this when the server has lost its cluster and stopped looking for it"
    )
    agent.set_defaults(run=_database_agent)
    capacity = commands.add_parser("capacity", help="estimate processors, memory and disk for a load")
    capacity.add_argument("events", type=int, help="events per day")
    capacity.add_argument("--days", type=int, default=180, help="days that events are kept")
    capacity.add_argument("--domains", type=int, default=100, help="sending domains")
    capacity.add_argument("--peak", type=float, default=6.0, help="the busiest minute, in times the average")
    capacity.set_defaults(run=_capacity)
    backup = commands.add_parser("backup", help="write a consistent copy of the database into a new directory")
    backup.add_argument("directory", type=Path)
    backup.set_defaults(run=_backup)
    restored = commands.add_parser("restore", help="load a backup into an empty database, and compare it")
    restored.add_argument("directory", type=Path)
    restored.add_argument(
        "--binary-log", type=Path, metavar="DIR", help="then apply what came after the backup, from these binary logs"
    )
    restored.add_argument(
        "--until", type=datetime.fromisoformat, metavar="TIME", help="only up to this time, with its UTC offset"
    )
    restored.set_defaults(run=_restore)
    checked = commands.add_parser("doctor", help="check the installation, and say how to fix what is wrong")
    checked.add_argument("--mail-to", metavar="ADDRESS", default="", help="also send a test message there")
    checked.add_argument("--format", choices=("text", "json"), default="text")
    checked.set_defaults(run=_doctor)
    account = commands.add_parser("account", help="create an account or set its password, typed or from stdin")
    account.add_argument("email")
    account.add_argument("--name", default="")
    account.add_argument("--owner", action="store_true", help="an owner of the installation; the first account is one")
    account.set_defaults(run=_account)
    owner = commands.add_parser("owner", help="print a one-time link that creates an owner of the installation")
    owner.add_argument("email")
    owner.set_defaults(run=_owner)
    tenant = commands.add_parser("tenant", help="create a tenant and give an account access to it")
    tenant.add_argument("slug", help="short name used in URLs, such as glasswort")
    tenant.add_argument("--name", default="")
    tenant.add_argument("--account", required=True, help="email address of an account")
    tenant.add_argument(
        "--role", choices=[role.value for role in Role], default=Role.ADMIN.value,
        help="viewer reads; operator also works with domains and lists; admin also changes settings, policies, "
        "secrets and people (default: admin)",
    )  # fmt: skip
    tenant.set_defaults(run=_tenant)
    token = commands.add_parser("token", help="create an API token and print it")
    token.add_argument("account", help="email address of the account that owns it")
    token.add_argument("--name", default="first token")
    token.add_argument("--tenant", help="restrict the token to this tenant")
    token.add_argument("--expires-in-days", type=int, default=90, help="0: never (default: 90)")
    token.set_defaults(run=_token)
    return parser


# Running


def _database(settings: Settings) -> tuple[str, PrivateMariaDb | None]:
    """The configured database, or a private one, started."""
    if settings.database_url is not None:
        return settings.database_url.get_secret_value(), None
    private = PrivateMariaDb(
        (settings.var_dir / "mariadb").resolve(), preferred_port=33_850, binary_log=settings.binary_log
    )
    private.start()
    for message in private.messages:
        print(f"  {message}", file=sys.stderr, flush=True)
    return private.url, private


def prepare(url: str) -> None:
    """Newest schema, partitions ahead."""
    store = Store(url)
    try:
        migrate(store)
        with contextlib.suppress(LeaseHeld):  # another process makes them just now
            ensure_partitions(store, utc_now())
    finally:
        store.close()


def _run(settings: Settings, _: argparse.Namespace) -> int:
    supervisor = Supervisor(settings.var_dir / "log")
    supervisor.catch_signals()
    with hold_run_lock(settings.var_dir / "run.lock"):
        _require_tls(settings)
        require_port(settings.host, settings.port)
        try:
            url, supervisor.database = _database(settings)
            prepare(url)
            _serve(supervisor, settings, url, settings.port)
            print(f"Rust Gauge is ready on http://{settings.host}:{settings.port}/ (press Ctrl-C to stop)", flush=True)
            _offer_ownership(settings, url)
            supervisor.run()
        except KeyboardInterrupt:
            return 130
        finally:
            supervisor.stop()
    return 0


def _require_tls(settings: Settings) -> None:
    """LaunchError where passwords and tokens would go over a network in clear."""
    if settings.listens_openly:
        raise LaunchError(
            f"host is {settings.host}: other machines would reach the service without TLS. Set tls_cert_file and "
            "tls_key_file, or listen on 127.0.0.1 behind a proxy that speaks TLS (docs/operations.md), or set "
            "allow_plain_http"
        )


def _offer_ownership(settings: Settings, url: str) -> None:
    """Print a one-time link that creates the owner, while nobody can sign in yet."""
    context = _context(settings, url)
    try:
        if context.store.transaction(store_accounts.count_accounts) == 0:
            link = people.first_owner_link(context)
            print(
                "\nNobody can sign in yet. Create the owner of this installation here (once, within 7 days):\n"
                f"\n  {link}\n",
                flush=True,
            )
    finally:
        context.close()


_TEMPLATE = "rust_gauge.launch.process"


def _serve(supervisor: Supervisor, settings: Settings, url: str, port: int, **more: str) -> None:
    """Start service and workers, and wait until the service is ready."""
    supervisor.start_template(_TEMPLATE, {"RUSTGAUGE_DATABASE_URL": url, "RUSTGAUGE_PORT": str(port), **more})
    supervisor.start_forked("service", "service")
    for number in range(settings.workers):
        supervisor.start_forked(f"worker-{number + 1}", "worker")
    supervisor.start_forked("feeds", "feeds")
    if settings.policy_port or "RUSTGAUGE_POLICY_PORT" in more:
        supervisor.start_forked("gates", "gates")
    if settings.bench_port or "RUSTGAUGE_BENCH_PORT" in more:
        supervisor.start_forked("bench", "bench")
    host = "127.0.0.1" if settings.host in ("0.0.0.0", "::") else settings.host
    scheme = "https" if settings.tls_cert_file else "http"
    supervisor.wait_for(f"{scheme}://{host}:{port}/readyz")


def _demo(settings: Settings, arguments: argparse.Namespace) -> int:
    var = settings.var_dir
    port = arguments.port or settings.port
    supervisor = Supervisor(var / "log")
    supervisor.catch_signals()
    used_later = (33_826, 33_827, 33_832, 33_833)  # by the service, once all data is there
    with hold_run_lock(var / "run.lock"), held_ports(used_later) as (later, let_go):
        require_port(settings.host, port)
        smtp_port, policy_port, bench_port, bench_tls_port = later
        try:
            print("Starting MariaDB ...", flush=True)
            supervisor.begin_template(_TEMPLATE)  # it imports meanwhile
            # Imported while the database starts.
            threading.Thread(target=import_module, args=("rust_gauge.demo.load",), daemon=True).start()
            url, supervisor.database = _database(settings)
            prepare(url)
            from rust_gauge.demo.bench import DOMAIN as BENCH_DOMAIN
            from rust_gauge.demo.load import COLLEAGUES, DEMO_OWNER, load_demo
            from rust_gauge.demo.placement import SEED_HOSTS, write_host
            from rust_gauge.demo.verification import KEY as VERIFIER_KEY
            from rust_gauge.demo.zones import (
                MAIL_SERVER,
                NAME_SERVERS,
                OUTLET_SERVER,
                PAGE_SERVER,
                RESOLVERS,
                SEED_SERVER,
                is_current,
                write_pages,
                write_zones,
            )
            from rust_gauge.standins.pages import make_certificates

            dns_port = free_port(33_853)
            zones = var / "demo" / "zones"
            if not is_current(zones):  # written once: whoever plays with them keeps the changes
                write_zones(zones)
            pages = var / "demo" / "pages"
            if not pages.is_dir():
                write_pages(pages)
                make_certificates(pages)
            resolvers = {name: (free_port(33_861 + n), lag) for n, (name, lag) in enumerate(RESOLVERS)}
            lagging = [word for number, lag in resolvers.values() for word in ("--resolver", f"{number}={lag}")]
            supervisor.start(
                "dns-standin",
                ["rust_gauge.standins.dns_world", "--directory", str(zones), "--port", str(dns_port), *lagging],
                {},
            )
            page_port = free_port(33_854)
            supervisor.start(
                "page-standin",
                ["rust_gauge.standins.pages", "--directory", str(pages), "--port", str(page_port)],
                {},
            )
            mail_port = free_port(33_825)
            desk_port = free_port(33_828)
            desk = ["rust_gauge.standins.member_desk", "--port", str(desk_port), "--secret-file"]
            desk += [str(var / "demo" / "desk.secret"), "--keep", str(var / "demo" / "members.json")]
            supervisor.start("member-desk", desk, {})
            supervisor.start(
                "mail-standin",
                ["rust_gauge.standins.mail_host", "--port", str(mail_port), "--keep", str(var / "demo" / "mail")],
                {},
            )
            seed_rules = var / "demo" / "seed-host.json"
            write_host(seed_rules)
            seed_port, outlet_port = free_port(33_834), free_port(33_835)
            supervisor.start(
                "seed-standin",
                ["rust_gauge.standins.seed_host", "--settings", str(seed_rules), "--imap-port", str(seed_port),
                 "--smtp-port", str(outlet_port)],
                {},
            )  # fmt: skip
            outside: dict[str, Any] = {
                "ask_mailboxes": True,
                "mail_relays": dict.fromkeys(("office-1", "office-2"), f"127.0.0.1:{mail_port}"),
                "dns_servers": [f"127.0.0.1:{dns_port}"],
                "watch_resolvers": [f"{name}=127.0.0.1:{number}" for name, (number, _) in resolvers.items()],
                "reach": {
                    **dict.fromkeys(NAME_SERVERS, f"127.0.0.1:{dns_port}"),
                    PAGE_SERVER: f"127.0.0.1:{page_port}",
                    MAIL_SERVER: f"127.0.0.1:{mail_port}",
                    SEED_SERVER: f"127.0.0.1:{seed_port}",
                    OUTLET_SERVER: f"127.0.0.1:{outlet_port}",
                },
                "tls_ca_file": str((pages / "ca.pem").resolve()),
                "webhook_hosts": [f"127.0.0.1:{desk_port}"],
                "bench_domain": BENCH_DOMAIN,
                "placement_hosts": SEED_HOSTS,
            }
            issuer_port = free_port(33_829)
            who = [(DEMO_EMAIL, DEMO_OWNER), *((email, name) for email, name, _ in COLLEAGUES)]
            supervisor.start(
                "issuer-standin",
                [
                    "rust_gauge.standins.issuer",
                    "--client=rust-gauge=example",
                    "--port",
                    str(issuer_port),
                    *(f"--person={e}={n}" for e, n in who),
                ],
                {},
            )
            verifier_port = free_port(33_831)
            outside["verifier_hosts"] = [f"127.0.0.1:{verifier_port}"]
            supervisor.start(
                "verifier-standin",
                ["rust_gauge.standins.verifier", "--port", str(verifier_port), "--key", VERIFIER_KEY],
                {},
            )
            parts = {
                "RUSTGAUGE_WEBHOOK_HOSTS": json.dumps(outside["webhook_hosts"]),
                "RUSTGAUGE_VERIFIER_HOSTS": json.dumps(outside["verifier_hosts"]),
                "RUSTGAUGE_POLICY_PORT": str(policy_port),
                "RUSTGAUGE_BENCH_PORT": str(bench_port),
                "RUSTGAUGE_BENCH_TLS_PORT": str(bench_tls_port),
                "RUSTGAUGE_BENCH_DOMAIN": BENCH_DOMAIN,
                "RUSTGAUGE_PLACEMENT_HOSTS": json.dumps(SEED_HOSTS),
                "RUSTGAUGE_UNSUBSCRIBE_MAILBOX": "leave@bounce.skerry.example",
                "RUSTGAUGE_DNS_SERVERS": json.dumps(outside["dns_servers"]),
                "RUSTGAUGE_WATCH_RESOLVERS": json.dumps(outside["watch_resolvers"]),
                "RUSTGAUGE_MAIL_RELAYS": json.dumps(outside["mail_relays"]),
                "RUSTGAUGE_MAIL_FROM": "proof@skerry.example",
                "RUSTGAUGE_SMTP_PORT": str(smtp_port),
                "RUSTGAUGE_FEED_FOLDERS": json.dumps([str((var / "demo").resolve())]),
                "RUSTGAUGE_ASK_MAILBOXES": "true",
                "RUSTGAUGE_SIGN_IN_ISSUERS": json.dumps({"office": _demo_issuer(issuer_port)}),
                "RUSTGAUGE_REACH": json.dumps(outside["reach"]),
                "RUSTGAUGE_TLS_CA_FILE": str(outside["tls_ca_file"]),
            }
            password, token = _demo_secrets(var / "demo" / "access")
            configure_logs("warning")  # who watches sees what was loaded, not each step of it
            context = _context(settings, url, outside)
            loaded = utc_now()
            try:
                anchor = load_demo(
                    context, DEMO_EMAIL, password, token, _say, supervisor.raise_if_asked, verifier_port, apart=True
                )  # fmt: skip
                _demo_webhook(context, var / "demo" / "desk.secret", desk_port)
            finally:
                context.close()
            let_go()
            _serve(supervisor, settings, url, port, **parts)
            if not arguments.still:
                access = str(var / "demo" / "access")
                goes_on = ["rust_gauge.demo.traffic", "--url", f"http://127.0.0.1:{port}", "--access", access]
                # Loading leaves out events that are newer than an hour; what is there already is known by its identity.
                since = loaded - timedelta(hours=1)
                supervisor.start("traffic", [*goes_on, "--anchor", str(anchor), "--since", since.isoformat()], {})
                counted = ["rust_gauge.demo.counted", "--anchor", str(anchor)]
                supervisor.start("counted", counted, {"RUSTGAUGE_DATABASE_URL": url})
            _greet(port, password, token, zones, var / "demo" / "mail", smtp_port, policy_port, desk_port, bench_port)
            supervisor.run()
            print("\nStopping ...", flush=True)
        except KeyboardInterrupt:
            print("\nStopped before all demo data was loaded. The next start continues there.", flush=True)
            return 130
        finally:
            supervisor.stop()
    return 0


def _say(text: str) -> None:
    print(text, flush=True)


def _greet(
    port: int, password: str, token: str, zones: Path, mail: Path, smtp_port: int, policy_port: int, desk_port: int,
    bench_port: int,
) -> None:  # fmt: skip
    print(
        f"""
Rust Gauge is ready.

  Console   http://127.0.0.1:{port}/
  Sign in   {DEMO_EMAIL}
  Password  {password}
            (also of ruan@skerry.example, operator, and morag@skerry.example, viewer)

  Zones     {zones}/*.zone: change a record and re-check the domain
  Mail      {mail}: messages with verification codes
  Bounces   SMTP on port {smtp_port}, for *@bounce.boxoffice.glasswort.example; also unsubscribe requests by mail
  Bench     SMTP on port {bench_port}: `rustgauge tray connection booking-staging --tenant marram`, password in
            {zones.parent}/booking-staging.password. Mail there to report@bench.skerry.example from
            you@desk.skerry.example is answered; the answer is in {mail}
  MTAs      policy service on port {policy_port}, after `rustgauge clearance add-gate mta1 --tenant marram`
  Members   http://127.0.0.1:{desk_port}/: an example application that receives webhooks (Marram Ferries)

  Terminal  export RUSTGAUGE_URL=http://127.0.0.1:{port} RUSTGAUGE_TOKEN={token}
            .venv/bin/rustgauge wall

Press Ctrl-C to stop.""",
        flush=True,
    )


def _demo_webhook(context: Context, path: Path, port: int) -> None:
    """The webhook of the example application, made once; its secret is in the file that is given."""
    principal = context.store.transaction(lambda c: store_accounts.principal_of_email(c, DEMO_EMAIL))
    tenant = next(tenant for tenant in principal.tenants if tenant.slug == "marram") if principal else None
    if tenant is None:
        raise LaunchError("The demo has no tenant marram; delete var/ and start again")
    url = f"http://127.0.0.1:{port}/hook"
    there = next(
        (webhook for webhook in webhooks.list_webhooks(context, tenant) if webhook.name == "member desk"), None
    )
    if there is not None and path.exists():
        if there.url != url:
            webhooks.update_webhook(context, tenant, there.id, WebhookChange(url=url))
        return
    if there is not None:
        webhooks.delete_webhook(context, tenant, there.id)
    made = webhooks.add_webhook(
        context, tenant, NewWebhook(name="member desk", url=url, subjects=["suppression.changed"])
    )
    path.touch(mode=0o600)
    path.write_text(made.secret, "ascii")


def _demo_issuer(port: int) -> dict[str, Any]:
    """Settings of the example issuer, which vouches for the demo's people."""
    return {
        "issuer": f"http://127.0.0.1:{port}", "client_id": "rust-gauge", "client_secret": "example",
        "title": "Skerry ID", "domains": ["skerry.example"],
    }  # fmt: skip


def _demo_secrets(path: Path) -> tuple[str, str]:
    """The demo's password and token, made once and kept."""
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(f"{secrets.token_urlsafe(9)} {tokens.TOKEN_PREFIX}{secrets.token_urlsafe(24)}\n")
    password, token = path.read_text().split()
    return password, token


# Administering it


def _context(settings: Settings, url: str, outside: dict[str, Any] | None = None) -> Context:
    return make_context(settings.model_copy(update={"database_url": SecretStr(url), **(outside or {})}))


@contextlib.contextmanager
def _database_at_hand(settings: Settings) -> Iterator[str]:
    """Yield the URL of the database as it is; a private one is started for the while when it does not run."""
    url, private = _database(settings)
    joined = private is not None and private.process is None
    try:
        yield url
    finally:
        if private is not None and not joined:
            private.stop()


@contextlib.contextmanager
def _opened(settings: Settings) -> Iterator[Context]:
    """A context over the database; a private one is started for the while when it does not run."""
    url, private = _database(settings)
    joined = private is not None and private.process is None
    try:
        prepare(url)
        context = _context(settings, url)
        try:
            yield context
        finally:
            context.close()
    finally:
        if private is not None and not joined:
            private.stop()


def _migrate(settings: Settings, _: argparse.Namespace) -> int:
    with _opened(settings):
        print("The database schema is up to date.")
    return 0


def _capacity(_: Settings, arguments: argparse.Namespace) -> int:
    load = Load(arguments.events, arguments.days, arguments.domains, arguments.peak)
    for need in needs_of(load):
        amount = f"{need.amount:,.0f}" if need.amount >= 10 or not need.unit else f"{need.amount:.1f}"
        print(f"{need.name:18} {amount:>8} {need.unit:4} {need.why}")
    print("\nAn estimate from figures of one machine (docs/scale.md); measure your own with `python -m bench`.")
    return 0


def _cluster(settings: Settings, arguments: argparse.Namespace) -> int:
    cluster = Cluster((arguments.directory or settings.var_dir / "cluster").resolve())
    stop = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    try:
        print("Starting three MariaDB nodes ...", flush=True)
        cluster.start()
        for node in cluster.nodes:
            for message in node.messages:
                print(f"  {node.name}: {message}", file=sys.stderr)
        print(
            "The cluster is ready (press Ctrl-C to stop it). Run the service on it with these settings:\n\n"
            f"  RUSTGAUGE_DATABASE_URL='{cluster.url()}'\n"
            f"  RUSTGAUGE_DATABASE_READ_URL='{cluster.url(read=True)}'\n"
            "  RUSTGAUGE_DATABASE_PATIENCE=15\n",
            flush=True,
        )
        for node, agent in zip(cluster.nodes, cluster.agents, strict=True):
            print(f"  {node.name}  port {node.port}, agent on port {agent.port}", flush=True)
        while not stop.wait(1.0):
            for message in cluster.news():
                print(message, flush=True)
    finally:
        cluster.stop()
    return 0


def _database_agent(settings: Settings, arguments: argparse.Namespace) -> int:
    if settings.database_url is None:
        raise LaunchError("database_url is not set: it is the address of the MariaDB beside this agent")
    agent = Agent(settings.database_url.get_secret_value(), arguments.host, arguments.port)
    agent.start()
    with contextlib.suppress(KeyboardInterrupt):
        while True:
            time.sleep(1)
            if arguments.restart and agent.has_given_up:
                print(f"The server has given up its cluster; running {arguments.restart}", flush=True)
                subprocess.run(shlex.split(arguments.restart), check=False)
                time.sleep(30)  # it needs a while to come back
    return 0


def _rotate_keys(settings: Settings, _: argparse.Namespace) -> int:
    with _opened(settings) as context:
        made = make_key(settings)
        done = rotate_keys(settings, context.store)
        record(context, "rotate_keys", account=_SHELL, subject=f"/credentials/{done}")
    where = f"a new key in {settings.var_dir / 'secret.key'}" if made else "secret_key of the settings"
    print(f"{done} credentials are encrypted with {where}.")
    print("Keep earlier keys as long as people may use unsubscribe links of messages sent before.")
    return 0


def _backup(settings: Settings, arguments: argparse.Namespace) -> int:
    with _database_at_hand(settings) as url:
        tables = back_up(url, arguments.directory)
    rows = sum(table.rows for table in tables.values())
    print(f"{rows:,} rows of {len(tables)} tables are in {arguments.directory}.")
    if settings.secret_key is None:
        print(f"Keep a copy of {settings.var_dir / 'secret.key'} elsewhere: stored credentials need it.")
    return 0


def _restore(settings: Settings, arguments: argparse.Namespace) -> int:
    with _database_at_hand(settings) as url:
        tables = restore(url, arguments.directory)
        rows = sum(table.rows for table in tables.values())
        print(f"Restored {rows:,} rows of {len(tables)} tables; all of them are what was saved.", flush=True)
        if arguments.binary_log is not None:
            files = replay(url, arguments.directory, arguments.binary_log, arguments.until)
            until = f" up to {arguments.until.isoformat()}" if arguments.until else ""
            print(f"Applied {files} binary logs{until}.")
    return 0


def _count(counts: dict[str, int], level: str) -> str:
    return f"{counts[level]} {level}{'' if counts[level] == 1 else 's'}"


def _doctor(settings: Settings, arguments: argparse.Namespace) -> int:
    """Return 1 when something is a problem."""
    found = []
    for each in examine(settings, mail_to=arguments.mail_to):
        found.append(each)
        if arguments.format == "text":
            print(f"{each.level:8} {each.area:14} {each.what}", flush=True)
            if each.remedy:
                print(f"{'':23} -> {each.remedy}", flush=True)
    counts = {level: sum(each.level == level for each in found) for level in ("problem", "warning", "ok")}
    if arguments.format == "json":
        print(json.dumps([asdict(each) for each in found], indent=2))
    else:
        print(f"\n{_count(counts, 'problem')}, {_count(counts, 'warning')}, {counts['ok']} ok")
    return 1 if counts["problem"] else 0


def _account(settings: Settings, arguments: argparse.Namespace) -> int:
    asked = f"Password ({LEAST} to {MOST} characters): "
    password = getpass.getpass(asked) if sys.stdin.isatty() else sys.stdin.readline()
    password = password.rstrip("\n")
    email = arguments.email.strip().lower()
    check_password(password, email, arguments.name)
    with _opened(settings) as context:
        hashed = hash_password(password)

        def work(connection: Connection) -> None:
            first = store_accounts.count_accounts(connection) == 0
            id = store_accounts.add_account(connection, email, arguments.name or email, hashed, utc_now())
            sign_in.end_sessions(connection, id)
            if first or arguments.owner:
                store_accounts.change_account(connection, id, is_owner=True)

        context.store.transaction(work)
        record(context, "set_account", account=_SHELL, subject=f"/people/{email}", about_people=True)
    print(f"{email} can sign in.")
    return 0


_SHELL = "rustgauged (shell)"


def _owner(settings: Settings, arguments: argparse.Namespace) -> int:
    """Print a one-time link that makes whoever opens it an owner."""
    with _opened(settings) as context:
        made = people.invite(context, None, None, NewInvitation(email=arguments.email))
        record(context, "invite_owner", account=_SHELL, subject=f"/people/{made.email}", about_people=True)
    print(made.link or f"Sent to {made.email}.")
    return 0


def _tenant(settings: Settings, arguments: argparse.Namespace) -> int:
    slug = arguments.slug
    if not (slug.isascii() and slug.replace("-", "").isalnum() and slug == slug.lower() and len(slug) <= 40):
        raise ValueError("a slug is made of a-z, 0-9 and hyphens, 40 characters at most")
    with _opened(settings) as context:
        found = context.store.transaction(lambda c: store_accounts.find_account(c, arguments.account.strip().lower()))
        if found is None:
            raise ValueError(f"there is no account {arguments.account}")
        account_id = found.id

        def work(connection: Connection) -> None:
            tenant_id = store_accounts.add_tenant(connection, slug, arguments.name or slug, utc_now())
            store_accounts.grant(connection, account_id, tenant_id, Role(arguments.role))

        context.store.transaction(work)
        after = {"account": arguments.account, "role": arguments.role}
        record(context, "set_tenant", account=_SHELL, subject=f"/tenants/{slug}", after=after, about_people=True)
    print(f"{arguments.account} is {arguments.role} of {slug}.")
    return 0


def _token(settings: Settings, arguments: argparse.Namespace) -> int:
    email = arguments.account.strip().lower()
    with _opened(settings) as context:
        principal = context.store.transaction(lambda c: store_accounts.principal_of_email(c, email))
        if principal is None:
            raise ValueError(f"there is no account {email}")
        new = NewToken(
            name=arguments.name, tenants=[arguments.tenant] if arguments.tenant else [],
            expires_in_days=arguments.expires_in_days or None,
        )  # fmt: skip
        made = tokens.add_token(context, principal, new)
        record(
            context,
            "add_token",
            account=_SHELL,
            subject=f"/tokens/{made.id}",
            after=made.model_dump(mode="json"),
            about_people=True,
        )
    print(made.secret)
    return 0


if __name__ == "__main__":
    sys.exit(main())
