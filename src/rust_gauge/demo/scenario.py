"""Who sends what to whom in the demo, and the story: a table of incidents with their days.

All names end in .example and all addresses are from the documentation ranges. Days are counted back from the day of
the first start, which is day 0.
"""

from dataclasses import dataclass, field

HISTORY_DAYS = 180  # six months, so that every chart and comparison has a past
EVENT_DAYS = 35  # for this long back every message is an event; before that there are counters


@dataclass(frozen=True, slots=True)
class Tenant:
    slug: str
    name: str


@dataclass(frozen=True, slots=True)
class Provider:
    """A mailbox provider: what its MX's registered domain is, the recipient domains it runs, and how it behaves."""

    name: str
    label: str
    domains: tuple[str, ...]
    share: float  # of a typical list
    reports: bool  # sends complaint reports
    full: float = 0.004  # full mailboxes, of all mail
    delay: float = 0.01


@dataclass(frozen=True, slots=True)
class Relay:
    name: str
    addresses: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Flow:
    """A stream of one sending domain: messages a day by weekday (Monday first), and its usual rates."""

    tenant: str
    domain: str
    stream: str
    relay: str
    week: tuple[int, int, int, int, int, int, int]
    hours: tuple[int, int]  # sends between these
    unknown: float  # bad addresses, of all mail
    complaint: float
    opened: float = 0.3
    unsubscribed: float = 0.0
    first_day: int = HISTORY_DAYS  # days back on which it began
    counted: bool = False  # so much mail that there are counters of it only, of the recent days too


@dataclass(frozen=True, slots=True)
class Incident:
    """A change of rates from `start` to `end` days back (both included) where every given name matches."""

    start: int
    end: int
    title: str
    domains: tuple[str, ...] = ()
    relay: str = ""
    provider: str = ""
    hours: tuple[int, int] = (0, 24)
    add: dict[str, float] = field(default_factory=dict)  # rate name to what is added
    grows: bool = False  # from nothing at the start to the whole at the end
    fades: bool = False  # the other way round


TENANTS = (
    Tenant("marram", "Marram Ferries"),
    Tenant("thornfield", "Thornfield Seed Library"),
    Tenant("glasswort", "Glasswort Theatre"),
    Tenant("copperline", "Copperline Tram Museum"),
    Tenant("halyard", "Halyard Clinic"),
)

PROVIDERS = (
    Provider("tidepost.example", "Tidepost", ("tidepost.example", "tidemail.example"), 0.34, True),
    Provider("kestrelbox.example", "Kestrelbox", ("kestrelbox.example", "kbox.example"), 0.22, True),
    Provider("orchardmail.example", "Orchard Mail", ("orchardmail.example",), 0.16, False),
    Provider("fenlandnet.example", "Fenlandnet", ("fenlandnet.example", "fen-dsl.example"), 0.10, True, 0.008),
    Provider(
        "northgate.example",
        "Northgate Business Mail",
        ("peatworks.example", "lockkeepers.example", "tarn-survey.example", "mossback.example"),
        0.08,
        False,
        0.002,
    ),
)
LONG_TAIL = tuple(
    f"{name}.example"
    for name in (
        "alderbrook", "bracken-post", "cairnmail", "dunlin", "eelpout", "fieldfare", "gorsebank", "heronry",
        "inglenook-mail", "jackdaw", "kelpline", "lapwing", "marshlight", "nettlebed", "osiers", "pintail",
        "quillwort", "ragstone", "saltpan", "teasel", "undercliff", "vetchling", "wrackline", "yarrowmail",
    )
)  # fmt: skip
TAIL_SHARE = 0.10  # of mail goes to mailbox providers too small to name
GONE_DOMAIN = "lost-at-sea.example"  # does not exist
NULL_MX_DOMAIN = "no-letters.example"

RELAYS = (
    Relay("office-1", ("192.0.2.41",)),
    Relay("office-2", ("192.0.2.42",)),
    Relay("driftline", ("198.51.100.21", "198.51.100.22")),
    Relay("cobble", ("203.0.113.17", "203.0.113.18")),
)


def _daily(n: int) -> tuple[int, int, int, int, int, int, int]:
    return (n, n, n, n, n, n, n)


FLOWS = (
    Flow("marram", "marramferries.example", "receipts", "office-1", (600, 560, 580, 640, 900, 1100, 980), (5, 22),
         0.003, 0.00008, 0.55),
    Flow("marram", "mail.marramferries.example", "newsletter", "driftline", (0, 0, 2600, 0, 0, 0, 0), (9, 12),
         0.005, 0.0003, 0.24, 0.001),
    Flow("marram", "mail.marramferries.example", "offers", "driftline", (300, 320, 280, 300, 520, 0, 0), (8, 16),
         0.004, 0.0003, 0.22, 0.001),
    Flow("marram", "alerts.marramferries.example", "timetable", "office-2", (420, 400, 410, 430, 520, 380, 340),
         (4, 23), 0.002, 0.00005, 0.6),
    Flow("thornfield", "thornfieldseeds.example", "orders", "office-1", _daily(140), (7, 20), 0.006, 0.0002, 0.5),
    Flow("thornfield", "catalogue.thornfieldseeds.example", "catalogue", "cobble", (900, 0, 0, 900, 0, 0, 0), (8, 15),
         0.013, 0.0004, 0.17, 0.003),
    Flow("glasswort", "glasswort.example", "bookings", "office-2", (120, 130, 150, 180, 260, 320, 160), (8, 23),
         0.004, 0.0001, 0.58),
    Flow("glasswort", "tickets.glasswort.example", "tickets", "office-2", (60, 60, 90, 110, 160, 220, 90), (9, 23),
         0.004, 0.0001, 0.7),
    Flow("glasswort", "news.glasswort.example", "newsletter", "driftline", (0, 1500, 0, 0, 1500, 0, 0), (10, 14),
         0.008, 0.0004, 0.19, 0.002),
    Flow("copperline", "copperline.example", "visitors", "cobble", (150, 160, 150, 170, 260, 300, 210), (8, 19),
         0.012, 0.0004, 0.28, 0.001),
    Flow("copperline", "members.copperline.example", "members", "office-1", (30, 20, 40, 25, 60, 10, 10), (9, 18),
         0.008, 0.0002, 0.4),
    Flow("halyard", "halyardclinic.example", "letters", "office-2", (90, 95, 92, 90, 80, 6, 4), (7, 18), 0.004,
             0.00005, 0.6),
    Flow("halyard", "reminders.halyardclinic.example", "reminders", "office-2", (160, 165, 150, 155, 140, 130,
             135), (6, 18),
         0.003, 0.0, 0.65, first_day=26),
    # Last, so that what is drawn for the others stays as it was.
    Flow("marram", "departures.marramferries.example", "departures", "office-2",
         (270_000, 268_000, 272_000, 281_000, 300_000, 315_000, 296_000), (0, 24), 0.0015, 0.00003, 0.45, counted=True),
)  # fmt: skip

# reminders.halyardclinic.example warms up: the share of its usual mail on each day since it began
WARM_UP = (0.08, 0.08, 0.12, 0.12, 0.16, 0.2, 0.2, 0.25, 0.3, 0.35, 0.4, 0.45, 0.5, 0.55, 0.6, 0.7, 0.8, 0.9)

INCIDENTS = (
    Incident(178, 128, "a bought list", ("news.glasswort.example",), add={"unknown": 0.09, "complaint": 0.006},
             fades=True),
    Incident(127, 90, "the bought list fades", ("news.glasswort.example",), add={"unknown": 0.02, "complaint": 0.001},
             fades=True),
    Incident(HISTORY_DAYS, -400, "the catalogue's list decays", ("catalogue.thornfieldseeds.example",),
             add={"unknown": 0.018}, grows=True),
    Incident(HISTORY_DAYS, -400, "fastest at Orchard Mail", ("catalogue.thornfieldseeds.example",),
             provider="orchardmail.example", add={"unknown": 0.022}, grows=True),
    Incident(44, 41, "an address of Cobble Relay is listed", relay="cobble", add={"blocklisted": 0.35}),
    Incident(17, 16, "key a1 is broken for two days", ("alerts.marramferries.example",), add={"authentication": 0.22}),
    Incident(20, -400, "two SPF records", ("copperline.example",), add={"authentication": 0.13}),
    Incident(11, -400, "6,200 addresses are added to the newsletter", ("news.glasswort.example",),
             provider="kestrelbox.example", add={"complaint": 0.011, "content": 0.015}),
    Incident(11, -400, "and some of them are dead", ("news.glasswort.example",), add={"unknown": 0.035,
             "complaint": 0.001}),
    Incident(12, -400, "Orchard Mail does not know the new subdomain yet", ("reminders.halyardclinic.example",),
             provider="orchardmail.example", add={"throttle": 0.22}),
    Incident(3, 3, "Fenlandnet has an outage", provider="fenlandnet.example", hours=(4, 12), add={"delay": 0.85}),
)  # fmt: skip

# Where things are in what Driftline sends: its words, a text that holds JSON, one message to many recipients.
DRIFTLINE_MAPPING: dict[str, object] = {
    "unwrap": [{"at": "$.parcels[*].letter", "form": "json"}],
    "rows": "$.parcels[*].letter",
    "each": "$.people[*]",
    "fields": {
        "kind": {
            "path": "$.state",
            "table": {"handed over": "delivered", "came back": "bounced", "waits": "delayed", "grumbled": "complained",
                      "looked at": None},
        },
        "time": {"path": "$.clock", "form": "seconds"},
        "domain": {"path": "$.house"},
        "stream": {"path": "$.purpose"},
        "message_id": {"path": "$.number"},
        "recipient": {"path": "@.box"},
        "diagnostic": {"path": "@.words"},
    },
}  # fmt: skip
