"""A run that was shared by a link, for people without an account: as a page, and as data."""

from typing import Annotated

from fastapi import APIRouter, Path
from fastapi.responses import HTMLResponse, JSONResponse, Response

from rust_gauge.contract.placement import ProviderPlacement, SharedRun
from rust_gauge.service.http.access import Ctx
from rust_gauge.service.http.pages import PRIVATE, page
from rust_gauge.service.placement.sharing import PATH, shared_run

router = APIRouter()
Link = Annotated[str, Path(min_length=20, max_length=100, pattern=r"^[A-Za-z0-9_-]+$")]
_GONE = ("This link does not open anything", "It has expired or was revoked. Ask whoever sent it for a new one.")


@router.get(PATH + "/{link}", include_in_schema=False)
def show(context: Ctx, link: Link) -> HTMLResponse:
    run = shared_run(context, link)
    if run is None:
        return page(*_GONE, status=404)
    return page(
        run.title or run.subject or "Placement", template="shared_run.html", run=run, answer=_answer(run),
        bars={each.provider: _bar(each) for each in run.providers},
        labels={each.provider: each.label for each in run.providers}, data=f"{PATH}/{link}/data",
    )  # fmt: skip


@router.get(PATH + "/{link}/data", include_in_schema=False)
def download(context: Ctx, link: Link) -> Response:
    run = shared_run(context, link)
    if run is None:
        return page(*_GONE, status=404)
    headers = {**PRIVATE, "Content-Disposition": 'attachment; filename="placement.json"'}
    return JSONResponse(run.model_dump(mode="json"), headers=headers)


def _answer(run: SharedRun) -> str:
    judged = [rate for each in run.providers if (rate := each.inbox) is not None]
    total = sum(rate.total for rate in judged)
    if not total:
        return "It is not known yet where a copy landed."
    inside = sum(rate.count for rate in judged)
    waiting = len(run.copies) - total
    rest = f" {waiting} more {'is' if waiting == 1 else 'are'} not known." if waiting else ""
    return f"{inside} of {total} copies landed in the inbox.{rest}"


def _bar(each: ProviderPlacement) -> list[tuple[str, float]]:
    """Return the parts of a bar, in percent of all copies to a provider."""
    copies = each.copies
    lost = copies.get("missing", 0) + copies.get("refused", 0)
    parts = [("inbox", copies.get("inbox", 0)), ("other", copies.get("other", 0)), ("spam", copies.get("spam", 0))]
    total = sum(copies.values()) or 1
    return [(name, round(100 * number / total, 2)) for name, number in (*parts, ("missing", lost)) if number]
