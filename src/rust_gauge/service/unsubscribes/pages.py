"""The page and the POST behind List-Unsubscribe (RFC 8058). Nobody signs in: the link itself proves what it may do."""

from typing import Annotated

from fastapi import APIRouter, Path, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import HTMLResponse

from rust_gauge.core.suppression.unsubscribe import POST_FIELD, is_one_click
from rust_gauge.service.http.access import Ctx
from rust_gauge.service.http.pages import page
from rust_gauge.service.unsubscribes import unsubscribes

router = APIRouter()
Token = Annotated[str, Path(min_length=20, max_length=2000, pattern=r"^[A-Za-z0-9_-]+$")]
_UNKNOWN = page("This link is not good", "A part of it may be missing. Copy all of it from the message.", status=404)


@router.get("/unsubscribe/{token}", include_in_schema=False)
def show(context: Ctx, token: Token) -> HTMLResponse:
    """Changes nothing: scanners and mail programs follow links."""
    link = unsubscribes.open_link(context, token)
    if link is None:
        return _UNKNOWN
    name, value = POST_FIELD.split("=")
    return page(
        "Unsubscribe?", template="unsubscribe.html", recipient=link.recipient, stream=link.stream, domain=link.domain,
        field=name, value=value,
    )  # fmt: skip


@router.post("/unsubscribe/{token}", include_in_schema=False)
async def unsubscribe(context: Ctx, token: Token, request: Request) -> HTMLResponse:
    """Done when this is answered. No cookie, no redirect, no second question (RFC 8058 §3.2)."""
    body = await request.body()
    if not is_one_click(body, request.headers.get("content-type", "")):
        return page("Not an unsubscribe request", f"The form field {POST_FIELD} is missing.", status=400)
    way = "page" if b"way=page" in body else "post"
    link = await run_in_threadpool(unsubscribes.unsubscribe, context, token, way)
    if link is None:
        return _UNKNOWN
    return page("Unsubscribed", f"{link.recipient} will get no more of: {link.stream or 'all mail'}.")
