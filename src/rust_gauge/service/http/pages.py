"""Plain pages for people who are not signed in: confirming a proof, unsubscribing."""

from fastapi.responses import HTMLResponse


def page(title: str, body: str, status: int = 200) -> HTMLResponse:
    """Plain HTML without scripts or styles from elsewhere. `title` and `body` are HTML already."""
    text = (
        f"<!doctype html><html lang=en><meta charset=utf-8><meta name=viewport content='width=device-width'>"
        f"<meta name=robots content=noindex><title>{title}</title><body><h1>{title}</h1><p>{body}</p></body></html>"
    )
    return HTMLResponse(text, status, headers={"Cache-Control": "no-store", "Referrer-Policy": "no-referrer"})
