"""Passkeys: made by an authenticator, used to sign in, and refused when anything about them is wrong."""

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import func, select

from rust_gauge.client import Client
from rust_gauge.client.errors import ProblemResponse
from rust_gauge.contract.people import TenantSettings
from rust_gauge.service.accounts import passkeys
from rust_gauge.store import tables
from tests.authenticator import Authenticator
from tests.conftest import PASSWORD, Office, World
from tests.service.test_people import person, problem


def key_of(world: World, **more: Any) -> Authenticator:
    return Authenticator(passkeys.origin(world.context), **more)


def added(client: Client, key: Authenticator, name: str = "laptop") -> int:
    options = client.account.start_passkey(PASSWORD).options
    return client.account.add_passkey(name, key.make(options)).id


def signed_in(world: World, key: Authenticator) -> Client:
    client = Client(world.url)
    client.sign_in_with_passkey(key.sign(client.account.start_passkey_sign_in().options))
    return client


def test_a_passkey_signs_in_and_counts_as_second_factor(office: Office, world: World) -> None:
    key = key_of(world)
    with person(office) as client:
        added(client, key)
        assert client.who().second_factor  # it has just been shown
        client.people.set_settings(office.slug, TenantSettings(name="Glasswort", second_factor=True))
    with person(office) as client:  # the password alone is not enough here any more
        assert [tenant.slug for tenant in client.who().locked] == [office.slug]
    with signed_in(world, key) as client:
        assert [tenant.slug for tenant in client.who().tenants] == [office.slug]
        (member,) = client.people.list(office.slug)
        assert member.second_factor
        (found,) = client.account.passkeys()
        assert (found.name, found.synced) == ("laptop", False)
        assert found.last_used_at is not None
        assert [each.second_factor for each in client.account.sessions() if each.current] == [True]
        client.account.delete_passkey(found.id)
    with pytest.raises(ProblemResponse):
        signed_in(world, key)


def test_a_passkey_needs_the_password_to_be_added(office: Office) -> None:
    with person(office) as client:
        assert problem(lambda: client.account.start_passkey("wrong one here")) == "wrong-password"
        assert problem(lambda: client.account.start_passkey("")) == "wrong-password"
    with office.client() as program:
        assert problem(lambda: program.account.start_passkey(PASSWORD)) == "person-only"
        assert problem(lambda: program.account.passkeys()) == "person-only"


def test_what_an_authenticator_made_is_used_once_and_in_time(office: Office, world: World) -> None:
    key = key_of(world)
    with person(office) as client:
        made = key.make(client.account.start_passkey(PASSWORD).options)
        client.account.add_passkey("laptop", made)
        assert problem(lambda: client.account.add_passkey("again", made)) == "wrong-passkey"
        late = key_of(world).make(client.account.start_passkey(PASSWORD).options)
        with world.clock.later(timedelta(minutes=6)):
            assert problem(lambda: client.account.add_passkey("late", late)) == "wrong-passkey"
    with Client(world.url) as stranger:
        signature = key.sign(stranger.account.start_passkey_sign_in().options)
        stranger.sign_in_with_passkey(signature)
    with Client(world.url) as thief:
        assert problem(lambda: thief.sign_in_with_passkey(signature)) == "wrong-passkey"


def _unverified(key: Authenticator) -> None:
    key.verifies = False


def _elsewhere(key: Authenticator) -> None:
    key.origin = "http://phishing.example"


def _cloned(key: Authenticator) -> None:
    key.count = -1 + 0  # behind what was seen


def _another_key(key: Authenticator) -> None:
    key.key = Authenticator(key.origin).key


def _unknown(key: Authenticator) -> None:
    key.id = Authenticator(key.origin).id


@pytest.mark.parametrize("spoil", [_unverified, _elsewhere, _cloned, _another_key, _unknown])
def test_a_wrong_signature_signs_nobody_in(
    office: Office, world: World, spoil: Callable[[Authenticator], None]
) -> None:
    key = key_of(world, count=5)
    with person(office) as client:
        added(client, key)
    signed_in(world, key).close()
    spoil(key)
    with Client(world.url) as client:
        options = client.account.start_passkey_sign_in().options
        assert problem(lambda: client.sign_in_with_passkey(key.sign(options))) == "wrong-passkey"
        assert problem(client.who) == "not-signed-in"


def test_a_challenge_for_signing_in_makes_no_passkey_and_none_of_somebody_else(office: Office, world: World) -> None:
    key = key_of(world)
    with person(office) as client:
        begun = client.account.start_passkey_sign_in().options
        made = key.make({"rp": {"id": begun["rpId"]}, "challenge": begun["challenge"]})
        assert problem(lambda: client.account.add_passkey("laptop", made)) == "wrong-passkey"
        options = client.account.start_passkey(PASSWORD).options
        signed = key.sign({"rpId": options["rp"]["id"], "challenge": options["challenge"]})
        assert problem(lambda: client.sign_in_with_passkey(signed)) == "wrong-passkey"


def test_asking_for_challenges_stores_nothing(world: World) -> None:
    """Anybody may ask, so what is stored would be what strangers like."""
    count = select(func.count()).select_from(tables.challenge)
    before = world.context.store.transaction(lambda c: c.scalar(count))
    with Client(world.url) as client:
        asked = {str(client.account.start_passkey_sign_in().options["challenge"]) for _ in range(20)}
    assert len(asked) == 20
    assert world.context.store.transaction(lambda c: c.scalar(count)) == before


_json = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
    max_leaves=8,
)
_credentials = st.dictionaries(st.sampled_from(["id", "rawId", "type", "response"]), _json, max_size=4)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(_credentials)
def test_anything_else_is_refused_with_a_problem(world: World, credential: dict[str, Any]) -> None:
    with Client(world.url) as client:
        assert problem(lambda: client.sign_in_with_passkey(credential)) in ("wrong-passkey", "too-many-attempts")


@pytest.mark.parametrize(
    ("public_url", "expected"),
    [
        ("https://gauge.example.test", "https://gauge.example.test"),
        ("https://gauge.example.test:8443/", "https://gauge.example.test:8443"),
        ("http://gauge.example.test", ""),  # not a secure context
        ("https://192.0.2.7", ""),
        ("https://[2001:db8::7]", ""),
        ("http://localhost:8850", "http://localhost:8850"),
        ("", "http://localhost:8850"),
    ],
)
def test_passkeys_belong_to_a_name_over_tls(world: World, public_url: str, expected: str) -> None:
    context = passkeys.Context(**{**_parts(world), "settings": _settings(world, public_url)})
    assert passkeys.origin(context) == expected


def _settings(world: World, public_url: str) -> Any:
    return world.context.settings.model_copy(update={"public_url": public_url, "host": "127.0.0.1", "port": 8850})


def _parts(world: World) -> dict[str, Any]:
    return {name: getattr(world.context, name) for name in world.context.__dataclass_fields__}
