"""Plain pages for people who are not signed in: confirming a proof, unsubscribing. They run no scripts."""

from fastapi.responses import HTMLResponse

from rust_gauge.service.runtime.templates import render

PRIVATE = {"Cache-Control": "no-store", "Referrer-Policy": "no-referrer", "X-Robots-Tag": "noindex, nofollow"}
"""Headers of what a link shows to whoever has it: stored nowhere, passed on to nobody, in no index."""


def page(
    title: str, text: str = "", *, template: str = "page.html", status: int = 200, **values: object
) -> HTMLResponse:
    """A page with a heading and a sentence, or from a template of its own with what that needs."""
    body = render(template, title=title, text=text, **values)
    return HTMLResponse(body, status, headers=PRIVATE)
