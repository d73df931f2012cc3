"""Messages for assays: one that nothing is wrong with, and for each rule what makes it apply."""

import base64
from collections.abc import Callable

WORDS = "Spring tickets at the Glasswort Theatre are on sale from Friday, and members may choose their seats before all others do."
FOOTER = "You receive this because you signed up. Glasswort Theatre, 4 Harbour Street, Skerry."
HEADER = {
    "From": "Glasswort Theatre <boxoffice@news.glasswort.example>",
    "To": "kim@tidepost.example",
    "Subject": "Spring tickets from Friday",
    "Date": "Mon, 30 Nov 2026 09:00:00 +0000",
    "Message-ID": "<1.spring@news.glasswort.example>",
    "List-Unsubscribe": "<https://news.glasswort.example/u/1>",
    "List-Unsubscribe-Post": "List-Unsubscribe=One-Click",
    "MIME-Version": "1.0",
}
LINK = "https://news.glasswort.example/spring"
HTML = (
    f'<html lang="en"><body><div style="display:none">Members choose first</div><p>{WORDS}</p>'
    f'<p><a href="{LINK}">Choose seats</a></p>'
    '<img src="https://news.glasswort.example/stage.png" alt="The stage" width="600" height="300">'
    f"<p>{FOOTER}</p></body></html>"
)
TEXT = f"{WORDS}\n\nChoose seats: {LINK}\n\n{FOOTER}\n"


def message(
    header: dict[str, str | None] | None = None, *, text: str | None = TEXT, html: str | None = HTML,
    more: str = "", parts: tuple[bytes, ...] = (),
) -> bytes:  # fmt: skip
    """A message as bytes. `header` replaces fields, or removes them with None; `more` is put in front of them."""
    fields = {name: value for name, value in {**HEADER, **(header or {})}.items() if value is not None}
    bodies = [_part(kind, body) for kind, body in (("plain", text), ("html", html)) if body is not None]
    lines = more + "".join(f"{name}: {value}\n" for name, value in fields.items())
    mixed = "mixed" if parts else "alternative"
    head = f'{lines}Content-Type: multipart/{mixed}; boundary="=b"\n\n'.encode("utf-8", "surrogateescape")
    body = b"".join(b"--=b\n" + part + b"\n" for part in (*bodies, *parts)) + b"--=b--\n"
    return (head + body).replace(b"\n", b"\r\n")


def _part(kind: str, body: str) -> bytes:
    encoded = base64.encodebytes(body.encode()).decode()
    return f"Content-Type: text/{kind}; charset=utf-8\nContent-Transfer-Encoding: base64\n\n{encoded}".encode()


def html(inside: str, text: str | None = TEXT) -> bytes:
    """The message with this at the end of its HTML."""
    return message(html=HTML.replace("</body>", f"{inside}</body>"), text=text)


def attached(name: str, kind: str = "application/octet-stream", content: bytes = b"x") -> bytes:
    """The message with a file."""
    part = (
        f'Content-Type: {kind}\nContent-Disposition: attachment; filename="{name}"\nContent-Transfer-Encoding: base64\n\n'
        + base64.b64encode(content).decode()
        + "\n"
    )
    return message(parts=(part.encode(),))


def _received(*times: str) -> str:
    return "".join(
        f"Received: from a{n}.example by b{n}.example; Mon, 30 Nov 2026 {time} +0000\n" for n, time in enumerate(times)
    )


# For each rule a message to which it applies. In each place of a pair, one thing differs from the good message.
APPLIES: dict[str, Callable[[], bytes]] = {
    "line-too-long": lambda: message({"X-Long": "x" * 999}),
    "header-stray-line": lambda: message(more="This is no field\n"),
    "header-8bit": lambda: message({"X-Note": "caf\u00e9"}),
    "header-repeated": lambda: message(more="Subject: another one\n"),
    "date-missing": lambda: message({"Date": None}),
    "date-invalid": lambda: message({"Date": "yesterday"}),
    "date-far": lambda: message({"Date": "Mon, 23 Nov 2026 09:00:00 +0000"}),
    "message-id-missing": lambda: message({"Message-ID": None}),
    "message-id-malformed": lambda: message({"Message-ID": "1.spring"}),
    "from-missing": lambda: message({"From": None}),
    "from-many": lambda: message(more="From: Other <other@news.glasswort.example>\n"),
    "from-no-address": lambda: message({"From": "Glasswort Theatre"}),
    "from-mixed-scripts": lambda: message({"From": "=?utf-8?q?Gl=D0=B0sswort?= <a@news.glasswort.example>"}),
    "from-name-is-address": lambda: message({"From": '"info@tidepost.example" <a@news.glasswort.example>'}),
    "reply-to-elsewhere": lambda: message({"Reply-To": "desk@driftline.example"}),
    "to-missing": lambda: message({"To": "undisclosed-recipients:;"}),
    "to-many": lambda: message({"To": ", ".join(f"p{n}@tidepost.example" for n in range(21))}),
    "unsubscribe-missing": lambda: message({"List-Unsubscribe": None, "List-Unsubscribe-Post": None}),
    "unsubscribe-no-uri": lambda: message({"List-Unsubscribe": "https://news.glasswort.example/u/1"}),
    "unsubscribe-plain-http": lambda: message({"List-Unsubscribe": "<http://a.example/1>, <https://a.example/1>"}),
    "unsubscribe-no-one-click": lambda: message({"List-Unsubscribe-Post": None}),
    "subject-missing": lambda: message({"Subject": ""}),
    "subject-shouts": lambda: message({"Subject": "SPRING TICKETS from FRIDAY"}),
    "subject-exclaims": lambda: message({"Subject": "Spring tickets!!"}),
    "subject-false-reply": lambda: message({"Subject": "Re: Spring tickets"}),
    "auto-submitted-missing": lambda: message({"From": "Theatre <no-reply@news.glasswort.example>"}),
    "received-slow": lambda: message(more=_received("09:10:00", "09:00:00")),
    "received-backwards": lambda: message(more=_received("09:00:00", "09:02:00")),
    "link-no-target": lambda: html('<a href="#">Top</a>'),
    "link-script": lambda: html('<a href="javascript:go()">Go</a>'),
    "link-data": lambda: html('<a href="data:text/html,hello">Go</a>'),
    "link-plain-http": lambda: html('<a href="http://news.glasswort.example/a">Go</a>'),
    "link-ip-address": lambda: html('<a href="https://192.0.2.1/a">Go</a>'),
    "link-mixed-scripts": lambda: html('<a href="https://gl\u0430sswort.example/a">Go</a>'),
    "link-user": lambda: html('<a href="https://news.glasswort.example@driftline.example/a">Go</a>'),
    "link-long": lambda: html(f'<a href="https://news.glasswort.example/?a={"x" * 2000}">Go</a>'),
    "link-shortened": lambda: html('<a href="https://sh.example/aB3x9">Go</a>'),
    "link-text-differs": lambda: html('<a href="https://driftline.example/c">glasswort.example</a>'),
    "link-carries-link": lambda: html('<a href="https://news.glasswort.example/?u=https%3A%2F%2Fx.example%2F">Go</a>'),
    "link-other-domain": lambda: html('<a href="https://driftline.example/c">Partner</a>'),
    "link-many-hosts": lambda: html("".join(f'<a href="https://h{n}.example/">h</a>' for n in range(9))),
    "too-many-parts": lambda: message(parts=tuple([b"Content-Type: text/x\n\nx"] * 250)),
    "message-large": lambda: message(parts=(b"Content-Type: image/png\n\n" + b"x" * 900 * 11_900 + b"\n",)),
    "mime-version-missing": lambda: message({"MIME-Version": None}),
    "html-clipped": lambda: html("<p>" + "Seats. " * 15_000 + "</p>"),
    "text-missing": lambda: message(text=None),
    "text-empty": lambda: message(text=" \n"),
    "nothing-to-read": lambda: message(text=None, html=None, parts=(b"Content-Type: image/png\n\nx",)),
    "part-no-boundary": lambda: b"From: a@d.example\r\nContent-Type: multipart/mixed\r\n\r\nHello\r\n",
    "part-8bit": lambda: message(parts=(b"Content-Type: text/x; charset=utf-8\n\ncaf\xc3\xa9",)),
    "charset-missing": lambda: message(
        parts=(b"Content-Type: text/x\nContent-Transfer-Encoding: 8bit\n\ncaf\xc3\xa9",)
    ),
    "attachment-runs": lambda: attached("tickets.exe"),
    "attachment-type-differs": lambda: attached("plan.pdf", content=b"PK\x03\x04x"),
    "language-differs": lambda: message(html=HTML.replace('lang="en"', 'lang="de"')),
    "attachment-macros": lambda: attached("seats.docm"),
    "attachment-archive": lambda: attached("seats.zip"),
    "attachment-page": lambda: attached("seats.html"),
    "attachment-two-endings": lambda: attached("seats.pdf.exe"),
    "attachment-name-turned": lambda: attached("=?utf-8?q?seats=E2=80=AEfdp.exe?="),
    "html-script": lambda: html("<script>go()</script>"),
    "html-handler": lambda: html('<p onclick="go()">Go on</p>'),
    "html-form": lambda: html('<form action="https://news.glasswort.example/f"><input name="a"></form>'),
    "html-embedded": lambda: html('<iframe src="https://news.glasswort.example/f"></iframe>'),
    "html-refresh": lambda: html('<meta http-equiv="refresh" content="0;url=https://news.glasswort.example/">'),
    "html-style-sheet-link": lambda: html('<link rel="stylesheet" href="https://news.glasswort.example/a.css">'),
    "html-base": lambda: html('<base href="https://news.glasswort.example/">'),
    "text-hidden": lambda: html('<div style="font-size:0">cheap tickets for everybody, every day</div>'),
    "text-same-colour": lambda: html('<p style="color:#fff">cheap tickets for everybody, every day</p>'),
    "text-invisible-characters": lambda: html("<p>free tic\u200bkets</p>"),
    "text-turned": lambda: html("<p>see \u202etxt.exe\u202c</p>"),
    "text-mixed-scripts": lambda: html("<p>free tick\u0435ts</p>"),
    "template-variable": lambda: html("<p>For {{first_name}} only</p>"),
    "template-empty-name": lambda: html("<p>Dear null,</p>"),
    "weak-words": lambda: html("<p>Act now and choose.</p>"),
    "images-without-text": lambda: message(html='<html lang="en"><img src="https://news.glasswort.example/a.png" alt=""></html>'),
    "image-alt-missing": lambda: html('<img src="https://news.glasswort.example/b.png" width="300">'),
    "image-width-missing": lambda: html('<img src="https://news.glasswort.example/b.png" alt="A seat">'),
    "html-lang-missing": lambda: message(html=HTML.replace(' lang="en"', "")),
    "table-role-missing": lambda: html("<table><tr><td>Seats</td></tr></table>"),
    "font-small": lambda: html('<p style="font-size:8px">Terms apply here</p>'),
    "contrast-low": lambda: html('<p style="color:#bbbbbb">Terms apply here</p>'),
    "reason-missing": lambda: message(html=HTML.replace("You receive this because you signed up. ", "")),
    "postal-address-missing": lambda: message(html=HTML.replace(", 4 Harbour Street, Skerry", "")),
    "text-differs": lambda: message(text=f"Something else entirely stands here, see {LINK}"),
    "numbers-differ": lambda: message(text=TEXT + "From 12.50\n"),
    "links-differ": lambda: message(text=TEXT.replace(LINK, "https://news.glasswort.example/autumn")),
    "links-only-in-html": lambda: message(text=TEXT.replace(LINK, "at the box office")),
}  # fmt: skip
