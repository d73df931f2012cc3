"""`rustgauge account`: your own account: sessions, password, second factor. You sign in with your password."""

import getpass
import sys

from pydantic import ValidationError

from rust_gauge.cli.errors import UsageError
from rust_gauge.cli.nouns import DOCUMENT, TABLE, Noun, number_id
from rust_gauge.cli.session import Session, read_secret
from rust_gauge.cli.signing_in import password_of, person_options, signed_in
from rust_gauge.contract.preferences import Preferences
from rust_gauge.contract.session import Identity, Passkey, RecoveryCodes, SessionInfo

DEFAULT = "sessions"
EXAMPLES = (
    "account preferences",
    "account sessions --email isla@skerry.example",
    "account password --email isla@skerry.example --tokens keep",
    "account second-factor --email isla@skerry.example",
)


def register(noun: Noun) -> None:
    """Add the verbs."""
    made = noun.add("preferences", preferences, "show your time zone and saved views, or change them", DOCUMENT)
    made.add_argument("--time-zone", metavar="ZONE", help="IANA name, such as Europe/Lisbon: for times in the console")
    made.add_argument("--save-view", nargs=2, metavar=("NAME", "PATH"), help="save a page of the console under a name")
    made.add_argument("--delete-view", metavar="NAME", help="delete a saved view")
    person_options(noun.add("sessions", sessions, "list your sessions", TABLE))
    made = noun.add("end-session", end_session, "end one of your sessions, or all with --all")
    made.add_argument("session", type=number_id, nargs="?", help="number of the session, from `account sessions`")
    made.add_argument("--all", action="store_true", help="end all")
    person_options(made)
    made = noun.add("password", password, "set a new password; all sessions end")
    made.add_argument("--new-password-file", metavar="FILE", help="file with the new password (asked for)")
    made.add_argument("--tokens", choices=("keep", "delete"), required=True, help="what becomes of your API tokens")
    person_options(made)
    made = noun.add("second-factor", second_factor, "show, set up or turn off the second factor", DOCUMENT)
    either = made.add_mutually_exclusive_group()
    either.add_argument("--set-up", action="store_true", help="make a secret for an authenticator app, and confirm it")
    either.add_argument("--turn-off", action="store_true", help="turn it off")
    either.add_argument(
        "--new-recovery-codes", metavar="CODE", help="replace the recovery codes, with a code of the app"
    )
    person_options(made)
    person_options(noun.add("passkeys", passkeys, "list your passkeys; the console adds them", TABLE))
    made = noun.add("remove-passkey", remove_passkey, "remove a passkey")
    made.add_argument("passkey", type=number_id, help="number of the passkey, from `account passkeys`")
    person_options(made)
    person_options(noun.add("identities", identities, "list your accounts at OpenID Connect issuers", TABLE))
    made = noun.add("unlink", unlink, "unlink an account at an issuer")
    made.add_argument("identity", type=number_id, help="number, from `account identities`")
    person_options(made)


def preferences(session: Session) -> int:
    """Show one's own preferences, after changes where there are some."""
    arguments = session.arguments
    client = session.client.account
    known = client.preferences()
    wanted = known.model_dump()
    if arguments.time_zone:
        wanted["time_zone"] = arguments.time_zone
    if arguments.delete_view:
        names = [view.name for view in known.views]
        if arguments.delete_view not in names:
            raise UsageError(
                f"no saved view is named {arguments.delete_view!r}; there are: {', '.join(names) or 'none'}"
            )
        wanted["views"] = [view for view in wanted["views"] if view["name"] != arguments.delete_view]
    if arguments.save_view:
        name, path = arguments.save_view
        others = [view for view in wanted["views"] if view["name"] != name]
        wanted["views"] = [*others, {"name": name, "path": path}]
    try:
        changed = Preferences.model_validate(wanted)
    except ValidationError as error:
        first = error.errors()[0]
        raise UsageError(f"{'.'.join(map(str, first['loc']))}: {first['msg'].removeprefix('Value error, ')}") from None
    if changed != known:
        known = client.set_preferences(changed)

    def show() -> None:
        session.output.line(f"Time zone: {known.time_zone} (for times in the console; the terminal has UTC)")
        session.output.table(("saved view", "page"), [(view.name, view.path) for view in known.views])

    session.output.document(arguments.format, known, show)
    return 0


def sessions(session: Session) -> int:
    """List sessions."""
    with signed_in(session) as client:
        found = client.account.sessions()
    session.output.items(
        session.arguments.format, found, SessionInfo,
        ("session", "opened (UTC)", "last seen (UTC)", "from", "with", "second factor", ""),
        lambda s: (s.id, f"{s.created_at:%Y-%m-%d %H:%M}", f"{s.last_seen_at:%Y-%m-%d %H:%M}" if s.last_seen_at else "",
                   s.address, s.agent[:40], "yes" if s.second_factor else "no", "this one" if s.current else ""),
        right=(0,),
    )  # fmt: skip
    return 0


def end_session(session: Session) -> int:
    """End a session, or all."""
    arguments = session.arguments
    if bool(arguments.all) == (arguments.session is not None):
        raise UsageError("name a session, or give --all")
    with signed_in(session) as client:
        if arguments.all:
            session.output.say(f"Ended {client.account.end_other_sessions().sessions_ended} sessions.")
        else:
            client.account.end_session(arguments.session)
            session.output.say(f"Ended session {arguments.session}.")
    return 0


def password(session: Session) -> int:
    """Set a new password."""
    arguments = session.arguments
    current = password_of(session)
    if arguments.new_password_file:
        new = read_secret(arguments.new_password_file)
    else:
        new = getpass.getpass("New password (10 to 256 characters): ", stream=sys.stderr)
    with signed_in(session, current) as client:
        done = client.account.change_password(current, new, tokens=arguments.tokens)
    session.output.say(f"Changed. Sessions ended: {done.sessions_ended}; tokens deleted: {done.tokens_deleted}.")
    return 0


def second_factor(session: Session) -> int:
    """Show, set up or turn off the second factor."""
    arguments, output = session.arguments, session.output
    given = password_of(session)
    with signed_in(session, given) as client:
        if arguments.turn_off:
            client.account.remove_second_factor(given)
            output.say("The second factor is off.")
        elif arguments.new_recovery_codes:
            _show_codes(session, client.account.renew_recovery_codes(arguments.new_recovery_codes))
        elif arguments.set_up:
            begun = client.account.start_second_factor()
            output.say(f"Enter this secret in your authenticator app:\n\n  {begun.secret}\n\n{_drawn(begun.qr)}\n")
            code = input("Code that the app shows: ").strip()
            _show_codes(session, client.account.confirm_second_factor(code))
        else:
            found = client.account.second_factor()
            state = f"on, {found.recovery_codes} recovery codes left" if found.enabled else "off"
            required = f"; required by {', '.join(found.required_by)}" if found.required_by else ""
            output.document(arguments.format, found, lambda: output.line(f"Second factor: {state}{required}"))
    return 0


def passkeys(session: Session) -> int:
    """List passkeys."""
    with signed_in(session) as client:
        found = client.account.passkeys()
    session.output.items(
        session.arguments.format, found, Passkey, ("passkey", "name", "added (UTC)", "last used (UTC)", "synced"),
        lambda p: (p.id, p.name, f"{p.created_at:%Y-%m-%d %H:%M}",
                   f"{p.last_used_at:%Y-%m-%d %H:%M}" if p.last_used_at else "never", "yes" if p.synced else "no"),
        right=(0,), empty="No passkeys. Add one in the console: Settings, Account.",
    )  # fmt: skip
    return 0


def remove_passkey(session: Session) -> int:
    """Remove a passkey."""
    with signed_in(session) as client:
        client.account.delete_passkey(session.arguments.passkey)
    session.output.say(f"Removed passkey {session.arguments.passkey}.")
    return 0


def identities(session: Session) -> int:
    """List accounts at issuers."""
    with signed_in(session) as client:
        found = client.account.identities()
    session.output.items(
        session.arguments.format, found, Identity, ("identity", "issuer", "account", "linked (UTC)", "last used (UTC)"),
        lambda i: (i.id, i.title, i.email, f"{i.created_at:%Y-%m-%d %H:%M}",
                   f"{i.last_used_at:%Y-%m-%d %H:%M}" if i.last_used_at else "never"),
        right=(0,), empty="None. Link one in the console: Settings, Account.",
    )  # fmt: skip
    return 0


def unlink(session: Session) -> int:
    """Unlink an account at an issuer."""
    with signed_in(session) as client:
        client.account.delete_identity(session.arguments.identity)
    session.output.say(f"Unlinked identity {session.arguments.identity}.")
    return 0


def _show_codes(session: Session, found: RecoveryCodes) -> None:
    session.output.say("Recovery codes, each works once. They are shown only now:")
    session.output.document(session.arguments.format, found, lambda: session.output.line("\n".join(found.codes)))


def _drawn(rows: list[str]) -> str:
    """Draw a QR code with two rows of it in a line of text."""
    width = len(rows[0])
    padded = ["0" * (width + 4)] * 2 + [f"00{row}00" for row in rows] + ["0" * (width + 4)] * 3
    shown = {"00": "█", "01": "▀", "10": "▄", "11": " "}
    return "\n".join(
        "".join(shown[above + below] for above, below in zip(padded[n], padded[n + 1], strict=True))
        for n in range(0, len(padded) - 1, 2)
    )
