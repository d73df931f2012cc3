"""MTA-STS policies (RFC 8461 §3.3), served by the host that they are asked at: `mta-sts.<domain>`."""

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse

from rust_gauge.service.http.access import Ctx
from rust_gauge.service.plans import sts

router = APIRouter()


@router.get("/.well-known/mta-sts.txt", include_in_schema=False)
def serve_policy(context: Ctx, request: Request) -> PlainTextResponse:
    text = sts.policy_for(context, request.headers.get("host", ""))
    if not text:
        return PlainTextResponse("No MTA-STS policy is served for this host.\n", status_code=404)
    return PlainTextResponse(text.replace("\n", "\r\n"), headers={"cache-control": "max-age=300"})
