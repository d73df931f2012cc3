"""The bench under /api/v1: trays and the messages that they caught."""

from typing import Annotated

from fastapi import Depends, Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

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
from rust_gauge.contract.common import Moment, Page
from rust_gauge.service.bench import examining, messages, series, trays
from rust_gauge.service.bench.messages import Wanted
from rust_gauge.service.http.access import Ctx, Tenant
from rust_gauge.service.http.parameters import NEVER_SHOWN, Cursor, Limit
from rust_gauge.service.http.routing import api_router

router = api_router()
Name = Annotated[str, Path(max_length=40, description="Name of the tray")]
Id = Annotated[int, Path(ge=1, lt=2**63, description="Number of the message")]
_Text = Annotated[str, Query(max_length=320)]


def _wanted(
    recipient: Annotated[str, Query(max_length=320, description="Envelope recipient, whole")] = "",
    subject: Annotated[str, Query(max_length=500, description="Part of the subject, in any case")] = "",
    header_from: Annotated[str, Query(max_length=320, description="Part of the From address, in any case")] = "",
    header: Annotated[
        str, Query(max_length=500, description="Name of a header field, or name and part of its value after a colon")
    ] = "",
    since: Annotated[Moment | None, Query(description="Arrived at this time or later")] = None,
    after: Annotated[int | None, Query(ge=0, lt=2**63, description="Caught after the message of this number")] = None,
) -> Wanted:
    return Wanted(recipient, subject, header_from, header, since, after)


Filter = Annotated[Wanted, Depends(_wanted)]


@router.get("/tenants/{tenant}/trays", tags=["bench"], operation_id="list_trays")
def list_trays(context: Ctx, tenant: Tenant) -> Page[Tray]:
    """List the trays."""
    return Page(items=trays.list_trays(context, tenant))


@router.post("/tenants/{tenant}/trays", tags=["bench"], status_code=201, operation_id="add_tray")
def add_tray(context: Ctx, tenant: Tenant, body: NewTray) -> MadeTray:
    """Add a tray. Its SMTP password is in this answer and is not shown again."""
    return trays.add_tray(context, tenant, body)


@router.get("/tenants/{tenant}/trays/{name}", tags=["bench"], operation_id="get_tray")
def get_tray(context: Ctx, tenant: Tenant, name: Name) -> Tray:
    """Return a tray."""
    return trays.get_tray(context, tenant, name)


@router.patch("/tenants/{tenant}/trays/{name}", tags=["bench"], operation_id="update_tray")
def update_tray(context: Ctx, tenant: Tenant, name: Name, body: TrayChange) -> Tray:
    """Change settings of a tray."""
    return trays.update_tray(context, tenant, name, body)


@router.delete("/tenants/{tenant}/trays/{name}", tags=["bench"], status_code=204, operation_id="delete_tray")
def delete_tray(context: Ctx, tenant: Tenant, name: Name) -> None:
    """Delete a tray and its messages."""
    trays.delete_tray(context, tenant, name)


@router.post("/tenants/{tenant}/trays/{name}/rotation", tags=["bench"], operation_id="rotate_tray_password")
def rotate_tray_password(context: Ctx, tenant: Tenant, name: Name) -> MadeTray:
    """Give a tray a new SMTP password, which is in this answer only. The one before is refused from now on."""
    return trays.rotate_password(context, tenant, name)


@router.get("/tenants/{tenant}/trays/{name}/connection", tags=["bench"], operation_id="get_tray_connection")
def get_tray_connection(context: Ctx, tenant: Tenant, name: Name) -> TrayConnection:
    """Return how to send to a tray, as settings ready to copy."""
    return trays.connection_of(context, tenant, name)


@router.get("/tenants/{tenant}/trays/{name}/messages", tags=["bench"], operation_id="list_caught_messages")
def list_caught_messages(
    context: Ctx, tenant: Tenant, name: Name, recipient: _Text = "",
    subject: Annotated[str, Query(max_length=500, description="Part of the subject, in any case")] = "",
    header_from: _Text = "",
    template: Annotated[str, Query(max_length=200, description="Messages of this series only")] = "",
    since: Annotated[Moment | None, Query(description="Arrived at this time or later")] = None,
    cursor: Cursor = None, limit: Limit = 100,
) -> Page[CaughtMessage]:  # fmt: skip
    """List the messages of a tray, newest first."""
    wanted = Wanted(recipient, subject, header_from, "", since)
    return messages.list_messages(context, tenant, name, wanted, template, cursor, limit)


@router.post(
    "/tenants/{tenant}/trays/{name}/messages", tags=["bench"], status_code=201, operation_id="add_caught_message"
)
async def add_caught_message(
    context: Ctx, tenant: Tenant, name: Name, request: Request,
    mail_from: Annotated[str, Query(max_length=320, description="MAIL FROM")] = "",
    recipient: Annotated[
        list[str] | None, Query(max_length=100, description="Envelope recipient; repeatable. Default: To and Cc")
    ] = None,
) -> CaughtMessage:  # fmt: skip
    """Put a message into a tray, as if it had been sent there."""
    raw = await request.body()
    return await run_in_threadpool(messages.upload, context, tenant, name, raw, mail_from, recipient or [])


@router.delete(
    "/tenants/{tenant}/trays/{name}/messages", tags=["bench"], operation_id="empty_tray",
)  # fmt: skip
def empty_tray(context: Ctx, tenant: Tenant, name: Name) -> int:
    """Delete all messages of a tray, and return how many."""
    return trays.empty_tray(context, trays.find_tray(context, tenant, name))


@router.get("/tenants/{tenant}/trays/{name}/next-message", tags=["bench"], operation_id="wait_for_message")
async def wait_for_message(
    context: Ctx, tenant: Tenant, name: Name, wanted: Filter,
    timeout: Annotated[float, Query(ge=0, le=60, description="Seconds to wait")] = 30,
) -> ParsedMessage:  # fmt: skip
    """Wait for a message and return it, read. With `after` or `since` the first one behind it, else the newest one.

    `no-message` (404) when none came in time.
    """
    return await messages.wait(context, tenant, name, wanted, timeout)


@router.get("/tenants/{tenant}/trays/{name}/comparison", tags=["bench"], operation_id="compare_caught_messages")
def compare_caught_messages(
    context: Ctx, tenant: Tenant, name: Name,
    message: Annotated[list[int], Query(min_length=2, max_length=6, description="Numbers of two to six messages")],
) -> BenchComparison:  # fmt: skip
    """Compare messages with the first of them: what differs, and which difference accounts for each point."""
    return messages.compare_messages(context, tenant, name, message)


@router.get("/tenants/{tenant}/trays/{name}/series", tags=["bench"], operation_id="list_series")
def list_series(context: Ctx, tenant: Tenant, name: Name) -> Page[SeriesSummary]:
    """List the templates whose messages are in a tray, those with the newest message first."""
    return Page(items=series.list_series(context, tenant, name))


@router.get("/tenants/{tenant}/trays/{name}/history", tags=["bench"], operation_id="get_series")
def get_series(
    context: Ctx, tenant: Tenant, name: Name,
    template: Annotated[str, Query(max_length=200, description="The series, as messages name it")],
) -> Series:  # fmt: skip
    """Return the history of a template: marks over time, their spread, and how much of it goes with the path."""
    return series.get_series(context, tenant, name, template)


@router.get("/tenants/{tenant}/trays/{name}/messages/{id}", tags=["bench"], operation_id="get_caught_message")
def get_caught_message(context: Ctx, tenant: Tenant, name: Name, id: Id) -> ParsedMessage:
    """Return a message, read: header, text, HTML, links, attachments and codes."""
    return messages.get_message(context, tenant, name, id)


@router.delete(
    "/tenants/{tenant}/trays/{name}/messages/{id}", tags=["bench"], status_code=204,
    operation_id="delete_caught_message",
)  # fmt: skip
def delete_caught_message(context: Ctx, tenant: Tenant, name: Name, id: Id) -> None:
    """Delete a message."""
    messages.delete_message(context, tenant, name, id)


@router.get("/tenants/{tenant}/trays/{name}/messages/{id}/assay", tags=["bench"], operation_id="get_caught_assay")
def get_caught_assay(context: Ctx, tenant: Tenant, name: Name, id: Id) -> Assay:
    """Return the assay of a message, as it was when the message came; it is made now if that is still to be done."""
    tray, row = messages.find_message(context, tenant, name, id)
    return examining.assay_of(context, tenant, tray, row)


@router.post(
    "/tenants/{tenant}/trays/{name}/messages/{id}/assay", tags=["bench"], operation_id="recheck_caught_message"
)
def recheck_caught_message(context: Ctx, tenant: Tenant, name: Name, id: Id) -> Assay:
    """Examine a message again, with DNS and settings as they are now."""
    tray, row = messages.find_message(context, tenant, name, id)
    return examining.assay_of(context, tenant, tray, row, again=True)


@router.get(
    "/tenants/{tenant}/trays/{name}/messages/{id}/conversation", tags=["bench"], operation_id="get_conversation"
)
def get_conversation(context: Ctx, tenant: Tenant, name: Name, id: Id) -> Conversation:
    """Return the SMTP conversation in which a message came."""
    return messages.conversation(context, tenant, name, id)


@router.get("/tenants/{tenant}/trays/{name}/messages/{id}/source", tags=["bench"], operation_id="get_caught_source")
def get_caught_source(context: Ctx, tenant: Tenant, name: Name, id: Id) -> Response:
    """Return the octets of a message, exactly as they came."""
    raw = messages.source(context, tenant, name, id)
    headers = {**NEVER_SHOWN, "Content-Disposition": f'attachment; filename="message-{id}.eml"'}
    return Response(raw, media_type="message/rfc822", headers=headers)


@router.get(
    "/tenants/{tenant}/trays/{name}/messages/{id}/parts/{number}", tags=["bench"], operation_id="get_caught_part"
)
def get_caught_part(
    context: Ctx, tenant: Tenant, name: Name, id: Id, number: Annotated[str, Path(pattern=r"^[0-9.]{1,40}$")]
) -> Response:
    """Return the decoded octets of one part, such as an attachment."""
    octets = messages.attachment(context, tenant, name, id, number)
    headers = {**NEVER_SHOWN, "Content-Disposition": f'attachment; filename="message-{id}-part-{number}"'}
    return Response(octets, media_type="application/octet-stream", headers=headers)
