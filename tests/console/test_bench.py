"""The bench in a browser: a hostile message is shown, and runs nothing, loads nothing and reaches nothing."""

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.vectors.assay_messages import APPLIES, message


@pytest.fixture
def outside() -> Iterator[tuple[str, list[str]]]:
    """A web server that hostile messages point to, and the paths that were asked of it."""
    asked: list[str] = []

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b"parent.document.title = 'reached'")

        def log_message(self, *_: object) -> None:
            pass

    server = HTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield f"http://127.0.0.1:{server.server_port}", asked
    server.shutdown()
    thread.join()
    server.server_close()


HOSTILE = """<html><head><style>@import url(OUT/import.css); p { background: url(OUT/sheet.png) }
@font-face { font-family: x; src: url(OUT/font.woff) }</style>
<link rel="stylesheet" href="OUT/link.css"><base href="OUT/"><meta http-equiv="refresh" content="0;url=OUT/refresh"></head>
<body onload="parent.document.title='reached'" background="OUT/body.png">
<p id="read">Read me</p><script>parent.document.title = 'reached'; fetch('OUT/fetch')</script><script src="OUT/script.js"></script>
<img src="OUT/image.png" onerror="parent.document.title='reached'" alt="The stage" width="60" height="30">
<img srcset="OUT/set.png 2x"><video src="OUT/video.mp4" poster="OUT/poster.png" autoplay></video><audio src="OUT/a.mp3"></audio>
<iframe src="OUT/frame"></iframe><object data="OUT/object"></object><embed src="OUT/embed">
<svg><image href="OUT/svg.png"/><script>parent.document.title = 'reached'</script></svg>
<div style="width:9px;height:9px;background-image:url('OUT/style.png');content:url(OUT/content.png)">x</div>
<form id="f" action="OUT/form"><input autofocus onfocus="parent.document.title='reached'"><button>Send</button></form>
<p><a href="OUT/link" target="_top" ping="OUT/ping">Leave</a> <a href="javascript:parent.document.title='reached'">Run</a></p>
</body></html>"""


def examine(page: Page, path: Path) -> None:
    page.goto("/bench")
    page.locator("input[type=file]").set_input_files(path)
    expect(page.get_by_role("status").filter(has_text="Mark")).to_contain_text("Mark")


def test_a_message_is_examined_and_looked_at_from_every_side(page: Page, tmp_path: Path) -> None:
    (tmp_path / "a.eml").write_bytes(APPLIES["link-text-differs"]())
    examine(page, tmp_path / "a.eml")
    first = page.get_by_role("list", name="Findings").get_by_role("listitem").first
    expect(first).to_contain_text("No DKIM signature")
    page.get_by_role("button", name="Group").click()
    page.get_by_role("option", name="Links").click()
    expect(first).to_contain_text("A link shows glasswort.example and leads to driftline.example")
    page.get_by_role("tab", name="Links").click()
    expect(page.get_by_role("table", name="Links")).to_contain_text("https://driftline.example/c")
    page.get_by_role("tab", name="Parts").click()
    expect(page.get_by_role("table", name="Parts")).to_contain_text("text/html")


def test_a_hostile_message_runs_nothing_loads_nothing_and_reaches_nothing(
    page: Page, tmp_path: Path, outside: tuple[str, list[str]]
) -> None:
    url, asked = outside
    (tmp_path / "a.eml").write_bytes(message(html=HOSTILE.replace("OUT", url), text=None))
    examine(page, tmp_path / "a.eml")
    title = page.title()
    page.get_by_role("tab", name="Preview").click()
    inner = page.frame_locator("iframe[title='The message as a reader would see it']")
    expect(inner.locator("#read")).to_have_text("Read me")
    expect(inner.get_by_text("The stage")).to_be_visible()
    inner.get_by_text("Leave").click()
    inner.get_by_text("Run").click()
    inner.get_by_text("Send").click()
    frame = next(each for each in page.frames if each != page.main_frame)
    reach = "() => { try { return parent.document.title } catch (error) { return 'refused' } }"
    assert frame.evaluate(reach) == "refused"
    expect(page.get_by_role("heading", name="Bench")).to_be_visible()
    assert page.title() == title
    assert asked == []
