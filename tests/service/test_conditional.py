"""Answers that have not changed are not sent again."""

import httpx
import pytest

from tests.conftest import Office
from tests.rows import ndjson, row


def get(office: Office, path: str, **headers: str) -> httpx.Response:
    address = f"{office.world.url}/api/v1/tenants/{office.slug}/{path}"
    return httpx.get(address, headers={"Authorization": f"Bearer {office.token}", **headers}, timeout=60)


@pytest.mark.parametrize("path", ["events", "domains", "flow"])
def test_an_answer_that_has_not_changed_is_304(office: Office, path: str) -> None:
    first = get(office, path)
    tag = first.headers["ETag"]
    assert first.status_code == 200
    for asked in (tag, f'"other", {tag}', f"W/{tag}"):
        again = get(office, path, **{"If-None-Match": asked})
        assert (again.status_code, again.content, again.headers["ETag"]) == (304, b"", tag)
    other = get(office, path, **{"If-None-Match": '"other"'})
    assert (other.status_code, other.json()) == (200, first.json())


def test_an_answer_that_has_changed_is_sent(office: Office) -> None:
    tag = get(office, "events").headers["ETag"]
    body = ndjson(row(1))
    httpx.post(
        f"{office.world.url}/api/v1/tenants/{office.slug}/events", content=body, timeout=60,
        headers={"Authorization": f"Bearer {office.token}", "Content-Type": "application/x-ndjson"},
    )  # fmt: skip
    again = get(office, "events", **{"If-None-Match": tag})
    assert (again.status_code, len(again.json()["items"])) == (200, 1)


def test_problems_and_streams_have_no_tag(office: Office) -> None:
    assert "ETag" not in get(office, "domains/nowhere.example").headers
    export = get(office, "suppression/export")
    assert (export.status_code, "ETag" in export.headers) == (200, False)
