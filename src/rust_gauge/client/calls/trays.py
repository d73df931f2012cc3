"""Calls of `client.trays`."""

from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from pydantic import TypeAdapter

from rust_gauge.client.calls.call import Call, make_call, tenant_path
from rust_gauge.contract.assays import Assay
from rust_gauge.contract.bench import (
    BenchComparison,
    CaughtMessage,
    Conversation,
    MadeTray,
    NewTray,
    ParsedMessage,
    Series,
    SeriesSummary,
    Tray,
    TrayChange,
    TrayConnection,
)
from rust_gauge.contract.common import Page


def tray_path(tenant: str, name: str, rest: str = "") -> str:
    return tenant_path(tenant, f"trays/{quote(name, safe='')}{rest}")


def list_trays(tenant: str) -> Call[Page[Tray]]:
    return make_call("GET", tenant_path(tenant, "trays"), Page[Tray])


def add_tray(tenant: str, new: NewTray) -> Call[MadeTray]:
    return make_call("POST", tenant_path(tenant, "trays"), MadeTray, new)


def get_tray(tenant: str, name: str) -> Call[Tray]:
    return make_call("GET", tray_path(tenant, name), Tray)


def update_tray(tenant: str, name: str, change: TrayChange) -> Call[Tray]:
    return make_call("PATCH", tray_path(tenant, name), Tray, change)


def delete_tray(tenant: str, name: str) -> Call[None]:
    return make_call("DELETE", tray_path(tenant, name), type(None))


def rotate_tray_password(tenant: str, name: str) -> Call[MadeTray]:
    return make_call("POST", tray_path(tenant, name, "/rotation"), MadeTray)


def get_tray_connection(tenant: str, name: str) -> Call[TrayConnection]:
    return make_call("GET", tray_path(tenant, name, "/connection"), TrayConnection)


def list_messages(tenant: str, name: str, cursor: str | None, **chosen: Any) -> Call[Page[CaughtMessage]]:
    return make_call("GET", tray_path(tenant, name, "/messages"), Page[CaughtMessage], cursor=cursor, **chosen)


def add_message(tenant: str, name: str, raw: bytes, mail_from: str, recipients: Sequence[str]) -> Call[CaughtMessage]:
    query: dict[str, Any] = {"mail_from": mail_from, "recipient": [*recipients]}
    path = f"/api/v1{tray_path(tenant, name, '/messages')}"
    return Call("POST", path, TypeAdapter(CaughtMessage), query, raw, "message/rfc822", False)


def empty_tray(tenant: str, name: str) -> Call[int]:
    return make_call("DELETE", tray_path(tenant, name, "/messages"), int)


def wait_for_message(tenant: str, name: str, timeout: float, **chosen: Any) -> Call[ParsedMessage]:
    return make_call("GET", tray_path(tenant, name, "/next-message"), ParsedMessage, timeout=timeout, **chosen)


def compare_messages(tenant: str, name: str, ids: Sequence[int]) -> Call[BenchComparison]:
    return make_call("GET", tray_path(tenant, name, "/comparison"), BenchComparison, message=[*ids])


def list_series(tenant: str, name: str) -> Call[Page[SeriesSummary]]:
    return make_call("GET", tray_path(tenant, name, "/series"), Page[SeriesSummary])


def get_series(tenant: str, name: str, series: str) -> Call[Series]:
    return make_call("GET", tray_path(tenant, name, "/history"), Series, template=series)


def get_message(tenant: str, name: str, id: int) -> Call[ParsedMessage]:
    return make_call("GET", tray_path(tenant, name, f"/messages/{id}"), ParsedMessage)


def delete_message(tenant: str, name: str, id: int) -> Call[None]:
    return make_call("DELETE", tray_path(tenant, name, f"/messages/{id}"), type(None))


def get_assay(tenant: str, name: str, id: int, *, again: bool) -> Call[Assay]:
    return make_call("POST" if again else "GET", tray_path(tenant, name, f"/messages/{id}/assay"), Assay)


def get_conversation(tenant: str, name: str, id: int) -> Call[Conversation]:
    return make_call("GET", tray_path(tenant, name, f"/messages/{id}/conversation"), Conversation)
