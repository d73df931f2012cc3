"""The look of a tenant's reports: whose report it is, a colour, a logo and a closing text.

A logo is decoded and written again as a PNG, so that nothing but pixels of it is sent to clients.
"""

import base64
import io
from dataclasses import dataclass
from typing import Any

from PIL import Image
from sqlalchemy import Connection

from rust_gauge.contract.client_reports import LOGO_MOST, ReportLogo, ReportStyle, ReportStyleShown
from rust_gauge.service.runtime.context import Context
from rust_gauge.service.runtime.problems import ServiceProblem
from rust_gauge.store import audits as store_settings
from rust_gauge.store.accounts import TenantAccess

_STYLE, _LOGO = "report_style", "report_logo"
_CONTRAST = 4.5  # to 1, of text on white (WCAG 2.2, 1.4.3)
_MOST_PIXELS = 4_000_000  # of an uploaded picture: one that unfolds to more is refused before it is decoded
_WIDTH, _HEIGHT = 480, 144  # a logo is made smaller until it fits: twice what is shown, for dense screens
_FORMATS = ("PNG", "JPEG")


@dataclass(frozen=True, slots=True)
class Logo:
    """A PNG and its size in pixels."""

    png: bytes
    width: int
    height: int

    @property
    def shown(self) -> tuple[int, int]:
        """Width and height as it is shown, in pixels of a page."""
        return (self.width + 1) // 2, (self.height + 1) // 2

    @property
    def address(self) -> str:
        """The picture as an address that holds it (RFC 2397)."""
        return f"data:image/png;base64,{base64.b64encode(self.png).decode()}"


def get_style(context: Context, tenant: TenantAccess) -> ReportStyleShown:
    """Return the look of the reports."""
    style, logo = context.store.transaction(lambda c: look_of(c, tenant.id))
    shown = (
        None
        if logo is None
        else ReportLogo(width=logo.width, height=logo.height, octets=len(logo.png), address=logo.address)
    )
    return ReportStyleShown(**style.model_dump(), logo=shown)


def put_style(context: Context, tenant: TenantAccess, style: ReportStyle) -> ReportStyleShown:
    """Store the look; the logo stays. ServiceProblem `invalid-request` for a colour that is hard to read on white."""
    found = contrast_on_white(style.colour)
    if found < _CONTRAST:
        raise ServiceProblem(
            "invalid-request", f"colour: {style.colour} on white has a contrast of {found:.1f} to 1; "
            f"{_CONTRAST} to 1 is needed", remedy="Choose a darker colour",
        )  # fmt: skip
    document = style.model_dump(mode="json")
    context.store.transaction(
        lambda c: store_settings.put_setting(c, tenant.id, _STYLE, document, context.clock())
    )  # fmt: skip
    return get_style(context, tenant)


def put_logo(context: Context, tenant: TenantAccess, octets: bytes) -> ReportStyleShown:
    """Store a logo. ServiceProblem `too-large` or `invalid-request` for what is no PNG or JPEG picture."""
    logo = read_logo(octets)
    document: dict[str, Any] = {
        "png": base64.b64encode(logo.png).decode(), "width": logo.width, "height": logo.height,
    }  # fmt: skip
    context.store.transaction(lambda c: store_settings.put_setting(c, tenant.id, _LOGO, document, context.clock()))
    return get_style(context, tenant)


def delete_logo(context: Context, tenant: TenantAccess) -> None:
    """Delete the logo, if there is one."""
    context.store.transaction(lambda c: store_settings.drop_setting(c, tenant.id, _LOGO))


def look_of(connection: Connection, tenant_id: int) -> tuple[ReportStyle, Logo | None]:
    """Return a tenant's style and logo."""
    style = ReportStyle.model_validate(store_settings.get_setting(connection, tenant_id, _STYLE) or {})
    stored = store_settings.get_setting(connection, tenant_id, _LOGO)
    if stored is None:
        return style, None
    return style, Logo(base64.b64decode(stored["png"]), stored["width"], stored["height"])


def read_logo(octets: bytes) -> Logo:
    """Decode a picture and make it small enough. ServiceProblem for what cannot be used, before it is decoded."""
    if len(octets) > LOGO_MOST:
        raise ServiceProblem(
            "too-large", f"The logo has {len(octets):,} octets; the limit is {LOGO_MOST:,}", remedy="Save it smaller"
        )
    try:
        picture = Image.open(io.BytesIO(octets), formats=_FORMATS)
        if picture.width * picture.height > _MOST_PIXELS:
            raise ServiceProblem(
                "too-large", f"The logo has {picture.width:,} × {picture.height:,} pixels; the limit is "
                f"{_MOST_PIXELS:,} pixels", remedy=f"It is shown at most {_WIDTH // 2} pixels wide: save it smaller",
            )  # fmt: skip
        picture.load()
        plain = picture.convert("RGBA")
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError):  # what decoders raise for broken files
        raise ServiceProblem(
            "invalid-request", "The logo could not be read as a PNG or JPEG picture", remedy="Save it as PNG or JPEG"
        ) from None
    plain.thumbnail((_WIDTH, _HEIGHT), Image.Resampling.LANCZOS)
    out = io.BytesIO()
    plain.save(out, "PNG", optimize=True)
    return Logo(out.getvalue(), plain.width, plain.height)


def contrast_on_white(colour: str) -> float:
    """Return the contrast of a colour, #RRGGBB, on white, 1 to 21 (WCAG 2.2, contrast ratio)."""
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 1.05 / (0.2126 * red + 0.7152 * green + 0.0722 * blue + 0.05)
