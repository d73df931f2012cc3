"""Reports for clients over real parts: values, page and chart, the look of a tenant, logos, links without an account."""

import base64
import io
import re
from datetime import date, timedelta

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from rust_gauge.client import Client, ClientError, InvalidInputError, NotFoundError
from rust_gauge.contract.client_reports import NewReportShare, ReportDomain, ReportMailDay, ReportStyle
from rust_gauge.service.client_reports.drawings import MOST_BANDS, draw_days, draw_readings
from rust_gauge.service.client_reports.mailing import make_message
from rust_gauge.service.client_reports.styles import contrast_on_white
from tests.conftest import Office
from tests.rows import bounce, ndjson, row


def picture(width: int, height: int, form: str = "PNG") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (width, height), "#2F7F76").save(out, form, **({"pnginfo": None} if form == "PNG" else {}))
    return out.getvalue()


def mailed(office: Office, client: Client, *, good: int = 90, bad: int = 10, first: int = 0) -> None:
    at = (office.world.clock() - timedelta(hours=2)).isoformat()
    rows = [row(first + n, time=at) for n in range(good)]
    rows += [bounce(first + good + n, time=at) for n in range(bad)]
    client.events.load(office.slug, ndjson(*rows))


def test_page_text_and_values_of_a_report_agree(office: Office, client: Client) -> None:
    mailed(office, client)
    report = client.worklist.report(office.slug, days=7)
    delivered, bounces, delays, complaints = report.figures
    assert (delivered.count, delivered.before) == (90, 0)
    assert bounces.rate is not None
    assert (bounces.count, bounces.rate.total) == (10, 100)
    assert (delays.name, complaints.name) == ("delays", "complaints")
    assert [sum(each.delivered for each in part) for part in (report.by_day[:7], report.by_day[7:])] == [0, 90]
    assert len(report.by_day) == 14
    for shown in (report.text, report.html):
        assert "10 of 100" in shown
    assert "<script" not in report.html
    assert not re.findall(r'(?:src|href)="(?!data:)', report.html), "the page loads nothing"


def test_a_report_shows_the_look_of_its_tenant(office: Office, client: Client) -> None:
    style = ReportStyle(sender="Skerry & Sons", colour="#7A1F4B", closing="Ask isla@skerry.example <any time>")
    assert client.worklist.set_report_style(office.slug, style).logo is None
    made = client.worklist.set_report_logo(office.slug, picture(1200, 200, "JPEG"))
    assert made.logo is not None
    assert (made.logo.width, made.logo.height) == (480, 80)
    html = client.worklist.report(office.slug).html
    assert "#7A1F4B" in html
    assert "Skerry &amp; Sons" in html
    assert "&lt;any time&gt;" in html
    assert 'src="data:image/png;base64,' in html
    client.worklist.delete_report_logo(office.slug)
    assert client.worklist.report_style(office.slug).model_dump() == {**style.model_dump(), "logo": None}
    assert "<img" not in client.worklist.report(office.slug).html


@pytest.mark.parametrize(
    ("octets", "says"),
    [
        (b"", "could not be read"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "could not be read"),
        (picture(40, 20)[:60], "could not be read"),
        (picture(40, 20, "BMP"), "could not be read"),
        (picture(4000, 1001), "4,000 × 1,001 pixels; the limit is 4,000,000 pixels"),
        (picture(40, 20) + b"\0" * 512 * 1024, "octets; the limit is 524,288"),
    ],
)
def test_what_is_no_usable_logo_is_refused_and_the_old_one_stays(
    office: Office, client: Client, octets: bytes, says: str
) -> None:
    client.worklist.set_report_logo(office.slug, picture(100, 30))
    with pytest.raises(ClientError, match=re.escape(says)):
        client.worklist.set_report_logo(office.slug, octets)
    logo = client.worklist.report_style(office.slug).logo
    assert logo is not None
    assert (logo.width, logo.height) == (100, 30)


def test_nothing_but_pixels_of_a_logo_is_stored(office: Office, client: Client) -> None:
    exif = Image.Exif()
    exif[0x010E] = "taken at the office"
    out = io.BytesIO()
    Image.new("RGB", (60, 20)).save(out, "JPEG", exif=exif)
    assert b"taken at the office" in out.getvalue()
    logo = client.worklist.set_report_logo(office.slug, out.getvalue()).logo
    assert logo is not None
    kind, _, encoded = logo.address.partition(",")
    octets = base64.b64decode(encoded)
    assert (kind, len(octets)) == ("data:image/png;base64", logo.octets)
    assert b"office" not in octets
    assert Image.open(io.BytesIO(octets)).size == (60, 20)


def test_mail_has_logo_and_colour_and_all_of_its_pictures_inside(office: Office, client: Client) -> None:
    mailed(office, client)
    client.worklist.set_report_style(
        office.slug, ReportStyle(sender="Skerry", colour="#7A1F4B", closing="Until Monday")
    )
    client.worklist.set_report_logo(office.slug, picture(240, 60))
    message = make_message(office.world.context, office.tenant, client.worklist.report(office.slug))
    html = message.get_body(("related", "html"))
    assert html is not None
    text, *pictures = html.iter_parts()
    page = text.get_content()
    assert "#7A1F4B" in page
    assert "Until Monday" in page
    assert {f"cid:{each['Content-ID'][1:-1]}" for each in pictures} == set(re.findall('src="([^"]+)"', page))
    assert pictures, "the logo at least"


@pytest.mark.parametrize("colour", ["#FFFFFF", "#F6F3EE", "#D3A941"])
def test_a_colour_that_is_hard_to_read_is_refused_with_its_contrast(
    office: Office, client: Client, colour: str
) -> None:
    with pytest.raises(InvalidInputError, match=f"{colour} on white has a contrast of [0-9.]+ to 1"):
        client.worklist.set_report_style(office.slug, ReportStyle(colour=colour))


def test_contrast_is_that_of_the_standard() -> None:
    assert contrast_on_white("#000000") == pytest.approx(21)
    assert contrast_on_white("#ffffff") == pytest.approx(1)
    assert contrast_on_white("#767676") == pytest.approx(4.54, abs=0.01)


def test_a_link_shows_the_report_as_it_was_shared_until_it_is_revoked(office: Office, client: Client) -> None:
    mailed(office, client)
    made = client.worklist.add_report_share(office.slug, NewReportShare(days=7, note="for Monday"))
    url = office.world.url + made.url[made.url.index("/shared-report/") :]
    mailed(office, client, good=50, bad=50, first=1000)
    assert "60 of 200" in client.worklist.report(office.slug).html
    client.worklist.set_report_style(office.slug, ReportStyle(sender="Another name"))
    opened = httpx.get(url)
    assert opened.status_code == 200
    assert "10 of 100" in opened.text
    assert "Another name" not in opened.text
    assert opened.headers["Cache-Control"] == "no-store"
    assert opened.headers["Referrer-Policy"] == "no-referrer"
    (link,) = client.worklist.report_shares(office.slug)
    assert (link.note, link.opened) == ("for Monday", 1)
    assert made.url.rpartition("/")[2] not in link.model_dump_json()
    client.worklist.delete_report_share(office.slug, link.id)
    assert httpx.get(url).status_code == 404
    with pytest.raises(NotFoundError):
        client.worklist.delete_report_share(office.slug, link.id)


def test_a_link_ends_by_itself(office: Office, client: Client) -> None:
    made = client.worklist.add_report_share(office.slug, NewReportShare(valid_days=1))
    url = office.world.url + made.url[made.url.index("/shared-report/") :]
    assert httpx.get(url).status_code == 200
    with office.world.clock.later(timedelta(days=1, minutes=1)):
        assert httpx.get(url).status_code == 404
        assert client.worklist.report_shares(office.slug) == []


domain_values = st.builds(
    ReportDomain,
    name=st.text(max_size=80), start=st.none() | st.floats(0, 100), end=st.none() | st.floats(0, 100),
    change=st.none() | st.integers(-100, 100), condition=st.sampled_from(["", "sound", "seized"]), factor=st.just(""),
    trend=st.lists(st.none() | st.floats(0, 100), max_size=40),
)  # fmt: skip


@given(st.lists(domain_values, max_size=MOST_BANDS + 3), st.integers(1, 90))
def test_a_drawing_of_any_readings_is_well_formed(domains: list[ReportDomain], days: int) -> None:
    drawn = draw_readings(domains, days)
    assert drawn.count("<svg") == drawn.count("</svg>") == 1
    assert "nan" not in drawn
    assert "<script" not in drawn
    assert drawn.count('font-size="20"') == min(len(domains), MOST_BANDS)


@given(st.lists(st.integers(0, 10**9), min_size=1, max_size=180), st.integers(1, 90))
def test_no_bar_or_line_of_a_drawing_leaves_its_chart(delivered: list[int], days: int) -> None:
    by_day = [
        ReportMailDay(day=date(2026, 6, 1) + timedelta(n), delivered=d, bounced=0) for n, d in enumerate(delivered)
    ]
    drawn = draw_days(by_day, days, "#2F7F76")
    heights = [float(height) for height in re.findall(r'<rect [^>]*height="([0-9.]+)"', drawn)]
    assert len(heights) == min(days, len(delivered))
    assert all(0 <= height <= 150.1 for height in heights)
