"""Take the pictures in docs/screenshots from a demo that runs: `make screenshots`.

The console in Debian's Chromium, the terminal in xterm under Xvfb (apt-get install xvfb xterm imagemagick).
"""

import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

ROOT = Path(__file__).resolve().parent.parent
OUT = ROOT / "docs" / "screenshots"
URL = os.environ.get("RUSTGAUGE_URL", "http://127.0.0.1:8850")
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]
FLAGS += ["--disable-component-update", "--disable-sync"]

PAGES = (
    # name, path, theme, width, height
    ("wall", "/", "light", 1280, 800),
    ("wall-dark", "/", "dark", 1280, 800),
    ("domain", "/domains/glasswort/news.glasswort.example?days=30", "light", 1280, 880),
    ("domain-records", "/domains/copperline/copperline.example?view=records", "light", 1280, 1000),
    ("domain-reports", "/domains/thornfield/thornfieldseeds.example?view=reports&days=90", "light", 1280, 900),
    ("warmup", "/flow?tenant=halyard&view=warmup", "light", 1280, 1150),
    ("worklist", "/worklist", "light", 1280, 900),
    ("readings", "/readings?days=30", "light", 1280, 800),
    ("report", "/report?tenant=copperline&days=7", "light", 1280, 1000),
    ("domain-setup", "/domains/glasswort/boxoffice.glasswort.example?view=setup", "light", 1280, 1300),
    ("flow", "/flow?tenant=glasswort&days=14", "light", 1280, 1180),
    ("flow-trail", "/flow?tenant=glasswort&view=trails&find=over%20quota", "dark", 1280, 800),
    ("suppression", "/suppression?tenant=thornfield", "light", 1280, 800),
    ("bench", "/bench/marram/office-bench?tenant=marram", "light", 1280, 900),
    # Numbers of a fresh demo: the newsletter by its best path, and by a relay that is on a blocklist.
    ("bench-comparison", "/bench/glasswort/paths?tenant=glasswort&compare=24,26", "light", 1280, 800),
    ("placement", "/bench?tenant=glasswort&view=placement", "light", 1280, 880),
)
COMMANDS = (
    ("terminal-wall", "wall", 168, 22),
    ("terminal-audit", "audit catalogue.thornfieldseeds.example --tenant thornfield", 112, 76),
    ("terminal-reading", "reading news.glasswort.example --tenant glasswort", 156, 30),
)


def main() -> int:
    password, token = (ROOT / "var" / "demo" / "access").read_text().split()
    OUT.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        for name, path, theme, width, height in PAGES:
            context = browser.new_context(
                viewport={"width": width, "height": height},
                color_scheme=theme,  # type: ignore[arg-type]
            )
            signed = context.request.post(
                f"{URL}/api/v1/session", data={"email": "isla@skerry.example", "password": password}
            )
            if not signed.ok:
                print(f"signing in gave {signed.status}")
                return 1
            page = context.new_page()
            page.goto(URL + path)
            page.locator("table, aside, section, iframe").first.wait_for()
            page.wait_for_load_state("networkidle")
            page.wait_for_function("() => !document.querySelector('[aria-busy=true]')")
            page.screenshot(path=OUT / f"{name}.png")
            context.close()
        browser.close()
    if shutil.which("Xvfb") and shutil.which("xterm"):
        for name, command, columns, rows in COMMANDS:
            terminal(name, command, columns, rows, token)
    return 0


def terminal(name: str, command: str, columns: int, rows: int, token: str) -> None:
    """One command as xterm shows it."""
    display = ":97"
    server = subprocess.Popen(["Xvfb", display, "-screen", "0", "1600x1000x24"], stderr=subprocess.DEVNULL)
    environment = {**os.environ, "DISPLAY": display, "RUSTGAUGE_TOKEN": token, "RUSTGAUGE_URL": URL}
    environment["PATH"] = f"{ROOT / '.venv' / 'bin'}:{environment['PATH']}"
    shell = f"printf '$ rustgauge {command}\\n'; rustgauge {command}; sleep 30"
    xterm = None
    try:
        time.sleep(1)
        xterm = subprocess.Popen(
            ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "10", "-bg", "#1A1D1F", "-fg", "#E9E5DD", "+sb",
             "-u8", "-geometry", f"{columns}x{rows}+0+0", "-e", "bash", "-c", shell],
            env=environment,
        )  # fmt: skip
        time.sleep(4)
        grab = ["import", "-display", display, "-window", "root", "-trim", "-bordercolor", "#1A1D1F", "-border", "6"]
        subprocess.run([*grab, "png:-"], check=True, stdout=(OUT / f"{name}.png").open("wb"))
    finally:
        if xterm is not None:
            xterm.terminate()
        server.terminate()
        server.wait()


if __name__ == "__main__":
    sys.exit(main())
