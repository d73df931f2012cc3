"""A report that was shared by a link, for people without an account."""

from typing import Annotated

from fastapi import APIRouter, Path
from fastapi.responses import HTMLResponse

from rust_gauge.service.client_reports.sharing import PATH, shared_page
from rust_gauge.service.http.access import Ctx
from rust_gauge.service.http.pages import PRIVATE, page

router = APIRouter()
Link = Annotated[str, Path(min_length=20, max_length=100, pattern=r"^[A-Za-z0-9_-]+$")]
_GONE = ("This link does not open anything", "It has expired or was revoked. Ask whoever sent it for a new one.")


@router.get(PATH + "/{link}", include_in_schema=False)
def show(context: Ctx, link: Link) -> HTMLResponse:
    found = shared_page(context, link)
    return page(*_GONE, status=404) if found is None else HTMLResponse(found, headers=PRIVATE)
