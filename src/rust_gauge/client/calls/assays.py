"""Calls of `client.assays`."""

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, repeatable, tenant_path
from rust_gauge.contract.assays import Assay, AssayRuleView, AssaySettings, TextModelView
from rust_gauge.contract.common import Page


def list_rules(tenant: str) -> Call[Page[AssayRuleView]]:
    return make_call("GET", tenant_path(tenant, "assay-rules"), Page[AssayRuleView])


def get_text_model(tenant: str, *, learn: bool) -> Call[TextModelView]:
    return make_call("POST" if learn else "GET", tenant_path(tenant, "text-model"), TextModelView)


def get_settings(tenant: str) -> Call[AssaySettings]:
    return make_call("GET", tenant_path(tenant, "assay-settings"), AssaySettings)


def set_settings(tenant: str, settings: AssaySettings) -> Call[AssaySettings]:
    return repeatable(make_call("PUT", tenant_path(tenant, "assay-settings"), AssaySettings, settings))


def assay_message(tenant: str, raw: bytes, ip: str, helo: str, mail_from: str) -> Call[Assay]:
    query = {name: value for name, value in (("ip", ip), ("helo", helo), ("mail_from", mail_from)) if value}
    return Call(
        "POST", f"/api/v1{tenant_path(tenant, 'assays')}", TypeAdapter(Assay), query, raw, "message/rfc822", True
    )
