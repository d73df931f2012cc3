"""Preferences: a person's own, the same for their tokens, checked before they are stored."""

from typing import Any

import httpx
import pytest

from rust_gauge.client import Client
from rust_gauge.contract.preferences import Preferences, SavedView, TableView
from tests.conftest import Office, make_office
from tests.service.test_people import person

VIEWS = [SavedView(name="Bounces", path="/flow?tenant=d&view=causes&days=90"), SavedView(name="Wall", path="/")]


def test_preferences_are_a_persons_own_and_those_of_their_tokens(office: Office, client: Client) -> None:
    assert client.account.preferences() == Preferences()
    wanted = Preferences(
        time_zone="Europe/Lisbon", views=VIEWS, tables={"Events": TableView(hidden=["Attempt"], sort="Time", descending=True)}
    )  # fmt: skip
    with person(office) as here:
        assert here.account.set_preferences(wanted) == wanted
    assert client.account.preferences() == wanted
    client.account.set_preferences(wanted.model_copy(update={"views": []}))
    with person(office) as here:
        assert here.account.preferences().views == []
    other = make_office(office.world)
    with other.client() as stranger:
        assert stranger.account.preferences() == Preferences()


@pytest.mark.parametrize(
    ("values", "match"),
    [
        ({"time_zone": "Europe/Nowhere"}, "is not a time zone"),
        ({"views": [{"name": "x", "path": "https://elsewhere.example/"}]}, "path"),
        ({"views": [{"name": "x", "path": "//elsewhere.example/"}]}, "path"),
        ({"views": [{"name": "x", "path": "/\\elsewhere.example"}]}, "path"),
        ({"views": [{"name": " ", "path": "/"}]}, "name"),
        ({"views": [{"name": "x", "path": "/"}, {"name": "x", "path": "/flow"}]}, "already a view named"),
        ({"views": [{"name": f"v{n}", "path": "/"} for n in range(101)]}, "views"),
        ({"tables": {"x": {"hidden": ["y" * 101]}}}, "hidden"),
        ({"colour": "red"}, "colour"),
    ],
)
def test_preferences_that_cannot_be_are_refused(
    office: Office, client: Client, values: dict[str, Any], match: str
) -> None:
    url, headers = f"{office.world.url}/api/v1/session/preferences", {"Authorization": f"Bearer {office.token}"}
    answer = httpx.put(url, json=values, headers=headers)
    assert answer.status_code == 422
    found = answer.json()
    assert match in found["detail"] or any(match in f"{each['field']} {each['what']}" for each in found["errors"]), (
        found
    )
    assert client.account.preferences() == Preferences()
