"""Stored credentials: encrypted with a key that can be changed while the service runs."""

import re
from dataclasses import replace
from pathlib import Path

import pytest
from pydantic import SecretStr
from sqlalchemy import Connection, select

from rust_gauge.client import Client
from rust_gauge.contract.feeds import NewFeed
from rust_gauge.contract.placement import NewOutlet, NewSeed
from rust_gauge.contract.publishing import NewUpdateServer
from rust_gauge.contract.suppression import MatchingSettings
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.service.runtime.secrets import decrypt, encrypt, make_key, rotate_keys, service_keys
from rust_gauge.service.runtime.settings import Settings
from rust_gauge.service.unsubscribes import unsubscribes
from rust_gauge.store.tables.base import metadata
from tests.conftest import Office, another

# On its own: base64 of something else, such as a picture, may hold the same letters.
_SEALED = re.compile(r"(?<![A-Za-z0-9+/_=-])gAAAA[A-Za-z0-9_=-]{40,}")


def sealed_anywhere(connection: Connection) -> list[str]:
    """Return everything in the database that looks encrypted."""
    found: list[str] = []
    for table in metadata.sorted_tables:
        if table.name in ("event", "audit_entry"):  # nothing is encrypted in there, and there is much of it
            continue
        for row in connection.execute(select(table)):
            found += [token for value in row for token in _SEALED.findall(str(value))]
    return found


def test_every_credential_is_encrypted_again_with_a_new_key(office: Office, client: Client, update_port: int) -> None:
    context = office.world.context
    client.feeds.add(office.slug, NewFeed(name="box", kind="http", password="hunter2hunter2"))
    seed = NewSeed(address="s@d.example", provider="d.example", host="gone.example", password="of a seed")
    client.placement.add_seed(office.slug, seed)
    outlet = NewOutlet(name="office", host="gone.example", mail_from="a@d.example", user="a", password="of an outlet")
    client.placement.add_outlet(office.slug, outlet)
    hook = client.webhooks.add(office.slug, "desk", "https://desk.example/", [])
    client.webhooks.rotate_secret(office.slug, hook.id)
    server = NewUpdateServer(address=f"127.0.0.1:{update_port}", key_name="k.example", secret=SecretStr("QUJDREVGR0g="))
    client.publishing.set_server(office.slug, "d.example", server)
    again = server.model_copy(update={"overlap_hours": 1})
    client.publishing.set_server(office.slug, "d.example", again)
    with another(office.world) as (hidden, theirs):
        theirs.suppression.set_matching(hidden.slug, MatchingSettings(digests_only=True))
        old = context.settings
        changed = {"secret_key": SecretStr("another one"), "previous_secret_keys": [old.secret_key]}
        both = old.model_copy(update=changed)
        new = old.model_copy(update={"secret_key": SecretStr("another one")})
        assert rotate_keys(both, context.store) >= 6
        with context.store.engine.connect() as connection:
            found = sealed_anywhere(connection)
        assert len(found) >= 6
        opened = [decrypt(new, token) for token in found]
        assert {"hunter2hunter2", "of a seed", "of an outlet"} <= set(opened), "nothing needs the key before"
        assert opened.count("QUJDREVGR0g=") == 2
        with pytest.raises(ServiceProblem, match="cannot be decrypted"):
            rotate_keys(old, context.store)
        back = old.model_copy(update={"previous_secret_keys": [SecretStr("another one")]})
        assert rotate_keys(back, context.store) >= 4
    assert decrypt(old, encrypt(back, "text")) == "text"


def test_links_of_mail_sent_before_work_on(office: Office, client: Client) -> None:
    (made,) = client.addresses.unsubscribe_links(office.slug, ["kim@tidepost.example"], domain="d.example")
    token = re.search(r"/unsubscribe/([A-Za-z0-9_-]+)", made.list_unsubscribe)
    assert token is not None
    context = office.world.context
    old = context.settings
    new = old.model_copy(update={"secret_key": SecretStr("new"), "previous_secret_keys": [old.secret_key]})
    for settings, works in ((old, True), (new, True), (old.model_copy(update={"secret_key": SecretStr("new")}), False)):
        assert (unsubscribes.open_link(replace(context, settings=settings), token[1]) is not None) is works


def test_keys_beside_the_private_database_are_made_and_kept(tmp_path: Path) -> None:
    settings = Settings(var_dir=tmp_path)
    first = service_keys(settings)
    assert len(first) == 1
    sealed = encrypt(settings, "text")
    assert make_key(settings)
    now = service_keys(settings)
    assert (len(now), now[1:]) == (2, first)
    assert decrypt(settings, sealed) == "text"
    assert ((tmp_path / "secret.key").stat().st_mode & 0o777) == 0o600
    assert not make_key(Settings(var_dir=tmp_path, secret_key=SecretStr("given")))
