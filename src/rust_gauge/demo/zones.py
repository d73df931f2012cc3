"""The demo's DNS: a zone file for every name in the scenario, with the mistakes that its story needs."""

import base64
import hashlib
import shutil
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from rust_gauge.demo.scenario import FLOWS, LONG_TAIL, NULL_MX_DOMAIN, PROVIDERS, RELAYS

_HEAD = """$ORIGIN {name}.
$TTL 300
@ IN SOA ns1.skerry.example. hostmaster.skerry.example. 2026112300 3600 600 1209600 300
@ IN NS ns1.skerry.example.
@ IN NS ns2.skerry.example.
"""
VERSION = "8"  # of the zones: when it changes, those of an older demo are written again
NAME_SERVERS = ("192.0.2.1", "192.0.2.2")
PAGE_SERVER = "192.0.2.90"
SEED_SERVER = "203.0.113.105"  # the mailboxes of all providers, by IMAP
OUTLET_SERVER = "203.0.113.106"  # the relays, for mail that is handed in
RESOLVERS = (  # (name, seconds for which it goes on giving a zone as it was)
    ("Tidepost resolver", 0),
    ("Kestrelbox resolver", 25),
    ("Orchard resolver", 40),
    ("Fenlandnet resolver", 90),
    ("Northgate resolver", 150),
    ("Harbour public", 15),
    ("Island library", 240),
    ("Skerry office", 60),
)
MAIL_SERVER = "192.0.2.43"  # mx1.skerry.example
STS_POLICY = "version: STSv1\nmode: enforce\nmx: mx1.skerry.example\nmax_age: 2592000\n"
_HOSTS = {  # every sending host, in both directions
    "192.0.2.41": "mta1.skerry.example",
    "192.0.2.42": "mta2.skerry.example",
    "192.0.2.43": "mx1.skerry.example",
    "198.51.100.21": "out1.driftline.example",
    "198.51.100.22": "out2.driftline.example",
    "203.0.113.17": "relay1.cobble.example",
    "203.0.113.18": "relay2.cobble.example",
}
# A new subdomain, half published, with the slips that its set-up page names: a blank in front, the zone's name twice,
# an underscore missing, a last dot missing, a wrong priority; and one record not published at all.
_BOX_OFFICE = """boxoffice IN TXT " v=spf1 ip4:192.0.2.40/29 ~all"
boxoffice IN MX 20 mx1.skerry.example.
bounce.boxoffice IN MX 10 returns.driftline.example.
bounce.boxoffice IN TXT "v=spf1 include:spf.driftline.example -all"
df1._domainkey.boxoffice IN CNAME df1.boxoffice-glasswort-example.keys.driftline.example.
df2._domainkey.boxoffice.glasswort.example IN CNAME df2.boxoffice-glasswort-example.keys.driftline.example.
dmarc.boxoffice IN TXT "v=DMARC1; p=none; rua=mailto:boxoffice-dmarc@glasswort.example"
click.boxoffice IN CNAME track.driftline.example
"""
# Domains that the demo's tenants have verified, each by its record.
PROVEN = (
    "marramferries.example", "thornfieldseeds.example", "halyardclinic.example", "news.glasswort.example",
    "tickets.glasswort.example",
)  # fmt: skip
NEW_DOMAIN = "boxoffice.glasswort.example"
NEW_STREAM = {"name": "tickets", "relay": "driftline", "relays": ["office-2"]}
NEW_SETTINGS = {"stage": "watch", "reports_to": "boxoffice-dmarc@glasswort.example"}
_OFFICE_MX = "@ IN MX 10 mx1.skerry.example.\n"
_OFFICE_SPF = "ip4:192.0.2.40/29"


def write_zones(directory: Path) -> None:
    """Write all zone files into a directory, which is made. Keys are made again each time."""
    staging = directory.with_name(directory.name + ".new")
    staging.mkdir(parents=True, exist_ok=True)
    (staging / "version").write_text(VERSION)
    _made.clear()
    for name, body in _zones().items():
        (staging / f"{name}.zone").write_text(_HEAD.format(name=name) + body, "utf-8")
        _write_keys(staging / "keys", name, body)
    if directory.exists():
        shutil.rmtree(directory)
    staging.rename(directory)


def write_pages(directory: Path) -> None:
    """Write the pages that audits fetch over HTTPS."""
    policy = directory / "mta-sts.marramferries.example" / ".well-known" / "mta-sts.txt"
    policy.parent.mkdir(parents=True, exist_ok=True)
    policy.write_text(STS_POLICY, "utf-8")


def is_current(directory: Path) -> bool:
    """Return whether zones are there, of this version."""
    stamp = directory / "version"
    return stamp.exists() and stamp.read_text().strip() == VERSION


def proof_token(domain: str) -> str:
    """What the proof record of a demo domain holds: the same each time, as the demo's zones are written apart."""
    return f"rustgauge-proof={hashlib.sha256(domain.encode()).hexdigest()[:32]}"


_made: dict[str, rsa.RSAPrivateKey] = {}  # by their published form


def _key(bits: int = 2048) -> str:
    key = rsa.generate_private_key(public_exponent=65537, key_size=bits)
    public = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    text = base64.b64encode(public).decode()
    _made[text] = key
    return text


def _write_keys(directory: Path, zone: str, body: str) -> None:
    """Write the private keys of a zone, `<selector>.<domain>.pem`, with which the demo's test messages are signed."""
    directory.mkdir(exist_ok=True)
    for line in body.splitlines():
        owner, _, value = line.partition(" IN TXT ")
        selector, marker, rest = owner.partition("._domainkey")
        key = _made.get("".join(value.split('"')[1::2]).rpartition("p=")[2])
        if marker and key is not None:
            domain = f"{rest.strip('.')}.{zone}" if rest else zone
            pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
            (directory / f"{selector}.{domain}.pem").write_bytes(pem)


def _txt(owner: str, value: str) -> str:
    """A TXT record, split at 255 octets as one string can hold no more."""
    parts = [value[start : start + 255] for start in range(0, len(value), 255)]
    quoted = " ".join('"' + part.replace("\\", "\\\\").replace('"', '\\"') + '"' for part in parts)
    return f"{owner} IN TXT {quoted}\n"


def _dkim(selector: str, owner: str = "", *, bits: int = 2048, flags: str = "") -> str:
    host = f"{selector}._domainkey" + (f".{owner}" if owner else "")
    return _txt(host, f"v=DKIM1; k=rsa; {flags}p={_key(bits)}")


def _zones() -> dict[str, str]:
    zones = {
        "skerry.example": "ns1 IN A 192.0.2.1\nns2 IN A 192.0.2.2\n" + _hosts_of("skerry.example") + _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} -all") + _txt("_spf", f"v=spf1 {_OFFICE_SPF} -all")
        + _txt("_dmarc", "v=DMARC1; p=reject; rua=mailto:dmarc@skerry.example")
        # For trying the report by return mail from this machine.
        + _txt("desk", "v=spf1 ip4:127.0.0.1 ip6:::1 -all"),
        # Driftline's own record goes through two more, Cobble's through one.
        "driftline.example": _hosts_of("driftline.example") + f"smtp IN A {OUTLET_SERVER}\n"
        + _txt("spf", "v=spf1 include:spf-a.driftline.example include:spf-b.driftline.example ~all")
        + "".join(f"{host} IN A 198.51.100.2{n}\n" for n, host in enumerate(("returns", "track", "in1", "in2"), 5))
        + _txt("spf-a", "v=spf1 ip4:198.51.100.16/28 ~all") + _txt("spf-b", "v=spf1 ip4:198.51.100.128/28 ~all")
        + "".join(
            _txt(f"df{n}.boxoffice-glasswort-example.keys", f"v=DKIM1; k=rsa; p={_key(2048)}") for n in (1, 2, 3)
        ),
        "cobble.example": _hosts_of("cobble.example") + _OFFICE_MX + f"smtp IN A {OUTLET_SERVER}\n"
        + _txt("bounce", "v=spf1 include:spf.cobble.example -all") + "bounce IN MX 10 relay1\n"
        + _txt("spf", "v=spf1 ip4:203.0.113.16/28 include:spf2.cobble.example ~all")
        + _txt("spf2", "v=spf1 ip4:203.0.113.64/28 ~all"),
        # Everything as it should be.
        "marramferries.example": _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("m1")
        + f"mta-sts IN A {PAGE_SERVER}\n"
        + _txt("_mta-sts", "v=STSv1; id=20261101T090000")
        + _txt("_smtp._tls", "v=TLSRPTv1; rua=mailto:tls-reports@marramferries.example")
        + _txt("_dmarc", "v=DMARC1; p=reject; rua=mailto:dmarc@marramferries.example")
        + "mail IN MX 10 mx1.skerry.example.\n"
        + _txt("mail", "v=spf1 include:spf.driftline.example -all")
        + _dkim("d1", "mail")
        + "alerts IN MX 10 mx1.skerry.example.\n"
        + _txt("alerts", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("a1", "alerts")
        + "departures IN MX 10 mx1.skerry.example.\n"
        + _txt("departures", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("a1", "departures"),
        # A record with nearly too many look-ups, and a key that still says it is a test.
        "thornfieldseeds.example": _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} ~all")
        + _dkim("t1")
        + _txt("_dmarc", "v=DMARC1; p=quarantine; rua=mailto:dmarc@thornfieldseeds.example")
        + "catalogue IN MX 10 mx1.skerry.example.\n"
        + _txt(
            "catalogue",
            "v=spf1 include:spf.cobble.example include:spf.driftline.example include:_spf.skerry.example "
            "a:www.thornfieldseeds.example mx ~all",
        )
        + "www IN A 192.0.2.80\nold-web IN A 192.0.2.150\n"
        + _dkim("c1", "catalogue", flags="t=y; "),
        # A key that was pasted from a screen that quotes, and a policy that only watches.
        "glasswort.example": _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} ~all")
        + _dkim("g1")
        + _txt("_dmarc", "v=DMARC1; p=none; rua=mailto:dmarc@glasswort.example")
        + "tickets IN MX 10 mx1.skerry.example.\n"
        + _txt("tickets", f"v=spf1 {_OFFICE_SPF} ~all")
        + _dkim("g1", "tickets")
        + "news IN MX 10 mx1.skerry.example.\n"
        + _txt("news", "v=spf1 include:spf.driftline.example -all")
        + _dkim("d1", "news")
        + _txt("d2._domainkey.news", _with_quotes(f"v=DKIM1; k=rsa; p={_key()}"))
        + _BOX_OFFICE,
        # Two SPF records, a short key, no DMARC.
        "copperline.example": _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} ~all")
        + _txt("@", "v=spf1 include:spf.cobble.example ~all")
        + _dkim("c1", bits=1024)
        + "members IN MX 10 mx1.skerry.example.\n"
        + _txt("members", f"v=spf1 {_OFFICE_SPF} ?all")
        + _dkim("c1", "members"),
        "halyardclinic.example": _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("h1")
        + _txt("_dmarc", "v=DMARC1; p=quarantine; rua=mailto:dmarc@halyardclinic.example")
        + "reminders IN MX 10 mx1.skerry.example.\n"
        + _txt("reminders", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("r1", "reminders"),
        NULL_MX_DOMAIN: "@ IN MX 0 .\n",
        # A list that is sane, with the address that the story tells of, and one that lists everybody.
        "bl.harbourwatch.example": "2.0.0.127 IN A 127.0.0.2\n17.113.0.203 IN A 127.0.0.3\n"
        + _txt("17.113.0.203", "unsolicited mail was seen from here on three days"),
        "names.harbourwatch.example": "test IN A 127.0.1.2\n",
        "old-tide-list.example": "* IN A 127.0.0.2\n*.127 IN A 127.0.0.2\n",
        "islandalumni.example": _txt("@", "v=spf1 ip4:203.0.113.130 -all") + "out IN A 203.0.113.130\n",
        "seatplan.example": _txt("@", "v=spf1 ip4:203.0.113.140/31 -all") + "mta IN A 203.0.113.140\n",
        **_reverse(),
    }  # fmt: skip
    for provider in PROVIDERS:
        zones[provider.name] = f"mx1 IN A 203.0.113.101\nmx2 IN A 203.0.113.102\nimap IN A {SEED_SERVER}\n"
        for domain in provider.domains:
            mx = f"@ IN MX 10 mx1.{provider.name}.\n@ IN MX 20 mx2.{provider.name}.\n"
            zones[domain] = zones.get(domain, "") + mx
    for name in PROVEN:
        zone = name if name in zones else name.partition(".")[2]
        zones[zone] += _txt("_rustgauge" if zone == name else f"_rustgauge.{name.partition('.')[0]}", proof_token(name))
    for number, domain in enumerate(LONG_TAIL):
        zones[domain] = "@ IN A 203.0.113.120\n" + ("@ IN MX 10 mail\nmail IN A 203.0.113.121\n" if number % 6 else "")
    return zones


def _hosts_of(zone: str) -> str:
    """The sending hosts of a zone, each with a record for its HELO name."""
    return "".join(
        f"{name.removesuffix('.' + zone)} IN A {ip}\n" + _txt(name.removesuffix("." + zone), "v=spf1 a -all")
        for ip, name in _HOSTS.items()
        if name.endswith("." + zone)
    )


# Hosts that reports name and that are no relays: a forwarder, a service that somebody signed up for, an old web server.
_STRANGERS = {
    "203.0.113.130": "out.islandalumni.example", "203.0.113.140": "mta.seatplan.example",
    "192.0.2.150": "old-web.thornfieldseeds.example",
}  # fmt: skip


def _reverse() -> dict[str, str]:
    zones: dict[str, str] = {}
    for ip, name in {**_HOSTS, **_STRANGERS}.items():
        a, b, c, d = ip.split(".")
        zone = f"{c}.{b}.{a}.in-addr.arpa"
        zones[zone] = zones.get(zone, "") + f"{d} IN PTR {name}.\n"
    return zones


def _with_quotes(value: str) -> str:
    """What a control panel makes of a key that was copied together with its quotes."""
    return value[:42] + '\\"' + value[42:]


SELECTORS = {
    "marramferries.example": ["m1"],
    "mail.marramferries.example": ["d1"],
    "alerts.marramferries.example": ["a1"],
    "departures.marramferries.example": ["a1"],
    "thornfieldseeds.example": ["t1"],
    "catalogue.thornfieldseeds.example": ["c1"],
    "glasswort.example": ["g1"],
    "tickets.glasswort.example": ["g1"],
    "news.glasswort.example": ["d1", "d2"],
    "copperline.example": ["c1"],
    "members.copperline.example": ["c1"],
    "halyardclinic.example": ["h1"],
    "reminders.halyardclinic.example": ["r1"],
}

_FROM_RELAY = {  # relay: (HELO name, addresses)
    relay.name: (_HOSTS[relay.addresses[0]], list(relay.addresses)) for relay in RELAYS
}


def streams_of(domain: str) -> list[dict[str, object]]:
    """How each kind of mail of a domain is sent, as its settings say it."""
    out: list[dict[str, object]] = []
    for flow in FLOWS:
        if flow.domain == domain:
            helo, addresses = _FROM_RELAY[flow.relay]
            out.append(
                {
                    "name": flow.stream,
                    "envelope": domain,
                    "dkim_domain": domain,
                    "selector": SELECTORS[domain][0],
                    "relay": flow.relay,
                    "helo": helo,
                    "ips": addresses,
                }
            )
    return out


RELAY_DESCRIPTIONS: dict[str, dict[str, object]] = {
    name: {
        "own": True,
        "hosts": [{"ip": ip, "helo": _HOSTS[ip]}],
        "networks": ["192.0.2.40/29"],
        "inbound": [{"priority": 10, "host": "mx1.skerry.example"}],
    }
    for name, ip in (("office-1", "192.0.2.41"), ("office-2", "192.0.2.42"))
} | {
    "driftline": {
        "include": "spf.driftline.example",
        "hosts": [{"ip": ip, "helo": _HOSTS[ip]} for ip in ("198.51.100.21", "198.51.100.22")],
        "dkim": [{"selector": f"df{n}", "value": f"df{n}.{{dashed}}.keys.driftline.example"} for n in (1, 2, 3)],
        "return_path": {"label": "bounce", "type": "MX", "value": "returns.driftline.example"},
        "tracking": {"label": "click", "value": "track.driftline.example"},
        "limits": [
            {"region": "north", "per_hour": 2000, "per_day": 20_000},
            {"region": "south", "per_hour": 100, "per_day": 200, "restricted": True},
        ],
        "lines": {"bounce_watch": 0.05, "bounce_stop": 0.1, "complaint_watch": 0.001, "complaint_stop": 0.005},
    },
    "cobble": {
        "include": "spf.cobble.example",
        "hosts": [{"ip": ip, "helo": _HOSTS[ip]} for ip in ("203.0.113.17", "203.0.113.18")],
        "dkim": [{"selector": "cb1", "type": "TXT"}],
        "limits": [{"per_day": 5000}],
    },
}

LISTS = [
    {
        "zone": "bl.harbourwatch.example",
        "kind": "ip",
        "label": "Harbour Watch, addresses",
        "codes": {"127.0.0.2": "test entry", "127.0.0.3": "sends unsolicited mail"},
    },
    {"zone": "names.harbourwatch.example", "kind": "domain", "label": "Harbour Watch, names"},
]
USELESS_LIST = {"zone": "old-tide-list.example", "kind": "ip", "label": "Old Tide List"}
