"""People: invitations, roles, sessions, passwords, second factors, tokens, owners, and the log of who did what."""

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import Any

import httpx
import pyotp
import pytest
from sqlalchemy import Connection, func, select, text

from rust_gauge.client import Client, NotAllowedError, NotFoundError
from rust_gauge.client.errors import ProblemResponse
from rust_gauge.contract.feeds import FeedSource, NewFeed
from rust_gauge.contract.people import TenantSettings
from rust_gauge.core.roles import Role
from rust_gauge.service.accounts import ownership, people, sessions
from rust_gauge.service.accounts.passwords import check_password
from rust_gauge.service.runtime.principals import is_within
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import accounts, tables, tenant_removal
from rust_gauge.store.audit_log import check_chain
from tests.conftest import PASSWORD, Office, World, another, make_office, make_owner
from tests.rows import bounce, ndjson

NEW = "seven herons over slate"


@contextmanager
def person(office: Office, password: str = PASSWORD, code: str = "") -> Iterator[Client]:
    """Somebody who signed in with a password."""
    with Client(office.world.url) as client:
        client.sign_in(office.email, password, code)
        yield client


def secret_of(link: str) -> str:
    return link.partition("#")[2]


def problem(call: Callable[[], Any]) -> str:
    with pytest.raises(ProblemResponse) as caught:
        call()
    return str(caught.value.problem.type.removeprefix("/problems/"))


@pytest.fixture
def owner(world: World) -> Office:
    made = make_office(world)
    make_owner(made)
    return made


# Tenants


def rows_of(world: World, tenant_id: int) -> dict[str, int]:
    """How many rows each table has of a tenant."""

    def count(connection: Connection) -> dict[str, int]:
        counts = {}
        for name, table in tables.metadata.tables.items():
            if "tenant_id" in table.c and name != "audit_entry":
                counts[name] = connection.scalar(
                    select(func.count()).select_from(table).where(table.c.tenant_id == tenant_id)
                )
        return {name: n for name, n in counts.items() if n}

    return world.context.store.transaction(count)


def test_a_tenant_is_deleted_with_all_that_is_stored_of_it(owner: Office, world: World) -> None:
    slug = f"old-{owner.slug}"
    with person(owner) as client, another(world) as (other, theirs):
        client.installation.add_tenant(slug, "Old")
        client.installation.assign("mail", f"@{slug}.example", slug)
        for name, mine in ((slug, client), (other.slug, theirs)):
            mine.events.load(name, ndjson(*(bounce(n) for n in range(20))))
            mine.domains.add(name, f"{name}.example")
            mine.webhooks.add(name, "desk", "https://desk.example/")
        world.work()
        id = world.context.store.transaction(
            lambda c: next(row.id for row in accounts.list_tenants(c) if row.slug == slug)
        )
        before = rows_of(world, id)
        assert before["event"] == 20
        assert {"suppression_entry", "flow_hour", "sending_domain", "webhook", "assignment"} <= set(before)
        cookie = dict(client._http.cookies)
        address = f"{world.url}/api/v1/installation/tenants/{slug}"
        answer = httpx.delete(address, cookies=cookie, headers={"Origin": world.url})
        assert (answer.status_code, answer.json()["type"]) == (409, "/problems/needs-confirmation")
        client.installation.delete_tenant(slug)
        assert slug not in {tenant.slug for tenant in client.who().tenants}
        assert slug not in {tenant.slug for tenant in client.installation.tenants()}
        assert problem(lambda: list(client.domains.list(slug))) == "not-found"
        assert problem(lambda: client.installation.delete_tenant(slug)) == "not-found"
        world.work()
        assert rows_of(world, id) == {}
        assert rows_of(world, other.tenant.id)["event"] == 20
        assert client.installation.add_tenant(slug, "New").slug == slug  # its short name is free
        client.installation.delete_tenant(slug)
        world.work()
        assert "delete_tenant" in {entry.action for entry in client.installation.audit_log()}


def test_a_removal_goes_on_where_it_was_ended(owner: Office, world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tenant_removal, "_PIECE", 3)
    slug = f"old-{owner.slug}"
    with person(owner) as client:
        client.installation.add_tenant(slug, "Old")
        client.events.load(slug, ndjson(*(bounce(n) for n in range(20))))
        id = world.context.store.transaction(
            lambda c: next(row.id for row in accounts.list_tenants(c) if row.slug == slug)
        )
        client.installation.delete_tenant(slug)
    ended = iter([True])
    delete_piece = tenant_removal.delete_piece

    def fails_once(connection: Connection, table: str, tenant_id: int) -> int:
        if table == "event" and next(ended, False):
            raise RuntimeError("the worker dies here")
        return delete_piece(connection, table, tenant_id)

    monkeypatch.setattr(tenant_removal, "delete_piece", fails_once)
    world.work()
    assert rows_of(world, id).get("event") == 20
    with world.clock.later(timedelta(minutes=30)):
        world.work()
    assert rows_of(world, id) == {}


# Invitations and roles


def test_an_invitation_makes_an_account_with_a_role_once(office: Office, client: Client) -> None:
    email = f"ruan@{office.slug}.example"  # accounts are the installation's: no other test may have it
    made = client.people.invite(office.slug, email.title(), "operator")
    assert not made.sent
    assert made.problem.startswith("No relay")
    secret = secret_of(made.link)
    with Client(office.world.url) as stranger:
        view = stranger.people.look_at(secret)
        assert (view.email, view.role, view.tenant, view.has_account) == (
            email,
            "operator",
            office.slug,
            False,
        )
        assert problem(lambda: stranger.accept_invitation(secret, "Ruan", "password12")) == "weak-password"
        assert problem(lambda: stranger.accept_invitation(secret, "", NEW)) == "invalid-request"
        who = stranger.accept_invitation(secret, "Ruan", NEW)
        assert [(tenant.slug, tenant.role) for tenant in who.tenants] == [(office.slug, "operator")]
        assert stranger.who().email == email
        assert problem(lambda: stranger.accept_invitation(secret, "Ruan", NEW)) == "not-found"
    assert {member.email: member.role for member in client.people.list(office.slug)}[email] == "operator"
    assert client.people.invitations(office.slug) == []
    assert problem(lambda: client.people.invite(office.slug, email)) == "already-there"


def test_an_account_that_is_there_accepts_with_its_own_password(office: Office, client: Client, world: World) -> None:
    other = make_office(world)
    secret = secret_of(client.people.invite(office.slug, other.email).link)
    with Client(world.url) as them:
        assert them.people.look_at(secret).has_account
        assert problem(lambda: them.accept_invitation(secret, "", NEW)) == "wrong-password"
        who = them.accept_invitation(secret, "", PASSWORD)
    assert {tenant.slug: tenant.role for tenant in who.tenants} == {office.slug: "viewer", other.slug: "admin"}


def test_an_invitation_ends_and_can_be_withdrawn_or_replaced(office: Office, client: Client, world: World) -> None:
    first = secret_of(client.people.invite(office.slug, "a@skerry.example").link)
    second = client.people.invite(office.slug, "a@skerry.example", "admin")
    with Client(world.url) as them:
        assert problem(lambda: them.people.look_at(first)) == "not-found"
        assert them.people.look_at(secret_of(second.link)).role == "admin"
        with world.clock.later(timedelta(days=8)):
            assert problem(lambda: them.people.look_at(secret_of(second.link))) == "not-found"
        client.people.withdraw(office.slug, second.id)
        assert problem(lambda: them.accept_invitation(secret_of(second.link), "A", NEW)) == "not-found"


def test_a_removed_member_has_no_access_with_the_next_request(office: Office, client: Client, world: World) -> None:
    secret = secret_of(client.people.invite(office.slug, f"x{office.slug}@skerry.example", "admin").link)
    with Client(world.url) as them:
        them.accept_invitation(secret, "X", NEW)
        assert them.people.change_role(office.slug, office.email, "viewer").role == "viewer"
        assert problem(lambda: client.people.invite(office.slug, "y@skerry.example")) == "role-too-low"
        them.people.change_role(office.slug, office.email, "admin")
        client.people.remove(office.slug, f"x{office.slug}@skerry.example")
        with pytest.raises(NotFoundError):
            them.people.list(office.slug)
        assert them.who().tenants == []


def test_the_last_admin_stays(office: Office, client: Client) -> None:
    for call in (
        lambda: client.people.remove(office.slug, office.email),
        lambda: client.people.change_role(office.slug, office.email, "operator"),
    ):
        assert problem(call) == "last-one"
    assert problem(lambda: client.people.remove(office.slug, "nobody@skerry.example")) == "not-found"


# Passwords and sessions


@pytest.mark.parametrize(
    ("password", "ok"),
    [
        ("ninechars", False), ("x" * 257, False), ("1234567890", False), ("qwertyuiop", False), ("password123", False),
        ("P@ssw0rd2026", False), ("aaaaaaaaaaaa", False), ("isla@skerry.example", False), ("islaskerry1", False),
        ("rustgauge2026", False), (NEW, True), ("Xk9#vTq2!m", True), ("ю" * 4 + "жаба на крыше", True),
        ("heron slate " * 2 + "x7" * 116, True), ("\u0065\u0301 tea for nine", True),
    ],
)  # fmt: skip
def test_passwords_are_measured_the_same_everywhere(password: str, ok: bool) -> None:
    try:
        check_password(password, "isla@skerry.example", "Isla Mackay")
    except ServiceProblem as error:
        assert not ok, error
        assert error.kind.slug == "weak-password"
    else:
        assert ok


def test_a_new_password_ends_other_sessions_and_asks_about_tokens(office: Office, client: Client) -> None:
    with person(office) as here, person(office) as there:
        assert problem(lambda: here.account.change_password("wrong", NEW, tokens="keep")) == "wrong-password"
        done = here.account.change_password(PASSWORD, NEW, tokens="keep")
        assert (done.sessions_ended, done.tokens_deleted) == (1, 0)
        assert here.who().email == office.email
        with pytest.raises(NotAllowedError):
            there.who()
        assert client.who().email == office.email
        assert here.account.change_password(NEW, PASSWORD, tokens="delete").tokens_deleted == 1
        with pytest.raises(NotAllowedError):
            client.who()
    body = {"current": PASSWORD, "new": NEW}
    with person(office) as here:
        cookies, origin = here._http.cookies, {"Origin": office.world.url}
        answer = httpx.put(f"{office.world.url}/api/v1/session/password", json=body, cookies=cookies, headers=origin)
    assert answer.status_code == 422, "what becomes of tokens has to be said"


def test_sessions_are_listed_and_ended(office: Office, client: Client) -> None:
    with person(office) as here, person(office) as there, person(office) as third:
        found = here.account.sessions()
        assert len(found) == 3
        assert [each.current for each in found].count(True) == 1
        assert {each.address for each in found} == {"127.0.0.1"}
        mine = next(each.id for each in there.account.sessions() if each.current)
        here.account.end_session(mine)
        with pytest.raises(NotAllowedError):
            there.who()
        assert here.account.end_other_sessions().sessions_ended == 1
        with pytest.raises(NotAllowedError):
            third.who()
        assert problem(lambda: client.account.sessions()) == "person-only"
    stranger = make_office(office.world)
    with person(office) as here, person(stranger) as other:
        mine = here.account.sessions()[0].id
        assert problem(lambda: other.account.end_session(mine)) == "not-found"


def test_guessing_gets_slower_and_hurts_nobody_else(office: Office, world: World) -> None:
    context, guesser, waits = world.context, "192.0.2.66", []
    for _ in range(12):
        with pytest.raises(ServiceProblem) as caught:
            sessions.sign_in(context, office.email, "guess", address=guesser)
        waits.append(caught.value.retry_after)
    assert waits[:5] == [None] * 5
    assert [round(wait or 0) for wait in waits[5:]] == [2, 4, 8, 16, 32, 64, 128]
    with pytest.raises(ServiceProblem, match="Too many"):
        sessions.sign_in(context, office.email, PASSWORD, address=guesser)
    sessions.sign_in(context, office.email, PASSWORD, address="192.0.2.7")
    with world.clock.later(timedelta(minutes=20)):
        sessions.sign_in(context, office.email, PASSWORD, address=guesser)
    with pytest.raises(ServiceProblem):
        for number in range(300):
            sessions.sign_in(context, f"nobody{number}@skerry.example", "guess", address="192.0.2.67")


# Second factor


def set_up(client: Client, world: World) -> tuple[pyotp.TOTP, list[str]]:
    begun = client.account.start_second_factor()
    assert begun.uri.startswith("otpauth://totp/Rust%20Gauge:")
    assert {len(row) for row in begun.qr} == {len(begun.qr)}
    codes = pyotp.TOTP(begun.secret)
    assert problem(lambda: client.account.confirm_second_factor("000000")) == "wrong-code"
    return codes, client.account.confirm_second_factor(codes.at(world.clock())).codes


def test_a_second_factor_is_asked_for_and_each_code_works_once(office: Office, world: World) -> None:
    with person(office) as here, person(office) as without:
        codes, recovery = set_up(here, world)
        with pytest.raises(NotAllowedError):
            without.who()  # was opened without
        assert here.account.second_factor().recovery_codes == 10
        with Client(world.url) as client:
            assert problem(lambda: client.sign_in(office.email, PASSWORD)) == "code-required"
            assert problem(lambda: client.sign_in(office.email, PASSWORD, codes.at(world.clock()))) == "wrong-code", (
                "used"
            )
            with world.clock.later(timedelta(seconds=30)):
                now = codes.at(world.clock())
                assert client.sign_in(office.email, PASSWORD, now).second_factor
                assert problem(lambda: client.sign_in(office.email, PASSWORD, now)) == "wrong-code"
            assert client.sign_in(office.email, PASSWORD, recovery[0].upper()).second_factor
            assert problem(lambda: client.sign_in(office.email, PASSWORD, recovery[0])) == "wrong-code"
            assert client.account.second_factor().recovery_codes == 9
            assert len(set(client.account.renew_recovery_codes(recovery[1]).codes)) == 10
            assert problem(lambda: client.sign_in(office.email, PASSWORD, recovery[2])) == "wrong-code"
        assert problem(lambda: here.account.remove_second_factor("wrong")) == "wrong-password"
        here.account.remove_second_factor(PASSWORD)
    with person(office) as here:
        assert not here.account.second_factor().enabled


def test_a_tenant_can_require_a_second_factor(office: Office, client: Client, world: World) -> None:
    required = TenantSettings(name="Office", second_factor=True)
    assert problem(lambda: client.people.set_settings(office.slug, required)) == "second-factor-required"
    secret = secret_of(client.people.invite(office.slug, f"v{office.slug}@skerry.example").link)
    with person(office) as here, Client(world.url) as member:
        member.accept_invitation(secret, "V", NEW)
        set_up(here, world)
        here.people.set_settings(office.slug, required)
        assert [tenant.slug for tenant in member.who().locked] == [office.slug]
        assert member.who().tenants == []
        assert problem(lambda: member.domains.get(office.slug, "d.example")) == "second-factor-required"
        assert member.readings.wall().rows == []
        assert problem(lambda: here.account.remove_second_factor(PASSWORD)) == "second-factor-required"
        set_up(member, world)
        assert [tenant.slug for tenant in member.who().tenants] == [office.slug]


# Tokens


def test_a_token_does_what_its_scopes_say(office: Office, world: World) -> None:
    with person(office) as here:
        reads = here.tokens.add("reads", scopes=["flow:read", "suppression:write"])
        assert problem(lambda: here.tokens.add("odd", scopes=["mail:read"])) == "not-found"
        assert reads.expires_at is not None
        assert reads.expires_at - world.clock() == timedelta(days=90)
    with Client(world.url, token=reads.secret) as program:
        program.flow.names(office.slug)
        assert program.suppression.clearance(office.slug, ["kim@tidepost.example"]).held == 0
        program.suppression.policy(office.slug)
        for call in (
            lambda: program.domains.list(office.slug).__next__(),
            lambda: program.flow.set_settings(office.slug, program.flow.settings(office.slug)),
            lambda: program.events.load(office.slug, ndjson(bounce(1))),
            lambda: program.readings.wall(),
            lambda: program.people.list(office.slug),
        ):
            assert problem(call) == "scope-missing"
        assert program.who().email == office.email


def test_a_token_sees_rotates_and_deletes_only_itself(office: Office, client: Client, world: World) -> None:
    with person(office) as here:
        other = here.tokens.add("other", tenants=[office.slug])
    mine = client.tokens.list()
    assert [token.name for token in mine] == ["test"]
    assert problem(lambda: client.tokens.delete(other.id)) == "not-found"
    assert problem(lambda: client.tokens.rotate(other.id)) == "not-found"
    rotated = client.tokens.rotate(mine[0].id, overlap_hours=1)
    with Client(world.url, token=rotated.secret) as new:
        assert new.who().email == office.email
        assert client.who().email == office.email, "the secret before is valid for an hour"
        with world.clock.later(timedelta(hours=2)):
            assert problem(lambda: client.who()) == "not-signed-in"
            new.tokens.delete(mine[0].id)
            assert problem(lambda: new.who()) == "not-signed-in"


def test_use_from_another_network_is_refused_and_reported(office: Office, world: World) -> None:
    with person(office) as here:
        made = here.tokens.add("far", tenants=[office.slug], networks=["192.0.2.9/24", "2001:db8::/32"])
        assert made.networks == ["192.0.2.0/24", "2001:db8::/32"]
        assert problem(lambda: here.tokens.add("x", networks=["192.0.2.0/40"])) == "invalid-request"
        near = here.tokens.add("near", networks=["127.0.0.0/8"])
    with Client(world.url, token=made.secret) as program, Client(world.url, token=near.secret) as other:
        assert problem(lambda: program.who()) == "wrong-network"
        assert other.who().email == office.email
    with person(office) as here:
        far, used = (next(each for each in here.tokens.list() if each.name == name) for name in ("far", "near"))
    assert (far.refused_address, far.last_used_at) == ("127.0.0.1", None)
    assert used.last_used_address == "127.0.0.1"


@pytest.mark.parametrize(
    ("address", "networks", "ok"),
    [
        ("192.0.2.7", (), True), ("192.0.2.7", ("192.0.2.0/24",), True), ("::ffff:192.0.2.7", ("192.0.2.0/24",), True),
        ("198.51.100.1", ("192.0.2.0/24",), False), ("", ("192.0.2.0/24",), False), ("2001:db8::1", ("2001:db8::/32",), True),
        ("testclient", ("0.0.0.0/0",), False),
    ],
)  # fmt: skip
def test_an_address_is_within_networks(address: str, networks: tuple[str, ...], ok: bool) -> None:
    assert is_within(address, networks) is ok


# The installation


def test_only_owners_manage_the_installation_and_see_no_tenants_data(
    office: Office, client: Client, owner: Office
) -> None:
    for call in (
        lambda: client.installation.tenants(),
        lambda: client.installation.add_tenant("x", "X"),
        lambda: client.installation.people(),
        lambda: client.installation.assign("mail", "@d.example", office.slug),
        lambda: client.installation.check_audit_log(),
        lambda: list(client.installation.audit_log()),
        lambda: client.installation.delete_person(owner.email),
    ):
        assert problem(call) == "role-too-low"
    with owner.client() as boss:
        assert office.slug in [tenant.slug for tenant in boss.installation.tenants()]
        with pytest.raises(NotFoundError):
            boss.domains.get(office.slug, "d.example")
        slug = f"n{owner.slug}"
        boss.installation.add_tenant(slug, "New one")
        assert {tenant.slug: tenant.role for tenant in boss.who().tenants}[slug] == "admin"
        assert problem(lambda: boss.installation.add_tenant(slug, "Again")) == "already-there"
        assert problem(lambda: boss.installation.delete_person(office.email)) == "last-one"
        assert boss.installation.change_owner(office.email, True).is_owner
        assert client.installation.tenants()
        boss.installation.change_owner(office.email, False)


def test_the_first_owner_is_made_by_a_link_that_works_once(world: World) -> None:
    secret = secret_of(people.first_owner_link(world.context))
    email = f"first{secret[:6].lower().strip('-_')}@skerry.example"
    with Client(world.url) as them:
        view = them.people.look_at(secret)
        assert (view.email, view.role, view.has_account) == ("", "owner", False)
        assert problem(lambda: them.accept_invitation(secret, "First", NEW)) == "not-an-address"
        assert them.accept_invitation(secret, "First", NEW, email=email).is_owner
        assert problem(lambda: them.accept_invitation(secret, "First", NEW, email=email)) == "not-found"
        assert them.installation.people()


def test_a_lost_second_factor_is_reset_by_an_owner(office: Office, owner: Office, world: World) -> None:
    with person(office) as here, owner.client() as boss:
        set_up(here, world)
        boss.installation.reset_second_factor(office.email)
        with pytest.raises(NotAllowedError):
            here.who()
    with person(office) as here:
        assert not here.account.second_factor().enabled


# What belongs to whom


@pytest.mark.parametrize(
    ("kind", "one", "other", "overlaps"),
    [
        ("mail", "@d.example", "x@d.example", True), ("mail", "x@d.example", "y@d.example", False),
        ("mail", "x@d.example", "@d.example", True), ("mail", "@d.example", "@news.d.example", False),
        ("folder", "/var/log", "/var/log/mail.log", True), ("folder", "/var/log2", "/var/log", False),
        ("folder", "/a/b", "/a/b", True), ("host", "mx:25", "mx", True), ("host", "mx:25", "mx:26", False),
    ],
)  # fmt: skip
def test_things_overlap(kind: str, one: str, other: str, overlaps: bool) -> None:
    assert ownership.overlap(kind, one, other) is overlaps
    assert ownership.overlap(kind, other, one) is overlaps


def test_nobody_receives_another_tenants_bounces(office: Office, client: Client, owner: Office) -> None:
    domain = f"bounce.{office.slug}.example"
    thief = make_office(office.world)

    def feed(address: str) -> NewFeed:
        return NewFeed(name="returns", kind="mail", source=FeedSource(addresses=[address]))

    assert problem(lambda: client.feeds.add(office.slug, feed(f"@{domain}"))) == "not-assigned"
    with owner.client() as boss, thief.client() as theirs:
        boss.installation.assign("mail", f"@{domain.upper()}", office.slug)
        client.feeds.add(office.slug, feed(f"@{domain}"))
        for address in (f"@{domain}", f"x@{domain}"):
            assert problem(lambda address=address: theirs.feeds.add(thief.slug, feed(address))) == "already-there"
            assert (
                problem(lambda address=address: boss.installation.assign("mail", address, thief.slug))
                == "already-there"
            )
        assert (f"@{domain}", office.slug) in [(each.value, each.tenant) for each in boss.installation.assignments()]
        boss.installation.unassign("mail", f"@{domain}")
        assert problem(lambda: boss.installation.unassign("mail", f"@{domain}")) == "not-found"


def test_a_verified_domain_needs_no_owner(office: Office, client: Client, world: World) -> None:
    domain = f"{office.slug}.example"
    proof = client.proofs.start(office.slug, domain)
    world.zone(domain, f'_rustgauge TXT "{proof.record}"\n')
    assert client.proofs.recheck(office.slug, proof.id).state == "verified"
    source = FeedSource(addresses=[f"@bounce.{domain}"])
    client.feeds.add(office.slug, NewFeed(name="returns", kind="mail", source=source))


# The audit log


def test_who_did_what_is_kept_with_before_and_after(office: Office, client: Client, owner: Office) -> None:
    client.flow.set_settings(
        office.slug, client.flow.settings(office.slug).model_copy(update={"keep_events_days": 200})
    )
    client.flow.set_settings(
        office.slug, client.flow.settings(office.slug).model_copy(update={"keep_events_days": 300})
    )
    client.feeds.add(office.slug, NewFeed(name="box", kind="http", password="hunter2hunter2"))
    client.suppression.clearance(office.slug, ["kim@tidepost.example"])
    client.recipients.data(office.slug, "kim@tidepost.example")
    entries = list(client.people.audit_log(office.slug))
    by_action = {entry.action: entry for entry in reversed(entries)}
    changed = by_action["set_flow_settings"]
    assert (changed.before["keep_events_days"], changed.after["keep_events_days"]) == (200, 300)
    assert (changed.account, changed.address, changed.subject) == (office.email, "127.0.0.1", "/flow-settings")
    assert re.fullmatch(r"\d+: test", changed.token)
    assert by_action["add_feed"].after["password"] == "(hidden)"
    assert "get_recipient_data" in by_action
    assert "get_clearance" not in by_action
    assert not any("kim@" in entry.model_dump_json() or "hunter2" in entry.model_dump_json() for entry in entries)
    found = list(client.people.audit_log(office.slug, action="set_flow_settings"))
    assert len(found) == 2
    assert (
        problem(
            lambda: client.flow.set_settings(
                office.slug, client.flow.settings(office.slug).model_copy(update={"keep_events_days": -1})
            )
        )
        == "invalid-request"
    )
    assert len(list(client.people.audit_log(office.slug, action="set_flow_settings"))) == 2, (
        "what was refused was not done"
    )
    stranger = make_office(office.world)
    with stranger.client() as theirs:
        assert list(theirs.people.audit_log(stranger.slug)) == []
    viewer = make_office(office.world, Role.VIEWER)
    with viewer.client() as theirs:
        assert problem(lambda: list(theirs.people.audit_log(viewer.slug))) == "role-too-low"
    with person(office):
        pass
    assert problem(lambda: person(office, "wrong").__enter__()) == "wrong-password"
    with owner.client() as boss:
        signed = {(entry.action, entry.account) for entry in boss.installation.audit_log(account=office.email)}
    assert {("sign_in", office.email), ("sign_in_failed", office.email)} <= signed


@pytest.mark.parametrize(
    ("change", "what"),
    [
        ("UPDATE audit_entry SET subject = 'nothing' WHERE id = :id", "was changed"),
        ("UPDATE audit_entry SET at = at + INTERVAL 1 SECOND WHERE id = :id", "was changed"),
        ("UPDATE audit_entry SET tenant_id = NULL WHERE id = :id", "was changed"),
        ("DELETE FROM audit_entry WHERE id = :id", "is missing"),
        ("DELETE FROM audit_entry WHERE id >= :id", "are missing"),
    ],
)
def test_a_log_that_was_touched_is_found_out(
    office: Office, client: Client, owner: Office, change: str, what: str
) -> None:
    client.domains.add(office.slug, "d.example")
    client.domains.add(office.slug, "e.example")
    with owner.client() as boss:
        assert boss.installation.check_audit_log().intact
        entry = next(entry for entry in client.people.audit_log(office.slug) if entry.action == "add_domain")
        with office.world.context.store.engine.connect() as connection, connection.begin() as undone:
            connection.execute(
                text(change), {"id": entry.id - 1 if "missing" in what and "=" not in what else entry.id}
            )
            _, problem_found = check_chain(connection)
            undone.rollback()
        assert what in problem_found
        assert boss.installation.check_audit_log().intact
