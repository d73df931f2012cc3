"""Every route with every kind of asker: strangers, other tenants, and each role of the tenant's own people."""

from collections.abc import Iterator
from typing import get_args

import httpx
import pytest

from rust_gauge.contract.jobs import JobKind
from rust_gauge.core.roles import Role
from rust_gauge.service.app import create_app
from rust_gauge.service.http.roles import OWNER, PUBLIC, ROLES, SIGNED_IN
from rust_gauge.store import accounts as store_accounts
from rust_gauge.store import jobs
from tests.conftest import Office, World, make_office

ROUTES = [
    ("GET", "domains", None),
    ("POST", "domains", {"name": "a.example"}),
    ("GET", "domains/d.example", None),
    ("PATCH", "domains/d.example", {"selectors": []}),
    ("DELETE", "domains/d.example", None),
    ("POST", "domains/d.example/audits", None),
    ("GET", "domains/d.example/audits", None),
    ("GET", "domains/d.example/audits/newest", None),
    ("GET", "domains/d.example/audits/1", None),
    ("GET", "domains/d.example/audits/compare", None),
    ("GET", "domains/d.example/history", None),
    ("POST", "spf-checks", {"ip": "192.0.2.1"}),
    ("POST", "receiver-reports", None),
    ("GET", "receiver-reports", None),
    ("GET", "receiver-reports/rejected", None),
    ("POST", "receiver-reports/rejected/replay", None),
    ("DELETE", "receiver-reports/rejected/1", None),
    ("GET", "receiver-reports/1", None),
    ("GET", "receiver-reports/1/original", None),
    ("DELETE", "receiver-reports/1", None),
    ("GET", "receivers", None),
    ("GET", "reported-domains", None),
    ("GET", "report-retention", None),
    ("PUT", "report-retention", {"row_days": 400, "original_days": 90}),
    ("GET", "domains/d.example/sources", None),
    ("GET", "domains/d.example/stream-alignment", None),
    ("POST", "report-files", {"name": "november.zip"}),
    ("GET", "domains/d.example/source?source=x", None),
    ("POST", "domains/d.example/source/claim?source=x", {}),
    ("POST", "domains/d.example/source/decision?source=x", {"verdict": None}),
    ("POST", "domains/d.example/rehearsal", {"p": "reject"}),
    ("GET", "domains/d.example/tls", None),
    ("GET", "domains/d.example/sts-policy", None),
    ("POST", "domains/d.example/sts-policy", None),
    ("GET", "domains/d.example/policy-path", None),
    ("PUT", "domains/d.example/policy-path", {}),
    ("DELETE", "domains/d.example/policy-path", None),
    ("POST", "domains/d.example/policy-path/stage", {"stage": "watch"}),
    ("POST", "message-checks", None),
    ("POST", "assays", None),
    ("GET", "assay-rules", None),
    ("GET", "text-model", None),
    ("POST", "text-model", None),
    ("GET", "assay-settings", None),
    ("PUT", "assay-settings", {}),
    ("GET", "seeds", None),
    ("POST", "seeds", {"address": "s@tidepost.example", "host": "imap.tidepost.example", "password": "x"}),
    ("GET", "seeds/1", None),
    ("PATCH", "seeds/1", {"note": "b"}),
    ("DELETE", "seeds/1", None),
    ("POST", "seeds/1/check", None),
    ("GET", "outlets", None),
    ("POST", "outlets", {"name": "a", "host": "smtp.d.example", "mail_from": "a@d.example"}),
    ("GET", "outlets/a", None),
    ("PATCH", "outlets/a", {"relay": "b"}),
    ("DELETE", "outlets/a", None),
    ("POST", "outlets/a/check", None),
    ("GET", "placement-history", None),
    ("GET", "placement-runs", None),
    ("POST", "placement-runs", {"outlet": "a"}),
    ("GET", "placement-runs/1", None),
    ("DELETE", "placement-runs/1", None),
    ("POST", "placement-runs/1/cancel", None),
    ("GET", "placement-runs/1/message", None),
    ("PUT", "placement-runs/1/message", None),
    ("GET", "placement-runs/1/assay", None),
    ("GET", "placement-runs/1/shares", None),
    ("POST", "placement-runs/1/shares", {}),
    ("DELETE", "placement-runs/1/shares/1", None),
    ("GET", "verifiers", None),
    (
        "POST",
        "verifiers",
        {
            "name": "a",
            "price": 0,
            "request": {"url": "https://v.example/{address}"},
            "answer": {"fields": {"verdict": {"path": "$.a"}}},
        },
    ),
    ("POST", "verifiers/try", {"name": "a", "answer": "{}"}),
    ("GET", "verifiers/a", None),
    ("PATCH", "verifiers/a", {"price": 1}),
    ("DELETE", "verifiers/a", None),
    ("POST", "address-verifications", {"addresses": ["person1@tidepost.example"]}),
    ("GET", "verification-settings", None),
    ("PUT", "verification-settings", {}),
    ("GET", "verification-gauge", None),
    ("GET", "verification-disagreements", None),
    ("GET", "new-recipients", None),
    ("POST", "new-recipients", {"addresses": ["person1@tidepost.example"]}),
    ("GET", "recipient-sources", None),
    ("POST", "recipient-sources", {"name": "a"}),
    ("DELETE", "recipient-sources/a", None),
    ("GET", "warmup-plans", None),
    ("POST", "warmup-plans", {"name": "a", "domain": "d.example", "target": 100}),
    ("POST", "warmup-plans/preview", {"target": 100}),
    ("GET", "warmup-plans/a", None),
    ("PATCH", "warmup-plans/a", {"paused": True}),
    ("DELETE", "warmup-plans/a", None),
    ("POST", "warmup-plans/a/overrule", {"step": 1, "reason": "for the test"}),
    ("GET", "warmup-plans/a/days", None),
    ("POST", "list-cuts", {"plan": "a"}),
    ("GET", "placement-schedules", None),
    ("POST", "placement-schedules", {"name": "a", "outlet": "b"}),
    ("GET", "placement-schedules/a", None),
    ("PATCH", "placement-schedules/a", {"enabled": False}),
    ("DELETE", "placement-schedules/a", None),
    ("POST", "placement-schedules/a/copy", {"name": "b"}),
    ("POST", "placement-schedules/a/run", None),
    ("GET", "placement-schedules/a/message", None),
    ("PUT", "placement-schedules/a/message", None),
    ("GET", "trays", None),
    ("POST", "trays", {"name": "a"}),
    ("GET", "trays/a", None),
    ("PATCH", "trays/a", {"title": "b"}),
    ("DELETE", "trays/a", None),
    ("POST", "trays/a/rotation", None),
    ("GET", "trays/a/connection", None),
    ("GET", "trays/a/messages", None),
    ("POST", "trays/a/messages", None),
    ("DELETE", "trays/a/messages", None),
    ("GET", "trays/a/next-message?timeout=0", None),
    ("GET", "trays/a/comparison?message=1&message=2", None),
    ("GET", "trays/a/series", None),
    ("GET", "trays/a/history?template=a", None),
    ("GET", "trays/a/messages/1", None),
    ("DELETE", "trays/a/messages/1", None),
    ("GET", "trays/a/messages/1/assay", None),
    ("POST", "trays/a/messages/1/assay", None),
    ("GET", "trays/a/messages/1/conversation", None),
    ("GET", "trays/a/messages/1/source", None),
    ("GET", "trays/a/messages/1/parts/1", None),
    ("GET", "relays", None),
    ("POST", "proofs", {"subject": "d.example"}),
    ("GET", "proofs", None),
    ("POST", "proofs/1/recheck", None),
    ("POST", "proofs/1/code", {"code": "ABC"}),
    ("GET", "senders", None),
    ("GET", "update-servers", None),
    ("PUT", "update-servers/d.example", {"address": "192.0.2.53", "key_name": "k.example", "secret": "QUJD"}),
    ("DELETE", "update-servers/d.example", None),
    ("POST", "domains/d.example/plan/changes", {}),
    ("POST", "domains/d.example/publications", {}),
    ("GET", "domains/d.example/publications", None),
    ("POST", "publications/1/rollback", None),
    ("POST", "domains/d.example/watches", {}),
    ("GET", "domains/d.example/watches", None),
    ("GET", "watches/1", None),
    ("POST", "watches/1/cancel", None),
    ("GET", "flow/causes", None),
    ("GET", "flow/days", None),
    ("GET", "flow/names", None),
    ("GET", "flow/comparison", None),
    ("GET", "reply-patterns", None),
    ("GET", "shifts", None),
    ("GET", "shifts/1", None),
    ("GET", "flow-settings", None),
    ("PUT", "flow-settings", {}),
    ("GET", "recipient-data", None),
    ("GET", "erasures", None),
    ("POST", "erasures", {"address": "a@b.example"}),
    ("GET", "cause-rules", None),
    ("GET", "cause-rules/built-in", None),
    ("PUT", "cause-rules", {"version": 0, "rules": []}),
    ("POST", "cause-rules/backtests", {"rules": []}),
    ("POST", "cause-rules/application", None),
    ("DELETE", "cause-rules/application", None),
    ("GET", "feeds", None),
    ("POST", "feeds", {"name": "a", "kind": "http"}),
    ("GET", "feeds/a", None),
    ("PATCH", "feeds/a", {"paused": True}),
    ("DELETE", "feeds/a", None),
    ("GET", "feeds/a/rejected-rows", None),
    ("POST", "feeds/a/rejected-rows/replay", None),
    ("POST", "feeds/a/events", {}),
    ("POST", "events/stream", {}),
    ("DELETE", "feeds/a/rejected-rows", None),
    ("POST", "mapping-dry-runs", {"sample": "{}"}),
    ("GET", "webhooks", None),
    ("POST", "webhooks", {"name": "desk", "url": "https://desk.example/"}),
    ("PATCH", "webhooks/1", {"paused": True}),
    ("DELETE", "webhooks/1", None),
    ("POST", "webhooks/1/test", None),
    ("POST", "webhooks/1/rotation", {}),
    ("GET", "webhooks/1/calls", None),
    ("POST", "webhooks/1/replay", None),
    ("POST", "watches/1/recheck", None),
    ("GET", "watch-settings", None),
    ("PUT", "watch-settings", {}),
    ("GET", "relays/office-1/usage", None),
    ("PUT", "relays/office-1", {}),
    ("DELETE", "relays/office-1", None),
    ("GET", "domains/d.example/plan", None),
    ("POST", "domains/d.example/plan/checks", None),
    ("PUT", "domains/d.example/plan/settings", {}),
    ("POST", "domains/d.example/plan/keys", {"selector": "s1"}),
    ("POST", "feedback-reports", None),
    ("POST", "batches", {"names": ["a.example"]}),
    ("GET", "batches/1/results", None),
    ("GET", "audit-settings", None),
    ("PUT", "audit-settings", {"lists": []}),
    ("GET", "readings?name=d.example", None),
    ("GET", "readings/explanation?name=d.example&first=2026-11-01&last=2026-11-02", None),
    ("POST", "readings/forecast?name=d.example", {}),
    ("GET", "readings/headroom?name=d.example", None),
    ("GET", "reading-settings", None),
    ("PUT", "reading-settings", {}),
    ("DELETE", "reading-settings", None),
    ("GET", "worklist/1", None),
    ("POST", "worklist/1/actions", {"act": "acknowledge"}),
    ("POST", "worklist/actions", {"act": "acknowledge", "ids": [1]}),
    ("POST", "worklist/detection", None),
    ("GET", "members", None),
    ("PUT", "members/kim@d.example", {"role": "viewer"}),
    ("DELETE", "members/kim@d.example", None),
    ("GET", "invitations", None),
    ("POST", "invitations", {"email": "kim@d.example"}),
    ("DELETE", "invitations/1", None),
    ("GET", "settings", None),
    ("PUT", "settings", {"name": "Office"}),
    ("GET", "audit-log", None),
    ("GET", "lines", None),
    ("GET", "alert-settings", None),
    ("PUT", "alert-settings", {}),
    ("POST", "alert-tests", {"channel": "desk"}),
    ("GET", "checklist", None),
    ("GET", "notifications", None),
    ("GET", "reports", None),
    ("POST", "reports", None),
    ("GET", "report-style", None),
    ("PUT", "report-style", {}),
    ("PUT", "report-logo", None),
    ("DELETE", "report-logo", None),
    ("GET", "report-shares", None),
    ("POST", "report-shares", {}),
    ("DELETE", "report-shares/1", None),
    ("GET", "stream-pauses", None),
    ("POST", "stream-pauses", {"stream": "a", "relay": "b", "why": "c"}),
    ("POST", "stream-pauses/resume", {"stream": "a", "relay": "b", "why": "c"}),
    ("GET", "annotations", None),
    ("POST", "annotations", {"day": "2026-11-20", "text": "x"}),
    ("DELETE", "annotations/1", None),
    ("POST", "events", []),
    ("GET", "events", None),
    ("GET", "flow", None),
    ("GET", "providers", None),
    ("PATCH", "providers/tidepost.example", {"label": "x"}),
    ("GET", "suppression", None),
    ("GET", "suppression/count", None),
    ("GET", "suppression/export", None),
    ("POST", "suppression", {"addresses": ["person1@tidepost.example"]}),
    ("POST", "suppression/lifts", {"address": "person1@tidepost.example", "why": "a guess"}),
    ("POST", "suppression/decisions", {"ids": ["x"], "confirm": True}),
    ("GET", "suppression/status", None),
    ("GET", "suppression/changes", None),
    ("GET", "suppression/growth", None),
    ("GET", "suppression/policy", None),
    ("PUT", "suppression/policy", {"rules": [{"name": "all", "act": "nothing"}]}),
    ("DELETE", "suppression/policy", None),
    ("GET", "suppression/matching", None),
    ("PUT", "suppression/matching", {"fold_case": False}),
    ("POST", "clearance/stream", None),
    ("POST", "suppression/imports", {}),
    ("POST", "suppression/policy/backtests", {"policy": {"rules": [{"name": "all", "act": "nothing"}]}}),
    ("POST", "list-checks", {}),
    ("GET", "jobs", None),
    ("GET", "jobs/1", None),
    ("PUT", "jobs/1/pieces/0", None),
    ("POST", "jobs/1/run", {}),
    ("POST", "jobs/1/cancel", None),
    ("GET", "jobs/1/parts/clear", None),
    ("GET", "jobs/1/archive", None),
    ("POST", "address-checks", {"addresses": ["person1@tidepost.example"]}),
    ("GET", "address-words", None),
    ("PUT", "address-words", {}),
    ("POST", "unsubscribe-links", {"recipients": ["person1@tidepost.example"], "domain": "d.example"}),
    ("GET", "unsubscribes", None),
    ("GET", "gates", None),
    ("POST", "gates", {"name": "mta"}),
    ("DELETE", "gates/1", None),
    ("POST", "clearance", {"addresses": ["person1@tidepost.example"]}),
]


_FILLED = {
    "placement-schedules/a": "placement-schedules/{name}",
    "warmup-plans/a": "warmup-plans/{name}",
    "verifiers/a": "verifiers/{name}",
    "recipient-sources/a": "recipient-sources/{name}",
    "shares/1": "shares/{share}",
    "report-shares/1": "report-shares/{share}",
    "messages/1/parts/1": "messages/{id}/parts/{number}",
    "messages/1": "messages/{id}",
    "trays/a": "trays/{name}",
    "update-servers/d.example": "update-servers/{zone}",
    "kim@d.example": "{email}",
    "d.example": "{name}",
    "tidepost.example": "{provider}",
    "relays/office-1": "relays/{relay}",
    "feeds/a": "feeds/{name}",
    "outlets/a": "outlets/{name}",
    "/1": "/{id}",
    "pieces/0": "pieces/{number}",
    "parts/clear": "parts/{part}",
}


def template_of(path: str) -> str:
    """The path of a row of the table as the OpenAPI document has it."""
    path = path.partition("?")[0]
    for filled, template in _FILLED.items():
        path = path.replace(filled, template)
    return path


def operations() -> dict[tuple[str, str], str]:
    """Operation ids of all routes, by method and path."""
    paths = create_app(None).openapi()["paths"]
    return {
        (method.upper(), path): operation["operationId"]
        for path, of in paths.items()
        for method, operation in of.items()
    }


OPERATIONS = operations()
IDS = [f"{method} {path}" for method, path, _ in ROUTES]


@pytest.fixture(scope="module")
def offices(world: World) -> dict[Role, Office]:
    """An account of each role, each in a tenant of its own."""
    return {role: make_office(world, role) for role in Role}


@pytest.fixture(scope="module")
def http() -> Iterator[httpx.Client]:
    """One connection for all calls."""
    with httpx.Client(timeout=60) as client:
        yield client


@pytest.fixture(scope="module")
def stranger(world: World) -> Office:
    """Somebody of another tenant."""
    return make_office(world)


def test_every_route_of_a_tenant_is_in_the_table_above() -> None:
    wanted = {(method, path.partition("/tenants/{tenant}/")[2]) for method, path in OPERATIONS if "{tenant}" in path}
    assert {(method, template_of(path)) for method, path, _ in ROUTES} == wanted


def test_every_route_says_who_may_use_it() -> None:
    by_tenant = {operation for (_, path), operation in OPERATIONS.items() if "{tenant}" in path}
    assert set(ROLES) == by_tenant
    assert set(OPERATIONS.values()) - by_tenant == PUBLIC | SIGNED_IN | OWNER


def test_viewers_read_and_nothing_else() -> None:
    """GET routes are for everybody in the tenant; what else a viewer may do changes nothing."""
    for (method, _), operation in OPERATIONS.items():
        if operation not in ROLES:
            continue
        if method == "GET":
            people = {"list_invitations", "list_audit_log"}  # who comes, and who did what, is for admins
            keys = {"list_recipient_sources": Role.OPERATOR}  # whoever knows their addresses can spend the budget
            least = Role.ADMIN if operation in people else keys.get(operation, Role.VIEWER)
            assert ROLES[operation] is least, operation
        elif ROLES[operation] is Role.VIEWER:
            assert operation in {"assay_message", "check_spf", "check_plan", "preview_publication", "forecast_reading",
                                 "preview_warmup_plan", "rehearse_policy"}  # fmt: skip


def test_what_cannot_be_taken_back_and_secrets_are_for_admins() -> None:
    for operation in (
        "erase_recipient",
        "add_publication",
        "roll_back_publication",
        "add_plan_key",
        "add_gate",
        "add_webhook",
    ):
        assert ROLES[operation] is Role.ADMIN
    # Settings of one domain's plan are the operator's work; all others are the admin's.
    settings = {operation for operation in ROLES if operation.endswith(("_settings", "_policy", "_rules"))}
    changing = {operation for operation in settings if operation.startswith(("set_", "reset_"))} - {"set_plan_settings"}
    assert {ROLES[operation] for operation in changing} == {Role.ADMIN}


@pytest.mark.parametrize(("method", "path", "body"), ROUTES, ids=IDS)
def test_no_route_works_for_a_stranger_or_for_another_tenant(
    http: httpx.Client, offices: dict[Role, Office], stranger: Office, method: str, path: str, body: object
) -> None:
    office = offices[Role.ADMIN]
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/{path}"
    for headers, status in (
        ({}, 401),
        ({"Authorization": "Bearer rgt_guess"}, 401),
        ({"Authorization": f"Bearer {stranger.token}"}, 404),
    ):
        response = http.request(method, url, json=body, headers=headers)
        assert response.status_code == status
        assert response.headers["content-type"] == "application/problem+json"


@pytest.mark.parametrize("role", list(Role), ids=[role.value for role in Role])
@pytest.mark.parametrize(("method", "path", "body"), ROUTES, ids=IDS)
def test_a_route_works_for_its_role_and_those_above_it(
    http: httpx.Client, offices: dict[Role, Office], role: Role, method: str, path: str, body: object
) -> None:
    office = offices[role]
    url = f"{office.world.url}/api/v1/tenants/{office.slug}/{path}"
    headers = {"Authorization": f"Bearer {office.token}"}
    response = http.request(method, url, json=body, headers=headers)
    needed = ROLES[OPERATIONS[method, f"/api/v1/tenants/{{tenant}}/{template_of(path)}"]]
    if role.allows(needed):
        assert response.status_code not in (401, 403, 500)
    else:
        assert (response.status_code, response.json()["type"]) == (403, "/problems/role-too-low")
        assert f"needs the role {needed} in {office.slug}; you have {role}" in response.json()["detail"]


def test_a_person_has_each_tenants_own_role(world: World) -> None:
    office, other = make_office(world, Role.ADMIN), make_office(world, Role.ADMIN)
    store = world.context.store
    found = store.transaction(lambda c: store_accounts.find_account(c, office.email))
    assert found is not None
    store.transaction(lambda c: store_accounts.grant(c, found.id, other.tenant.id, Role.VIEWER))
    with office.client() as client:
        client.domains.add(office.slug, "d.example")
        assert list(client.domains.list(other.slug)) == []
        assert {tenant.slug: tenant.role for tenant in client.who().tenants} == {
            office.slug: "admin",
            other.slug: "viewer",
        }
    refused = httpx.post(
        f"{world.url}/api/v1/tenants/{other.slug}/domains",
        json={"name": "d.example"},
        headers={"Authorization": f"Bearer {office.token}"},
    )
    assert refused.status_code == 403


@pytest.mark.parametrize("kind", get_args(JobKind))
@pytest.mark.parametrize("act", ["run", "cancel"])
@pytest.mark.parametrize("role", [Role.OPERATOR, Role.ADMIN])
def test_a_job_that_carries_out_a_change_of_settings_is_for_admins(
    world: World, kind: str, act: str, role: Role
) -> None:
    office, store, now = make_office(world, role), world.context.store, world.clock()
    id = store.transaction(lambda c: jobs.add(c, kind, office.tenant.id, now, name="a", request={}, created_by="b"))
    url = f"{world.url}/api/v1/tenants/{office.slug}/jobs/{id}"
    headers = {"Authorization": f"Bearer {office.token}"}
    answer = httpx.post(f"{url}/{act}", json={} if act == "run" else None, headers=headers)
    refused = kind in ("rules", "recompute") and role is Role.OPERATOR
    assert answer.status_code == (403 if refused else 200), answer.text
    wanted = "cancelled" if act == "cancel" and not refused else "waiting"
    assert httpx.get(url, headers=headers).json()["state"] == wanted
    store.transaction(lambda c: jobs.drop(c, id))
