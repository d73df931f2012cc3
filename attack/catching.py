"""The bench under mail: 50 messages a second for a while, and messages that are made to be too much.

Memory of the process that catches stays flat, nothing is lost, and hostile messages cost little.
"""

import json
import smtplib
import ssl
import statistics
import threading
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

from attack.site import TENANT, Site

RATE, _CONNECTIONS = 50, 5
_TRAY = "catching"
_MEMORY = 1.15  # last third beside the second: at most so much more
_ROW = '<tr><td style="padding:4px"><a href="https://news.glasswort.example/p/{0}">Seats in row {0}</a></td></tr>\n'


def message(number: int, rows: int = 150) -> bytes:
    """Return a message of some 20 kB, or as large as so many rows make it."""
    table = "".join(_ROW.format(n) for n in range(rows))
    return (
        f"From: news@news.glasswort.example\r\nTo: kim{number}@tidepost.example\r\nSubject: Seats {number}\r\n"
        f"Message-ID: <{number}@news.glasswort.example>\r\nMIME-Version: 1.0\r\n"
        "Content-Type: text/html; charset=utf-8\r\n\r\n"
        f'<html lang="en"><body><table role="presentation">\n{table}</table></body></html>\r\n'
    ).replace("\n", "\r\n").replace("\r\r", "\r").encode()  # fmt: skip


def hostile() -> dict[str, bytes]:
    """Return messages that are small to send, or as large as may be, and cost much if nothing bounds them."""
    head = b"From: a@d.example\r\nSubject: %s\r\nMIME-Version: 1.0\r\n"
    html = b"Content-Type: text/html\r\n\r\n"
    archive = b"Content-Type: application/zip\r\nContent-Transfer-Encoding: base64\r\n\r\n"
    nested = b"".join(b'Content-Type: multipart/mixed; boundary="b%d"\r\n\r\n--b%d\r\n' % (n, n) for n in range(5000))
    parts = b"--b\r\nContent-Type: text/plain\r\n\r\nx\r\n" * 50_000 + b"--b--\r\n"
    rows = b"".join(_ROW.format(n).encode() for n in range(110_000))
    zeros = b"UEsDBBQAAAAIAAAAIQ" + b"A" * 5_000_000
    return {
        "39 MB in one part": head % b"large" + b"Content-Type: text/plain\r\n\r\n" + (b"x" * 998 + b"\r\n") * 39_000,
        "39 MB of empty lines": head % b"lines" + b"\r\n" + b"\r\n" * 19_500_000,
        "5,000 levels": head % b"deep" + nested,
        "50,000 parts": head % b"parts" + b'Content-Type: multipart/mixed; boundary="b"\r\n\r\n' + parts,
        "10 MB of HTML": head % b"html" + html + b"<table>" + rows + b"</table>",
        "300,000 nested elements": head % b"tags" + html + b"<div>" * 300_000,
        "2 MB of style": head % b"css" + html + b"<style>" + b"p{color:red}" * 170_000 + b"</style>",
        "an archive of 5 MB": head % b"zip" + archive + zeros,
        "40,000 fields": head % b"fields" + b"X-A: b\r\n" * 40_000 + b"\r\nx",
    }  # fmt: skip


def run(site: Site, minutes: float) -> bool:
    """Print a line a minute, then one for each hostile message; return whether all was as promised."""
    tray = _call(site, "POST", "trays", {"name": _TRAY, "max_bytes": 40 * 2**20, "keep_messages": 2000})
    there = _call(site, "GET", f"trays/{_TRAY}/connection")
    flat = _steady(site, there, tray["password"], minutes)
    return _bounded(site, there, tray["password"]) and flat


def _call(site: Site, method: str, path: str, body: object = None) -> Any:
    request = urllib.request.Request(
        f"{site.url}/api/v1/tenants/{TENANT}/{path}", json.dumps(body).encode() if body is not None else None,
        {"Authorization": f"Bearer {site.token}", "Content-Type": "application/json"}, method=method,
    )  # fmt: skip
    with urllib.request.urlopen(request, timeout=120) as answer:
        return json.loads(answer.read())


def _session(there: dict[str, object], password: object) -> smtplib.SMTP:
    session = smtplib.SMTP(str(there["host"]), int(str(there["starttls_port"])), timeout=300)
    session.starttls(context=ssl.create_default_context(cadata=str(there["certificate"])))
    session.login(str(there["smtp_user"]), str(password))
    return session


def _steady(site: Site, there: dict[str, object], password: object, minutes: float) -> bool:
    stop, sent, failed = threading.Event(), [0] * _CONNECTIONS, [0] * _CONNECTIONS
    took: list[float] = []

    def send(number: int) -> None:
        session, due = _session(there, password), time.monotonic()
        while not stop.is_set():
            due += _CONNECTIONS / RATE
            time.sleep(max(0.0, due - time.monotonic()))
            began = time.monotonic()
            try:
                session.sendmail("a@news.glasswort.example", ["kim@tidepost.example"], message(sent[number]))
                sent[number] += 1
                took.append(time.monotonic() - began)
            except (OSError, smtplib.SMTPException):
                failed[number] += 1
                session = _session(there, password)

    threads = [threading.Thread(target=send, args=(n,), daemon=True) for n in range(_CONNECTIONS)]
    for thread in threads:
        thread.start()
    memory: list[float] = []
    done = 0
    for step in range(int(minutes * 6)):
        time.sleep(10)
        memory.append(site.memory()["bench"])
        if step % 6 == 5:
            minute, done, taken = sum(sent) - done, sum(sent), sorted(took)
            took.clear()
            print(
                f"minute {step // 6 + 1}: {minute / 60:.1f} messages a second, 95 % within "
                f"{taken[int(len(taken) * 0.95)] * 1000:.0f} ms, the longest {taken[-1] * 1000:.0f} ms; "
                f"{sum(failed)} failed; the bench has {memory[-1]:.0f} MB",
                flush=True,
            )
    stop.set()
    for thread in threads:
        thread.join(30)
    third = max(1, len(memory) // 3)
    grown = statistics.mean(memory[-third:]) / statistics.mean(memory[third : 2 * third] or memory)
    begun = time.monotonic()
    waiting = _wait_for(site, lambda row: row["state"] in ("examined", "failed"))
    print(
        f"{sum(sent)} messages, {sum(failed)} failed; memory of the last third beside the second: {grown:.2f}; the "
        f"rest examined {time.monotonic() - begun:.0f} s later" + ("" if waiting else " (not all within 10 minutes)"),
        flush=True,
    )
    return grown <= _MEMORY and sum(failed) == 0


def _wait_for(site: Site, is_done: Callable[[dict[str, str]], bool], within: float = 600) -> bool:
    end = time.monotonic() + within
    while time.monotonic() < end:
        rows = _call(site, "GET", f"trays/{_TRAY}/messages?limit=1000")["items"]
        if all(is_done(row) for row in rows):
            return True
        time.sleep(0.5)
    return False


def _bounded(site: Site, there: dict[str, object], password: object) -> bool:
    good = True
    for name, raw in hostile().items():
        _call(site, "DELETE", f"trays/{_TRAY}/messages")
        for pid in site.parts().values():
            Path(f"/proc/{pid}/clear_refs").write_text("5")  # the peak is counted from now on
        before = site.memory()
        began = time.monotonic()
        session = _session(there, password)
        session.sendmail("a@d.example", ["kim@tidepost.example"], raw)
        caught = time.monotonic() - began
        ended = _wait_for(site, lambda row: row["state"] in ("examined", "failed"), 120)
        took = time.monotonic() - began - caught
        peaks = {part: _peak(pid) - before.get(part, 0.0) for part, pid in site.parts().items() if part != "mariadb"}
        most = max((value, part) for part, value in peaks.items() if part.startswith(("bench", "worker", "service")))
        print(
            f"{name}: {len(raw) / 2**20:.1f} MB caught within {caught:.1f} s, examined {took:.1f} s later; the most "
            f"memory that a process took for it: {most[0]:.0f} MB ({most[1]})",
            flush=True,
        )
        good = good and ended and most[0] < 600
        session.close()
    return good


def _peak(pid: int) -> float:
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) / 1024 for line in lines if line.startswith("VmHWM"))
