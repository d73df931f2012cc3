"""The demo's DNS: a zone file for every name in the scenario, with the mistakes that its story needs."""

import base64
from pathlib import Path

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from rust_gauge.demo.scenario import LONG_TAIL, NULL_MX_DOMAIN, PROVIDERS

_HEAD = """$ORIGIN {name}.
$TTL 300
@ IN SOA ns1.skerry.example. hostmaster.skerry.example. 2026112300 3600 600 1209600 300
@ IN NS ns1.skerry.example.
"""
_OFFICE_MX = "@ IN MX 10 mx1.skerry.example.\n"
_OFFICE_SPF = "ip4:192.0.2.40/29"


def write_zones(directory: Path) -> None:
    """Write all zone files into a directory, which is made. Keys are made anew each time."""
    staging = directory.with_name(directory.name + ".new")
    staging.mkdir(parents=True, exist_ok=True)
    for name, body in _zones().items():
        (staging / f"{name}.zone").write_text(_HEAD.format(name=name) + body, "utf-8")
    staging.rename(directory)


def _key(bits: int = 2048) -> str:
    key = rsa.generate_private_key(public_exponent=65537, key_size=bits).public_key()
    return base64.b64encode(key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)).decode()


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
        "skerry.example": "ns1 IN A 192.0.2.1\nmx1 IN A 192.0.2.43\n" + _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} -all") + _txt("_spf", f"v=spf1 {_OFFICE_SPF} -all")
        + _txt("_dmarc", "v=DMARC1; p=reject; rua=mailto:dmarc@skerry.example"),
        # Driftline's own record goes through two more, Cobble's through one.
        "driftline.example": _txt("spf", "v=spf1 include:spf-a.driftline.example include:spf-b.driftline.example ~all")
        + _txt("spf-a", "v=spf1 ip4:198.51.100.16/28 ~all") + _txt("spf-b", "v=spf1 ip4:198.51.100.128/28 ~all"),
        "cobble.example": _txt("spf", "v=spf1 ip4:203.0.113.16/28 include:spf2.cobble.example ~all")
        + _txt("spf2", "v=spf1 ip4:203.0.113.64/28 ~all"),
        # Everything as it should be.
        "marramferries.example": _OFFICE_MX
        + _txt("@", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("m1")
        + _txt("_dmarc", "v=DMARC1; p=reject; rua=mailto:dmarc@marramferries.example")
        + "mail IN MX 10 mx1.skerry.example.\n"
        + _txt("mail", "v=spf1 include:spf.driftline.example -all")
        + _dkim("d1", "mail")
        + "alerts IN MX 10 mx1.skerry.example.\n"
        + _txt("alerts", f"v=spf1 {_OFFICE_SPF} -all")
        + _dkim("a1", "alerts"),
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
        + "www IN A 192.0.2.80\n"
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
        + _txt("d2._domainkey.news", _with_quotes(f"v=DKIM1; k=rsa; p={_key()}")),
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
    }  # fmt: skip
    for provider in PROVIDERS:
        zones[provider.name] = "mx1 IN A 203.0.113.101\nmx2 IN A 203.0.113.102\n"
        for domain in provider.domains:
            mx = f"@ IN MX 10 mx1.{provider.name}.\n@ IN MX 20 mx2.{provider.name}.\n"
            zones[domain] = zones.get(domain, "") + mx
    for number, domain in enumerate(LONG_TAIL):
        zones[domain] = "@ IN A 203.0.113.120\n" + ("@ IN MX 10 mail\nmail IN A 203.0.113.121\n" if number % 6 else "")
    return zones


def _with_quotes(value: str) -> str:
    """What a control panel makes of a key that was copied together with its quotes."""
    return value[:42] + '\\"' + value[42:]


SELECTORS = {
    "marramferries.example": ["m1"],
    "mail.marramferries.example": ["d1"],
    "alerts.marramferries.example": ["a1"],
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
