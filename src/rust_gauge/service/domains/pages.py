"""The page behind the link of a proof's message. Opening it proves nothing, since scanners do; its button does."""

from typing import Annotated

from fastapi import APIRouter, Path
from fastapi.responses import HTMLResponse

from rust_gauge.service.domains import proofs
from rust_gauge.service.http.access import Ctx
from rust_gauge.service.http.pages import page

router = APIRouter()
_EXPIRED = ("This link has expired", "Links are valid once and for 24 hours. Request a new message.")
Link = Annotated[str, Path(min_length=20, max_length=100, pattern=r"^[A-Za-z0-9_-]+$")]


@router.get("/confirm/{link}", include_in_schema=False)
def show(context: Ctx, link: Link) -> HTMLResponse:
    subject = proofs.subject_of_link(context, link)
    if subject is None:
        return page(*_EXPIRED, status=404)
    return page(f"Is {subject} yours?", template="confirm.html")


@router.post("/confirm/{link}", include_in_schema=False)
def confirm(context: Ctx, link: Link) -> HTMLResponse:
    subject = proofs.confirm_link(context, link)
    if subject is None:
        return page(*_EXPIRED, status=404)
    return page(f"{subject} is verified", "You can close this page.")
