"""Calls of `client.publishing`."""

import json
from urllib.parse import quote

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, domain_path, make_call, repeatable, tenant_path
from rust_gauge.contract.common import Page
from rust_gauge.contract.publishing import NewUpdateServer, Publication, UpdateServer, ZoneChange, ZoneChangeRequest


def list_update_servers(tenant: str) -> Call[Page[UpdateServer]]:
    return make_call("GET", tenant_path(tenant, "update-servers"), Page[UpdateServer])


def set_update_server(tenant: str, zone: str, new: NewUpdateServer) -> Call[UpdateServer]:
    path = f"/api/v1{tenant_path(tenant, f'update-servers/{quote(zone, safe=str())}')}"
    sent = new.model_dump(mode="json", exclude={"secret"}) | {"secret": new.secret.get_secret_value()}
    return Call("PUT", path, TypeAdapter(UpdateServer), {}, json.dumps(sent).encode(), repeatable=True)


def delete_update_server(tenant: str, zone: str) -> Call[None]:
    return make_call("DELETE", tenant_path(tenant, f"update-servers/{quote(zone, safe='')}"), type(None))


def preview_publication(tenant: str, name: str, request: ZoneChangeRequest) -> Call[ZoneChange]:
    return repeatable(make_call("POST", domain_path(tenant, name) + "/plan/changes", ZoneChange, request))


def add_publication(tenant: str, name: str, request: ZoneChangeRequest) -> Call[Publication]:
    return make_call("POST", domain_path(tenant, name) + "/publications", Publication, request)


def list_publications(tenant: str, name: str) -> Call[Page[Publication]]:
    return make_call("GET", domain_path(tenant, name) + "/publications", Page[Publication])


def roll_back_publication(tenant: str, id: int) -> Call[Publication]:
    return make_call("POST", tenant_path(tenant, f"publications/{id}/rollback"), Publication)
