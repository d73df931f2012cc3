"""The demo's test messages: drafts of the five tenants, good and bad, and one newsletter that took four paths."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime

_STYLE = "font-family: Georgia, serif; font-size: 16px; color: #22262A; background: #FFFFFF; margin: 0"


@dataclass(frozen=True, slots=True)
class Path:
    """How a message came to the bench: the host that brought it, its envelope sender, and the key that signed it."""

    ip: str
    helo: str
    mail_from: str
    signed: tuple[str, str] | None  # (selector, domain)


@dataclass(frozen=True, slots=True)
class Draft:
    """A test message, how it came, and when."""

    raw: bytes
    path: Path
    at: datetime


def _office(domain: str, selector: str, host: int = 1) -> Path:
    return Path(f"192.0.2.4{host}", f"mta{host}.skerry.example", f"bounce@{domain}", (selector, domain))


def _page(title: str, body: str, *, lang: str = "en", footer: str = "") -> str:
    return (
        f'<!doctype html>\n<html lang="{lang}">\n<head><meta charset="utf-8"><title>{title}</title></head>\n'
        f'<body style="{_STYLE}">\n<div style="max-width: 600px; padding: 24px">\n{body}\n{footer}</div>\n'
        "</body>\n</html>\n"
    )


_ADDRESS = {
    "marram": "Marram Ferries, 3 Pier Road, Skerry Harbour",
    "thornfield": "Thornfield Seed Library, Walled Garden, Thornfield",
    "glasswort": "Glasswort Theatre, 12 Quay Street, Glasswort",
    "copperline": "Copperline Tram Museum, The Depot, Copperline",
    "halyard": "Halyard Clinic, 1 Chandlers Row, Halyard",
}


def _footer(tenant: str, leave: str) -> tuple[str, str]:
    why = f"You receive this because you are on the list of {_ADDRESS[tenant].partition(',')[0]}."
    text = f"\n-- \n{_ADDRESS[tenant]}\n{why}\nUnsubscribe: {leave}\n"
    html = f'<p style="font-size: 14px">{_ADDRESS[tenant]}<br>{why} <a href="{leave}">Unsubscribe</a></p>\n'
    return text, html


def _where(tenant: str) -> str:
    return f"<p style='font-size: 14px'>{_ADDRESS[tenant]}</p>\n"


def _message(
    sender: str, subject: str, text: str | None, html: str | None, at: datetime, *, to: str = "kim@tidepost.example",
    leave: str = "", more: Mapping[str, str] | None = None,
) -> EmailMessage:  # fmt: skip
    made = EmailMessage()
    domain = sender.rpartition("@")[2].rstrip(">")
    made["From"], made["To"], made["Subject"] = sender, to, subject
    made["Date"] = format_datetime(at)
    made["Message-ID"] = f"<{at:%Y%m%d%H%M%S}.{abs(hash_of(subject)):08x}@{domain}>"
    if leave:
        made["List-Unsubscribe"] = f"<{leave}>"
        made["List-Unsubscribe-Post"] = "List-Unsubscribe=One-Click"
    for name, value in (more or {}).items():
        made[name] = value
    if text is not None:
        made.set_content(text)
        if html is not None:
            made.add_alternative(html, subtype="html")
    elif html is not None:
        made.set_content(html, subtype="html")
    return made


def hash_of(text: str) -> int:
    """Return a number for a text that is the same in every process."""
    value = 0
    for letter in text:
        value = (value * 31 + ord(letter)) % 2**32
    return value


def _raw(message: EmailMessage) -> bytes:
    return message.as_bytes().replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")


_REMINDERS = "Halyard Clinic <reminders@reminders.halyardclinic.example>"
_LEAVE = "https://news.glasswort.example/leave/kim"
_NEWS = "Glasswort Theatre <news@news.glasswort.example>"


def _driftline(host: int = 1, selector: str = "d1") -> Path:
    domain = "news.glasswort.example"
    return Path(f"198.51.100.2{host}", f"out{host}.driftline.example", f"bounce@{domain}", (selector, domain))


def _cobble() -> Path:
    signed = ("d1", "news.glasswort.example")
    return Path("203.0.113.17", "relay1.cobble.example", "b-12@bounce.cobble.example", signed)


# The office's bench: a dozen drafts of the five tenants


def office_drafts(now: datetime) -> list[Draft]:
    """Return the drafts that lie on the office's bench, oldest first."""
    makers = (
        _receipt, _timetable, _spring_catalogue, _seed_order, _season_news, _last_tickets, _ticket_pdf, _members_letter,
        _shortened, _reminder, _mismatch, _results,
    )  # fmt: skip
    return [make(now - timedelta(hours=30 - 2 * number)) for number, make in enumerate(makers)]


def _draft(message: EmailMessage, path: Path, at: datetime) -> Draft:
    return Draft(_raw(message), path, at)


def _receipt(at: datetime) -> Draft:
    text = (
        "Dear Kim,\n\nthank you for your booking.\n\n"
        "Skerry to Marram, Friday 4 December, 08:15\nTwo adults, one car: 64.00\n"
    )
    html = _page("Your booking", "<h1 style='font-size: 22px'>Thank you for your booking, Kim</h1>\n"
                 "<p>Skerry to Marram, Friday 4 December, 08:15<br>Two adults, one car: 64.00</p>\n"
                 '<p><a href="https://marramferries.example/b/48213">Change your booking</a></p>',
                 footer=_where("marram"))  # fmt: skip
    text += f"\nChange your booking: https://marramferries.example/b/48213\n\n{_ADDRESS['marram']}\n"
    message = _message("Marram Ferries <bookings@marramferries.example>", "Your booking 48213", text, html, at)
    return _draft(message, _office("marramferries.example", "m1"), at)


def _timetable(at: datetime) -> Draft:
    text = ("The 17:40 from Marram is cancelled today because of the swell. The 18:30 runs.\n\n"
            f"{_ADDRESS['marram']}\nYou asked for alerts for the Marram route.\n"
            "Stop alerts: https://alerts.marramferries.example/stop/kim\n")  # fmt: skip
    message = _message(
        "Marram Ferries <alerts@alerts.marramferries.example>", "17:40 from Marram cancelled", text, None, at,
        leave="https://alerts.marramferries.example/stop/kim",
    )  # fmt: skip
    return _draft(message, _office("alerts.marramferries.example", "a1", 2), at)


def _spring_catalogue(at: datetime) -> Draft:
    html = (
        "<html><body bgcolor='#ffffff'><table width=700><tr><td>"
        "<img src='http://img.cobble.example/c/spring-1.jpg' width=700 height=900></td></tr>"
        "<tr><td><img src='http://img.cobble.example/c/spring-2.jpg' width=700 height=1100></td></tr></table>"
        "<a href='http://go.cobble.example/x/77'>Order now</a></body></html>"
    )
    message = _message(
        "Thornfield Seed Library <catalogue@catalogue.thornfieldseeds.example>", "The spring catalogue is here", None,
        html, at,
    )  # fmt: skip
    path = Path(
        "203.0.113.17",
        "relay1.cobble.example",
        "b-77@bounce.cobble.example",
        ("c1", "catalogue.thornfieldseeds.example"),
    )
    return _draft(message, path, at)


def _seed_order(at: datetime) -> Draft:
    text = "Your seeds are on their way:\n\n2 x Broad bean, Harbour White\n1 x Kale, Grey Tide\n"
    html = _page("Your order", "<h1 style='font-size: 22px'>Your seeds are on their way</h1>\n"
                 "<ul><li>2 × Broad bean, Harbour White</li><li>1 × Kale, Grey Tide</li></ul>",
                 footer=_where("thornfield"))  # fmt: skip
    text += f"\n{_ADDRESS['thornfield']}\n"
    message = _message("Thornfield Seed Library <orders@thornfieldseeds.example>", "Order 1107 shipped", text, html, at)
    return _draft(message, _office("thornfieldseeds.example", "t1", 2), at)


def _season_news(at: datetime) -> Draft:
    leave = "https://news.glasswort.example/leave/kim"
    below_text, below = _footer("glasswort", leave)
    text = f"Dear {{{{first_name}}}},\n\nthe new season opens on 5 December with The Lighthouse Sisters.\n{below_text}"
    pictures = "".join(f'<img src="https://news.glasswort.example/i/{n}.jpg" width="280" height="180">' for n in (1, 2))
    html = _page("The new season", "<h1 style='font-size: 22px'>Dear {{first_name}}</h1>\n"
                 "<p>The new season opens on 5 December with The Lighthouse Sisters.</p>\n"
                 f'<div style="display: flex; gap: 12px">{pictures}</div>\n', footer=below)  # fmt: skip
    message = _message(_NEWS, "Season opening, {{first_name}}", text, html, at, leave=leave)
    return _draft(message, _driftline(), at)


def _last_tickets(at: datetime) -> Draft:
    html = (
        "<html><body><p style='font-size: 9px; color: #dddddd'>Act now, limited time offer, 100% free</p>"
        "<h1>LAST CHANCE</h1><p>Click here: <a href='http://198.51.100.99/t'>https://tickets.glasswort.example</a></p>"
        "<form action='http://198.51.100.99/f'><input name='card'><button>Book</button></form></body></html>"
    )
    message = _message(
        "Glasswort Theatre <offers@tickets.glasswort.example>", "LAST CHANCE!!! FREE TICKETS", None, html, at
    )
    return _draft(message, _office("tickets.glasswort.example", "g1"), at)


def _ticket_pdf(at: datetime) -> Draft:
    text = f"Your ticket for The Lighthouse Sisters is attached.\n\n{_ADDRESS['glasswort']}\n"
    message = _message("Glasswort Theatre <tickets@tickets.glasswort.example>", "Your ticket", text, None, at)
    message.add_attachment(b"%PDF-1.7\n%...", maintype="application", subtype="pdf", filename="ticket.pdf")
    return _draft(message, _office("tickets.glasswort.example", "g1"), at)


def _members_letter(at: datetime) -> Draft:
    leave = "mailto:members@members.copperline.example?subject=leave"
    below_text, below = _footer("copperline", leave)
    text = f"Dear member,\n\ncar 7 runs again from 6 December, every half hour.\n{below_text}"
    html = _page(
        "Members' letter",
        "<p>Dear member,</p>\n<p>car 7 runs again from 6 December, every half hour.</p>",
        footer=below,
    )
    message = _message(
        "Copperline Tram Museum <members@members.copperline.example>", "Car 7 runs again", text, html, at
    )
    path = Path("192.0.2.41", "mta1.skerry.example", "members@members.copperline.example", None)
    return _draft(message, path, at)


def _shortened(at: datetime) -> Draft:
    text = f"Open day on 12 December. Programme: http://tiny.example/a7\n\n{_ADDRESS['copperline']}\n"
    news = "<p>Open day on 12 December.</p>\n<p><a href='http://tiny.example/a7'>The programme</a></p>"
    html = _page("Open day", news, footer=_where("copperline"))
    message = _message("Copperline Tram Museum <office@copperline.example>", "Open day", text, html, at)
    return _draft(message, _office("copperline.example", "c1"), at)


def _reminder(at: datetime) -> Draft:
    text = ("Your appointment: Tuesday 8 December, 10:40, Dr Bell.\n\nChange it: https://halyardclinic.example/a/551\n\n"
            f"{_ADDRESS['halyard']}\n")  # fmt: skip
    html = _page("Your appointment", "<p>Your appointment: Tuesday 8 December, 10:40, Dr Bell.</p>\n"
                 '<p><a href="https://halyardclinic.example/a/551">Change it</a></p>',
                 footer=_where("halyard"))  # fmt: skip
    message = _message(
        "Halyard Clinic <reminders@reminders.halyardclinic.example>", "Your appointment on 8 December", text, html, at
    )
    return _draft(message, _office("reminders.halyardclinic.example", "r1", 2), at)


def _mismatch(at: datetime) -> Draft:
    text = f"Your appointment: Tuesday 8 December, 10:40.\nCall 0555 0107 to change it.\n\n{_ADDRESS['halyard']}\n"
    html = _page("Your appointment", "<p>Your appointment: Wednesday 9 December, 11:20.</p>\n"
                 "<p>Call 0555 0108 to change it.</p>", footer=_where("halyard"))  # fmt: skip
    message = _message(_REMINDERS, "Your appointment", text, html, at)
    return _draft(message, _office("reminders.halyardclinic.example", "r1", 2), at)


def _results(at: datetime) -> Draft:
    text = f"Your results are ready. Your code for the portal is 604 118.\n\n{_ADDRESS['halyard']}\n"
    pale = "<p style='color: #c9c9c9'>Your code for the portal is 604 118.</p>"
    html = _page("Results", f"<p>Your results are ready.</p>\n{pale}", footer=_where("halyard"))
    message = _message("Halyard Clinic <portal@halyardclinic.example>", "Your results are ready", text, html, at)
    path = Path("198.51.100.22", "out2.driftline.example", "portal@halyardclinic.example", None)
    return _draft(message, path, at)


# One message by four paths, and with two changes at once


def four_paths(now: datetime) -> list[Draft]:
    """Return one newsletter as it came by the office's own MTA and by three relays: the last one's key is broken."""
    paths = (_driftline(), _office("news.glasswort.example", "d1"), _cobble(), _driftline(2, "d2"))
    return [
        _draft(_newsletter(now - timedelta(hours=8)), path, now - timedelta(hours=8) + timedelta(minutes=3 * number))
        for number, path in enumerate(paths)
    ]


def two_changes(now: datetime) -> list[Draft]:
    """Return the newsletter with tracked links, and then without tracking and with a footer: two changes at once."""
    at, later = now - timedelta(hours=5), now - timedelta(hours=5) + timedelta(minutes=20)
    return [
        _draft(_newsletter(at, tracked=True, leave=_LEAVE), _driftline(), at),
        _draft(_newsletter(later, footer=True, leave=_LEAVE), _driftline(), later),
    ]


def repeats(now: datetime) -> list[Draft]:
    """Return one notice, sent on six days by turns over two relays: one of them is on a blocklist."""
    paths, out = (_driftline(), _cobble()), []
    for number in range(8):
        at = now - timedelta(days=12 - 1.5 * number)
        out.append(
            _draft(_newsletter(at, subject=f"This week at Glasswort, issue {40 + number}"), paths[number % 2], at)
        )
    return out


def _newsletter(
    at: datetime,
    *,
    tracked: bool = False,
    footer: bool = False,
    subject: str = "This week at Glasswort",
    leave: str = "",
) -> EmailMessage:
    link = "http://track.driftline.example/c/9f3a" if tracked else "https://news.glasswort.example/week"
    below_text, below = _footer("glasswort", _LEAVE) if footer else ("", "")
    text = f"This week: The Lighthouse Sisters, Thursday to Saturday at 19:30.\n\nSeats: {link}\n{below_text}"
    html = _page("This week", "<h1 style='font-size: 22px'>This week</h1>\n"
                 "<p>The Lighthouse Sisters, Thursday to Saturday at 19:30.</p>\n"
                 f'<p>Seats: <a href="{link}">Choose your seats</a></p>', footer=below)  # fmt: skip
    return _message(_NEWS, subject, text, html, at, leave=leave)


# What the booking application of Marram Ferries sends in staging


def application_mail(now: datetime) -> list[EmailMessage]:
    """Return what tests of an application sent: a code, a confirmation, a reset."""
    sender = "Marram Ferries <no-reply@marramferries.example>"
    code = _message(sender, "Your sign-in code", "Your sign-in code is 482 913.\nIt is valid for 15 minutes.\n", None,
                    now - timedelta(minutes=50), to="test.user@kestrelbox.example")  # fmt: skip
    confirmed = _message(
        sender, "Booking 51077 confirmed", "Skerry to Marram, 6 December, 10:20.\n",
        _page("Confirmed", "<p>Skerry to Marram, 6 December, 10:20.</p>"), now - timedelta(minutes=40),
        to="test.user@kestrelbox.example", more={"X-Template": "booking-confirmed"},
    )  # fmt: skip
    reset = _message(
        sender, "Reset your password", "Reset it: https://staging.marramferries.example/reset?t=9a1c\n", None,
        now - timedelta(minutes=30), to="full@orchardmail.example", more={"X-Template": "password-reset"},
    )  # fmt: skip
    return [code, confirmed, reset]
