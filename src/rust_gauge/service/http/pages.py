"""Plain pages for people who are not signed in: confirming a proof, unsubscribing. They run no scripts."""

from fastapi.responses import HTMLResponse

from rust_gauge.service.runtime.templates import render


def page(
    title: str, text: str = "", *, template: str = "page.html", status: int = 200, **values: object
) -> HTMLResponse:
    """A page with a heading and a sentence, or from a template of its own with what that needs."""
    body = render(template, title=title, text=text, **values)
    return HTMLResponse(body, status, headers={"Cache-Control": "no-store", "Referrer-Policy": "no-referrer"})
