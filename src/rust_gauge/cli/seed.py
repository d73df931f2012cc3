"""`rustgauge seed`: mailboxes of your own at providers, where copies are looked for."""

import argparse
from typing import Any

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, confirm_option, number_id
from rust_gauge.cli.output import Output, plural
from rust_gauge.cli.session import Session, read_secret
from rust_gauge.contract.placement import AccessProblem, NewSeed, Seed, SeedChange, SeedFolder

DEFAULT = "list"
EXAMPLES = (
    "seed list --tenant marram",
    "seed add seed1@tidepost.example --host imap.tidepost.example --password-file - --folder Spam=spam --tenant marram",
    "seed check 3 --tenant marram",
)
_MEANINGS = ("inbox", "spam", "other")


def register(noun: Noun) -> None:
    """Add the verbs."""
    noun.add("list", list_seeds, "list seeds, by provider", TABLE)
    made = noun.add("add", add, "add a seed, and sign in to it once", DOCUMENT)
    made.add_argument("address", help="address of the mailbox")
    _settings(made)
    made = noun.add("show", show, "show a seed", DOCUMENT)
    _seed(made)
    made = noun.add("update", update, "change a seed; what is not given stays", DOCUMENT)
    _seed(made)
    _settings(made)
    state = made.add_mutually_exclusive_group()
    state.add_argument("--on", action="store_true", help="it takes part in runs")
    state.add_argument("--off", action="store_true", help="it takes part only where it is named")
    made = noun.add("check", check, "sign in to a seed now; exit with 3 if it cannot be read", DOCUMENT)
    _seed(made)
    made = noun.add("delete", delete, "delete a seed; copies that went there stay in their runs")
    _seed(made)
    confirm_option(made)


def _seed(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("seed", type=number_id, help="number of the seed, from `seed list`")


def _settings(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--host", help="IMAP server")
    parser.add_argument("--port", type=int, help="its port (993)")
    parser.add_argument("--security", choices=("tls", "none"), help="none only for hosts that the service names (tls)")
    parser.add_argument("--user", help="user to sign in (the address)")
    parser.add_argument("--password-file", metavar="FILE", help="file with the password; - for standard input")
    parser.add_argument("--provider", help="mailbox provider (found by the MX of the address)")
    parser.add_argument(
        "--folder", action="append", metavar="FOLDER=MEANING[:LABEL]",
        help="folder to look through, and what is filed there: inbox, spam or other, with the name of another "
        "category; repeatable, replaces the others (INBOX=inbox)",
    )  # fmt: skip
    parser.add_argument("--list", action="append", metavar="NAME", help="seed list that it is in; repeatable")
    parser.add_argument("--note")


def seed_folder(text: str) -> SeedFolder:
    """Read FOLDER=MEANING[:LABEL]. UsageError."""
    folder, equals, rest = text.rpartition("=")
    meaning, _, label = rest.partition(":")
    if not equals or not folder or meaning not in _MEANINGS:
        raise UsageError(f"{text!r} is not a folder with its meaning. Write Spam=spam or 'Offers=other:Offers'")
    return SeedFolder.model_validate({"folder": folder, "means": meaning, "label": label})


def _given(arguments: argparse.Namespace) -> dict[str, Any]:
    names = ("host", "port", "security", "user", "provider", "note")
    found: dict[str, Any] = {name: getattr(arguments, name) for name in names if getattr(arguments, name) is not None}
    if arguments.password_file:
        found["password"] = read_secret(arguments.password_file)
    if arguments.folder:
        found["folders"] = [seed_folder(each) for each in arguments.folder]
    if arguments.list:
        found["lists"] = arguments.list
    return found


def list_seeds(session: Session) -> int:
    """List seeds."""
    session.output.items(
        session.arguments.format, session.client.placement.seeds(session.tenant()), Seed,
        ("seed", "provider", "address", "lists", "on", "checked (UTC)", "problem"),
        lambda s: (s.id, s.provider, s.address, " ".join(s.lists), "on" if s.enabled else "off",
                   "" if s.checked_at is None else f"{s.checked_at:%Y-%m-%d %H:%M}",
                   s.problem.what if s.problem else ""),
        right=(0,), empty="No seeds yet. Add one: rustgauge seed add ADDRESS --host IMAP_HOST --password-file FILE",
    )  # fmt: skip
    return 0


def show_seed(output: Output, seed: Seed) -> None:
    """Write a seed."""
    output.line(f"{seed.id} · {seed.address} at {seed.provider}{'' if seed.enabled else ' (off)'}")
    output.line(
        f"mailbox     {seed.user} at {seed.host} port {seed.port}, {'TLS' if seed.security == 'tls' else 'no TLS'}"
    )
    for each in seed.folders:
        label = f" ({each.label})" if each.label else ""
        output.line(f"folder      {each.folder}: {each.means}{label}")
    if seed.lists:
        output.line(f"lists       {' '.join(seed.lists)}")
    if seed.note:
        output.line(f"note        {seed.note}")
    show_problem(output, seed.problem, f"readable, {plural(len(seed.seen_folders), 'folder')}")


def show_problem(output: Output, problem: AccessProblem | None, well: str) -> None:
    """Write what went wrong at the last check."""
    if problem is None:
        output.line(f"checked     {output.paint(well, 'sound')}")
        return
    output.line(f"checked     {output.paint(problem.what, 'fault')}")
    if problem.remedy:
        output.line(f"            {problem.remedy}")


def _write(session: Session, seed: Seed) -> int:
    session.output.document(session.arguments.format, seed, lambda: show_seed(session.output, seed))
    return 3 if seed.problem else 0


def add(session: Session) -> int:
    """Add a seed. Exit status 3 if it cannot be read."""
    given = _given(session.arguments)
    if "host" not in given or "password" not in given:
        raise UsageError("A seed needs --host and --password-file")
    return _write(session, session.client.placement.add_seed(
        session.tenant(), NewSeed(address=session.arguments.address, **given)
    ))  # fmt: skip


def show(session: Session) -> int:
    """Show a seed."""
    _write(session, session.client.placement.seed(session.tenant(), session.arguments.seed))
    return 0


def update(session: Session) -> int:
    """Change a seed. Exit status 3 if it cannot be read."""
    arguments, given = session.arguments, _given(session.arguments)
    if arguments.on or arguments.off:
        given["enabled"] = arguments.on
    change = SeedChange.model_validate(given)
    return _write(session, session.client.placement.update_seed(session.tenant(), arguments.seed, change))


def check(session: Session) -> int:
    """Sign in to a seed. Exit status 3 if it cannot be read."""
    return _write(session, session.client.placement.check_seed(session.tenant(), session.arguments.seed))


def delete(session: Session) -> int:
    """Delete a seed."""
    id = session.arguments.seed
    if not session.confirm(f"Delete seed {id}?"):
        return 3
    session.client.placement.delete_seed(session.tenant(), id)
    session.output.say(f"Deleted seed {id}.")
    return 0
